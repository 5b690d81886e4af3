package files

import (
	"errors"
	"os"
	"strings"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/windows/locks"
)

// shared opens a file, so that others may rename and remove it meanwhile.
func shared(real string, access, flags uint32) (*os.File, error) {
	long := real
	switch {
	case len(real) < windows.MAX_PATH-12:
	case strings.HasPrefix(real, `\\`):
		long = `\\?\UNC\` + real[2:]
	default:
		long = `\\?\` + real
	}
	name, err := windows.UTF16PtrFromString(long)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: real, Err: err}
	}
	h, err := windows.CreateFile(name, access, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil,
		windows.OPEN_EXISTING, flags, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: real, Err: err}
	}
	return os.NewFile(uintptr(h), real), nil
}

// inUse says which program keeps a file to itself, where that is why it cannot be worked on.
func inUse(path string, err error) string {
	switch {
	case errors.Is(err, windows.ERROR_SHARING_VIOLATION), errors.Is(err, windows.ERROR_LOCK_VIOLATION):
	case errors.Is(err, windows.ERROR_ACCESS_DENIED): // so is the renaming of a file that somebody has open
		file, err := shared(path, windows.DELETE, windows.FILE_FLAG_BACKUP_SEMANTICS|windows.FILE_FLAG_OPEN_REPARSE_POINT)
		if err == nil {
			file.Close()
			return ""
		}
		if !errors.Is(err, windows.ERROR_SHARING_VIOLATION) {
			return ""
		}
	default:
		return ""
	}
	if who := locks.Holders(path); len(who) > 0 {
		return "is kept by " + strings.Join(who, ", ") + ": end that first."
	}
	return "is kept by another program: end that first."
}

// elsewhere tells whether a file cannot be renamed because the other name is on another disk.
func elsewhere(err error) bool { return errors.Is(err, windows.ERROR_NOT_SAME_DEVICE) }

var said = map[string][]error{
	full:     {windows.ERROR_DISK_FULL, windows.ERROR_HANDLE_DISK_FULL},
	tooLong:  {windows.ERROR_FILENAME_EXCED_RANGE},
	noFolder: {windows.ERROR_DIRECTORY},
	circle:   {windows.ERROR_CANT_RESOLVE_FILENAME, windows.ERROR_STOPPED_ON_SYMLINK},
	readOnly: {windows.ERROR_WRITE_PROTECT},
}
