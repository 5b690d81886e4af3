//go:build windows

package windows

import (
	"unsafe"

	"golang.org/x/sys/windows"
)

// withPrivileges turns privileges of the agent's own account on; what it returns turns them off
// again. Those that the account lacks stay off, and what needs them fails by itself.
func withPrivileges(names ...string) (off func()) {
	var token windows.Token
	if windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_ADJUST_PRIVILEGES|windows.TOKEN_QUERY, &token) != nil {
		return func() {}
	}
	set := func(attributes uint32) {
		for _, name := range names {
			p := windows.Tokenprivileges{PrivilegeCount: 1}
			text, err := windows.UTF16PtrFromString(name)
			if err != nil || windows.LookupPrivilegeValue(nil, text, &p.Privileges[0].Luid) != nil {
				continue
			}
			p.Privileges[0].Attributes = attributes
			windows.AdjustTokenPrivileges(token, false, &p, 0, nil, nil)
		}
	}
	set(windows.SE_PRIVILEGE_ENABLED)
	return func() {
		set(0)
		token.Close()
	}
}

func aceSID(ace *windows.ACCESS_ALLOWED_ACE) *windows.SID {
	return (*windows.SID)(unsafe.Pointer(&ace.SidStart))
}
