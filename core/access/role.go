package access

import "slices"

// Role is what a person may do, as a named set of permissions.
type Role string

// The roles, from most to least.
const (
	Owner      Role = "owner"
	Technician Role = "technician"
	Viewer     Role = "viewer"
)

// Permission is the right to one kind of deed. The contract names one for each operation.
type Permission string

// The permissions. Anyone and Self are not granted by roles: the first needs no sign-in, the
// second nothing more than one.
const (
	Anyone        Permission = "anyone"
	Self          Permission = "self"
	FleetRead     Permission = "fleet.read"
	FleetEnrol    Permission = "fleet.enrol"
	FleetManage   Permission = "fleet.manage"
	DeviceCommand Permission = "device.command"
	DeviceShell   Permission = "device.shell"
	PeopleManage  Permission = "people.manage"
	AuditRead     Permission = "audit.read"
	DeviceSweep   Permission = "device.sweep"
	GroupManage   Permission = "group.manage"
	AlertHandle   Permission = "alert.handle"
	PolicyManage  Permission = "policy.manage"
	NoticeManage  Permission = "notice.manage"
)

var granted = map[Role][]Permission{
	Viewer:     {FleetRead},
	Technician: {FleetRead, FleetEnrol, DeviceCommand, DeviceShell, DeviceSweep, GroupManage, AlertHandle, PolicyManage, AuditRead},
	Owner: {FleetRead, FleetEnrol, FleetManage, DeviceCommand, DeviceShell, DeviceSweep, GroupManage, AlertHandle, PolicyManage, NoticeManage,
		AuditRead, PeopleManage},
}

// Permissions lists what a role grants; nothing for an unknown role.
func (r Role) Permissions() []Permission { return slices.Clone(granted[r]) }

// May tells whether a signed-in person of this role may do what needs p. An unknown role or
// permission may nothing.
func (r Role) May(p Permission) bool {
	_, known := granted[r]
	return known && (p == Anyone || p == Self || slices.Contains(granted[r], p))
}

// Known tells whether p is one of the permissions above, so that a misspelt one in the contract
// is found at start.
func (p Permission) Known() bool { return p == Anyone || Owner.May(p) }
