package access

import (
	"slices"
	"strings"
)

// Role is the name of a set of permissions: one of those below, or one of an organisation's own.
type Role string

// The roles that are built in, from most to least.
const (
	Owner      Role = "owner"
	Technician Role = "technician"
	Helper     Role = "helper" // looks with every tool, and acts where little can be lost
	Viewer     Role = "viewer"
)

// Permission is the right to one kind of action. The contract names one for each operation.
type Permission string

// The permissions that belong to no tool. Anyone and Self are not granted by roles: the first needs
// no sign-in, the second nothing more than one.
const (
	Anyone       Permission = "anyone"
	Self         Permission = "self"
	FleetRead    Permission = "fleet.read"
	FleetEnrol   Permission = "fleet.enrol"
	FleetManage  Permission = "fleet.manage"
	DeviceSweep  Permission = "device.sweep"
	GroupManage  Permission = "group.manage"
	AlertHandle  Permission = "alert.handle"
	PolicyManage Permission = "policy.manage"
	NoticeManage Permission = "notice.manage"
	AuditRead    Permission = "audit.read"
	PeopleManage Permission = "people.manage"
	// ServiceMetrics reads what the service measures of itself.
	ServiceMetrics Permission = "service.metrics"
)

// Level is how much of a tool a permission grants.
type Level string

// The levels of a tool: looking, reading what is in what one sees, changing what can be put right again, and
// the rest.
const (
	See        Level = "see"
	Read       Level = "read" // what is in what is seen
	Act        Level = "act"
	Administer Level = "administer"
)

// toolLevels are the levels of a tool on a device, rising.
type toolLevels struct {
	name   string
	levels []Level
}

var tools = []toolLevels{
	{"command", []Level{Act}},
	{"scripts", []Level{See, Act, Administer}},
	{"packages", []Level{See, Act, Administer}},
	{"updates", []Level{See, Act, Administer}},
	{"shell", []Level{Act}},
	{"files", []Level{See, Read, Act, Administer}},
	{"processes", []Level{See, Act, Administer}},
	{"services", []Level{See, Act, Administer}},
	{"events", []Level{See}},
	{"network", []Level{See, Act}},
	{"screen", []Level{See, Act}},
	{"people", []Level{See, Act}},
	{"power", []Level{Act, Administer}},
	{"settings", []Level{See, Act}},
	{"queries", []Level{See}},
	{"recordings", []Level{See}},
}

// Of is the permission to a level of a tool.
func Of(tool string, level Level) Permission { return Permission(tool + "." + string(level)) }

// ToolPermissions lists the permissions that belong to tools, tool after tool.
func ToolPermissions() (all []Permission) {
	for _, t := range tools {
		for _, l := range t.levels {
			all = append(all, Of(t.name, l))
		}
	}
	return all
}

// abouts says what the permissions are for that belong to no tool, and levels what those do that
// belong to one.
var (
	abouts = map[Permission]string{
		FleetRead:      "See devices, their health, alerts and changes",
		FleetEnrol:     "Enrol devices",
		FleetManage:    "Add sites, move and retire devices",
		DeviceSweep:    "Ask and act on many devices at once",
		GroupManage:    "Make groups, tag devices",
		AlertHandle:    "Acknowledge, snooze, assign and resolve alerts",
		PolicyManage:   "Set policies, maintenance windows and rules of consent",
		NoticeManage:   "Set channels and rules of notices",
		AuditRead:      "Read the audit log and the sessions of others",
		PeopleManage:   "Add people and set their roles",
		ServiceMetrics: "Read what the service measures of itself",
	}
	levels = map[Level]string{See: "look with", Read: "read what is in what one sees with", Act: "change with, what can be put right again",
		Administer: "change with, whatever there is"}
)

// About says what a permission is for; of a tool's, what is done with the tool.
func (p Permission) About() string {
	if about, ok := abouts[p]; ok {
		return about
	}
	_, level, _ := strings.Cut(string(p), ".")
	return levels[Level(level)]
}

var general = []Permission{FleetRead, FleetEnrol, FleetManage, DeviceSweep, GroupManage, AlertHandle, PolicyManage, NoticeManage, AuditRead,
	PeopleManage, ServiceMetrics}

// Grantable lists every permission that a role may grant.
func Grantable() []Permission { return append(slices.Clone(general), ToolPermissions()...) }

var granted = map[Role][]Permission{
	Viewer: {FleetRead},
	Helper: append(seeing(), FleetRead, DeviceSweep, AlertHandle, Of("processes", Act), Of("services", Act), Of("people", Act),
		Of("power", Act), Of("network", Act)),
	Technician: append(ToolPermissions(), FleetRead, FleetEnrol, DeviceSweep, GroupManage, AlertHandle, PolicyManage, AuditRead),
	Owner:      Grantable(),
}

func seeing() []Permission {
	return slices.DeleteFunc(ToolPermissions(), func(p Permission) bool {
		return !strings.HasSuffix(string(p), "."+string(See)) || p == Of("recordings", See) // what others typed may be secret
	})
}

// Permissions lists what a built-in role grants, in order; nothing for another.
func (r Role) Permissions() []Permission {
	return List(func(p Permission) bool { return slices.Contains(granted[r], p) })
}

// BuiltIn tells whether a role is one of those above.
func (r Role) BuiltIn() bool { _, ok := granted[r]; return ok }

// BuiltInRoles lists them, from most to least.
func BuiltInRoles() []Role { return []Role{Owner, Technician, Helper, Viewer} }

// Known tells whether p is one of the permissions, so that a misspelt one in the contract is found
// at start.
func (p Permission) Known() bool {
	return p == Anyone || p == Self || slices.Contains(Grantable(), p)
}
