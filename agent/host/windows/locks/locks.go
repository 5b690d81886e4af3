//go:build windows

// Package locks is who is let in: it finds who keeps a file to itself (Restart Manager), and closes folders to all
// but the system and administrators.
package locks

import (
	"fmt"
	"unsafe"

	"golang.org/x/sys/windows"
)

var (
	rstrtmgr          = windows.NewLazySystemDLL("rstrtmgr.dll")
	startSession      = rstrtmgr.NewProc("RmStartSession")
	registerResources = rstrtmgr.NewProc("RmRegisterResources")
	getList           = rstrtmgr.NewProc("RmGetList")
	endSession        = rstrtmgr.NewProc("RmEndSession")
)

// process is RM_PROCESS_INFO.
type process struct {
	pid          uint32
	started      windows.Filetime
	name         [256]uint16
	service      [64]uint16
	kind, status uint32
	session      uint32
	restartable  int32
}

// most is how many programs are told.
const most = 8

// Holders are the programs that have a file open, with their numbers; none where that cannot be told.
func Holders(path string) []string {
	if rstrtmgr.Load() != nil {
		return nil
	}
	var session uint32
	var key [33]uint16
	if code, _, _ := startSession.Call(uintptr(unsafe.Pointer(&session)), 0, uintptr(unsafe.Pointer(&key[0]))); code != 0 {
		return nil
	}
	defer endSession.Call(uintptr(session))
	file, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return nil
	}
	files := [1]*uint16{file}
	if code, _, _ := registerResources.Call(uintptr(session), 1, uintptr(unsafe.Pointer(&files[0])), 0, 0, 0, 0); code != 0 {
		return nil
	}
	var found [most]process
	var needed, reasons uint32
	n := uint32(most)
	code, _, _ := getList.Call(uintptr(session), uintptr(unsafe.Pointer(&needed)), uintptr(unsafe.Pointer(&n)),
		uintptr(unsafe.Pointer(&found[0])), uintptr(unsafe.Pointer(&reasons)))
	if code != 0 || n > most {
		return nil
	}
	var list []string
	for _, p := range found[:n] {
		list = append(list, fmt.Sprintf("%s (process %d)", windows.UTF16ToString(p.name[:]), p.pid))
	}
	return list
}

// closed lets the system and administrators in, and nobody else (SDDL).
const closed = "D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)"

// Close makes a folder, and what it takes over to what is made in it, one for the system and administrators alone.
func Close(folder string) error {
	sd, err := windows.SecurityDescriptorFromString(closed)
	if err != nil {
		return err
	}
	list, _, err := sd.DACL()
	if err != nil {
		return err
	}
	return windows.SetNamedSecurityInfo(folder, windows.SE_FILE_OBJECT,
		windows.DACL_SECURITY_INFORMATION|windows.PROTECTED_DACL_SECURITY_INFORMATION, nil, nil, list, nil)
}
