//go:build windows

package windows

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	on "moorwatch.example/agent/host/place"
	"moorwatch.example/agent/host/windows/locks"
	"moorwatch.example/contract/link"
)

// disk implements host.Disk.
type disk struct{}

// Windows implements host.Disk.
func (*disk) Windows() bool { return true }

// Real implements host.Disk. Package os itself writes paths so that they may be long.
func (*disk) Real(path string) (string, error) {
	path = filepath.Clean(strings.ReplaceAll(path, "/", `\`))
	volume := filepath.VolumeName(path)
	if volume == "" || strings.HasPrefix(path, `\\.\`) || strings.HasPrefix(path, `\\?\`) {
		return "", fmt.Errorf("%q is no whole path: it begins with a drive, as C:\\, or a share, as \\\\server\\share", path)
	}
	if path == volume {
		path += `\`
	}
	if !filepath.IsAbs(path) {
		return "", fmt.Errorf("%q is no whole path: a \\ follows the drive", path)
	}
	if strings.Contains(path[len(volume):], ":") {
		return "", fmt.Errorf("%q names a stream of a file: only files themselves are worked on", path)
	}
	return strings.ToUpper(volume[:1]) + path[1:], nil
}

// Shown implements host.Disk.
func (*disk) Shown(real string) string { return real }

// Owner implements host.Disk.
func (d *disk) Owner(real string, _ fs.FileInfo) (owner, group string) {
	sd, err := windows.GetNamedSecurityInfo(real, windows.SE_FILE_OBJECT,
		windows.OWNER_SECURITY_INFORMATION|windows.GROUP_SECURITY_INFORMATION)
	if err != nil {
		return "", ""
	}
	if sid, _, err := sd.Owner(); err == nil {
		owner = d.name(sid)
	}
	if sid, _, err := sd.Group(); err == nil {
		group = d.name(sid)
	}
	return owner, group
}

func (*disk) name(sid *windows.SID) string {
	if sid == nil {
		return ""
	}
	return names.short(sid)
}

// SetOwner implements host.Disk. Accounts are given by name or SID.
func (*disk) SetOwner(in *on.Dir, name, owner, group string) error {
	var information windows.SECURITY_INFORMATION
	sids := map[string]*windows.SID{}
	for _, name := range []string{owner, group} {
		if name == "" {
			continue
		}
		sid, err := account(name)
		if err != nil {
			return err
		}
		sids[name] = sid
	}
	if owner != "" {
		information |= windows.OWNER_SECURITY_INFORMATION
	}
	if group != "" {
		information |= windows.GROUP_SECURITY_INFORMATION
	}
	if information == 0 {
		return nil
	}
	defer withPrivileges("SeTakeOwnershipPrivilege", "SeRestorePrivilege")()
	h, err := in.Handle(name, windows.WRITE_OWNER)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	return windows.SetSecurityInfo(h, windows.SE_FILE_OBJECT, information, sids[owner], sids[group], nil, nil)
}

// account finds whom a name or SID means.
func account(name string) (*windows.SID, error) {
	if sid, err := windows.StringToSid(name); err == nil {
		return sid, nil
	}
	sid, _, _, err := windows.LookupSID("", name)
	if err != nil {
		return nil, fmt.Errorf("there is no account %q", name)
	}
	return sid, nil
}

// rights are what is given by each word of link; FILE_GENERIC_READ with FILE_GENERIC_EXECUTE, that with
// FILE_GENERIC_WRITE and DELETE, and FILE_ALL_ACCESS.
var rights = map[string]windows.ACCESS_MASK{link.MayRead: 0x1200a9, link.MayChange: 0x1301bf, link.MayAll: maskFull}

// Let implements host.Disk.
func (*disk) Let(in *on.Dir, name, who, may string) error {
	sid, err := account(who)
	if err != nil {
		return err
	}
	if sid.IsWellKnown(windows.WinLocalSystemSid) && may != link.MayAll && may != link.MayInherited {
		return errors.New("the agent works as this account: it would keep itself out")
	}
	info, err := in.Stat(name)
	if err != nil {
		return err
	}
	defer withPrivileges("SeTakeOwnershipPrivilege", "SeRestorePrivilege")()
	h, err := in.Handle(name, windows.READ_CONTROL|windows.WRITE_DAC)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	sd, err := windows.GetSecurityInfo(h, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return err
	}
	list, _, err := sd.DACL()
	if err != nil && !errors.Is(err, windows.ERROR_OBJECT_NOT_FOUND) {
		return err
	}
	if list, err = let(list, sid, may, info.IsDir()); err != nil {
		return err
	}
	return windows.SetSecurityInfo(h, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION, nil, nil, list, nil)
}

// Seclude implements host.Disk. A folder that others made may have been given a list by them, and be
// hidden by them too: it is refused.
func (*disk) Seclude(in *on.Dir, name string) error {
	d, err := in.Sub(name) // no link
	if err != nil {
		return err
	}
	defer d.Close() // while it is open nothing takes its place
	h, err := in.Handle(name, windows.READ_CONTROL)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	sd, err := windows.GetSecurityInfo(h, windows.SE_FILE_OBJECT, windows.OWNER_SECURITY_INFORMATION)
	if err != nil {
		return err
	}
	owner, _, err := sd.Owner()
	if err != nil {
		return err
	}
	if !ours(owner) {
		return fmt.Errorf("%s belongs to %s: have it removed first", in.Path(name), names.short(owner))
	}
	real := in.Path(name)
	text, err := windows.UTF16PtrFromString(real)
	if err != nil {
		return err
	}
	attributes, err := windows.GetFileAttributes(text)
	if err != nil || attributes&windows.FILE_ATTRIBUTE_HIDDEN != 0 {
		return err // it was closed before it was hidden
	}
	if err := locks.Close(real); err != nil {
		return err
	}
	return windows.SetFileAttributes(text, attributes|windows.FILE_ATTRIBUTE_HIDDEN)
}

// ours tells whether an account is the agent's own or one that may do everything anyway.
func ours(sid *windows.SID) bool {
	if sid == nil {
		return false
	}
	if sid.IsWellKnown(windows.WinLocalSystemSid) || sid.IsWellKnown(windows.WinBuiltinAdministratorsSid) {
		return true
	}
	me, err := windows.GetCurrentProcessToken().GetTokenUser()
	return err == nil && me.User.Sid.Equals(sid)
}

var deleteAce = windows.NewLazySystemDLL("advapi32.dll").NewProc("DeleteAce")

// forget takes an account's own entries out of an access list; those from above stay.
func forget(list *windows.ACL, sid *windows.SID) error {
	for i := int(list.AceCount) - 1; i >= 0; i-- {
		var ace *windows.ACCESS_ALLOWED_ACE
		if err := windows.GetAce(list, uint32(i), &ace); err != nil {
			return err
		}
		if h := ace.Header; h.AceFlags&aceInherits != 0 || (h.AceType != aceAllows && h.AceType != aceDenies) || !aceSID(ace).Equals(sid) {
			continue
		}
		if done, _, err := deleteAce.Call(uintptr(unsafe.Pointer(list)), uintptr(i)); done == 0 {
			return err
		}
	}
	return nil
}

// let returns an access list with what an account may do in place of what was said of it.
func let(list *windows.ACL, sid *windows.SID, may string, folder bool) (*windows.ACL, error) {
	entry := func(sid *windows.SID, mode windows.ACCESS_MODE, mask windows.ACCESS_MASK) windows.EXPLICIT_ACCESS {
		e := windows.EXPLICIT_ACCESS{AccessMode: mode, AccessPermissions: mask,
			Trustee: windows.TRUSTEE{TrusteeForm: windows.TRUSTEE_IS_SID, TrusteeType: windows.TRUSTEE_IS_UNKNOWN,
				TrusteeValue: windows.TrusteeValueFromSID(sid)}}
		if folder {
			e.Inheritance = windows.SUB_CONTAINERS_AND_OBJECTS_INHERIT
		}
		return e
	}
	var changes []windows.EXPLICIT_ACCESS
	if list == nil { // nobody was kept out, and nobody is to be by this
		everybody, err := windows.CreateWellKnownSid(windows.WinWorldSid)
		if err != nil {
			return nil, err
		}
		changes = append(changes, entry(everybody, windows.GRANT_ACCESS, maskFull))
	}
	if list != nil {
		if err := forget(list, sid); err != nil {
			return nil, err
		}
	}
	switch may {
	case link.MayInherited:
	case link.MayNothing:
		changes = append(changes, entry(sid, windows.DENY_ACCESS, maskFull))
	default:
		changes = append(changes, entry(sid, windows.GRANT_ACCESS, rights[may]))
	}
	if len(changes) == 0 {
		return list, nil
	}
	return windows.ACLFromEntries(changes, list)
}

// Like implements host.Disk.
func (*disk) Like(in *on.Dir, name string, asIn *on.Dir, as string) error {
	from, err := asIn.Handle(as, windows.READ_CONTROL)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(from)
	to, err := in.Handle(name, windows.READ_CONTROL|windows.WRITE_DAC)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(to)
	sd, err := windows.GetSecurityInfo(from, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return err
	}
	list, _, err := sd.DACL()
	if err != nil {
		return err
	}
	return windows.SetSecurityInfo(to, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION, nil, nil, list, nil)
}

// Access implements host.Disk.
func (d *disk) Access(real string) []string {
	sd, err := windows.GetNamedSecurityInfo(real, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return nil
	}
	list, _, err := sd.DACL()
	if err != nil || list == nil {
		return []string{"everybody may do everything (it has no access list)"}
	}
	return d.words(list)
}

// words tells an access list, in the order in which it is looked at.
func (d *disk) words(list *windows.ACL) []string {
	out := []string{}
	for i := range uint32(list.AceCount) {
		var ace *windows.ACCESS_ALLOWED_ACE
		if windows.GetAce(list, i, &ace) != nil {
			break
		}
		out = append(out, accessOf(d.name(aceSID(ace)), ace.Header.AceType, ace.Header.AceFlags, uint32(ace.Mask)))
	}
	return out
}

// Top implements host.Disk.
func (*disk) Top(folder string) (string, error) {
	from, err := windows.UTF16PtrFromString(folder)
	if err != nil {
		return "", err
	}
	out := make([]uint16, windows.MAX_LONG_PATH)
	if err := windows.GetVolumePathName(from, &out[0], uint32(len(out))); err != nil {
		return "", err
	}
	return windows.UTF16ToString(out), nil
}

// Free implements host.Disk.
func (*disk) Free(folder string) (int64, error) {
	from, err := windows.UTF16PtrFromString(folder)
	if err != nil {
		return 0, err
	}
	var free, total, all uint64
	if err := windows.GetDiskFreeSpaceEx(from, &free, &total, &all); err != nil {
		return 0, err
	}
	return int64(free), nil
}
