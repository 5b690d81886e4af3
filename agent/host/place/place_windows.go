package place

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// noWait is of no use: pipes do not stand among files.
const noWait = 0

// privileged is true: the agent works as the system, and to follow no link is no loss to anybody else.
func privileged() bool { return true }

// ownerOf knows none: no link on the way is followed.
func ownerOf(fs.FileInfo) (uint32, bool) { return 0, false }

func trusted(uint32) bool { return false }

func isEnd(err error) bool { return err == nil || errors.Is(err, io.EOF) }

// remove asks for less than package os, which wants an extension that some systems lack (Wine 8 among them).
func (d *Dir) remove(name string) error {
	err := d.dispose(name)
	if errors.Is(err, fs.ErrPermission) { // it may be marked as read-only
		if info, bad := d.Stat(name); bad == nil && info.Mode().Perm()&0o200 == 0 && d.root.Chmod(name, 0o666) == nil {
			err = d.dispose(name)
		}
	}
	return err
}

func (d *Dir) dispose(name string) error {
	h, err := d.Handle(name, windows.DELETE)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	gone := byte(1) // FILE_DISPOSITION_INFORMATION (MS-FSCC, 2.4.11)
	var status windows.IO_STATUS_BLOCK
	if err := number(windows.NtSetInformationFile(h, &status, &gone, 1, windows.FileDispositionInformation)); err != nil {
		return &fs.PathError{Op: "remove", Path: d.Path(name), Err: err}
	}
	return nil
}

func (d *Dir) removeAll(name string) error {
	info, err := d.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() {
		below, err := d.Sub(name)
		if err != nil {
			return err
		}
		var names []string
		err = below.Entries(func(name string, _ fs.FileInfo) error { names = append(names, name); return nil })
		for _, each := range names {
			err = errors.Join(err, below.removeAll(each))
		}
		if err = errors.Join(err, below.Close()); err != nil {
			return err
		}
	}
	return d.remove(name)
}

// renameInformation is FILE_RENAME_INFORMATION (MS-FSCC, 2.4.42).
type renameInformation struct {
	replace uint32 // a BOOLEAN, with what fills up
	folder  windows.Handle
	length  uint32 // of the name, in bytes
	name    [windows.MAX_LONG_PATH]uint16
}

func rename(from *os.File, name string, to *os.File, other string) error {
	h, err := openAt(windows.Handle(from.Fd()), name, windows.DELETE|windows.SYNCHRONIZE)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	text, err := windows.UTF16FromString(other)
	if err != nil {
		return err
	}
	info := renameInformation{replace: 1, folder: windows.Handle(to.Fd()), length: uint32(2 * (len(text) - 1))}
	if copy(info.name[:], text) < len(text) {
		return windows.ERROR_FILENAME_EXCED_RANGE
	}
	var status windows.IO_STATUS_BLOCK
	return number(windows.NtSetInformationFile(h, &status, (*byte)(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info)),
		windows.FileRenameInformation))
}

// openAt opens what stands in a folder, a link itself.
func openAt(folder windows.Handle, name string, access uint32) (windows.Handle, error) {
	text, err := windows.NewNTUnicodeString(name)
	if err != nil {
		return 0, err
	}
	about := windows.OBJECT_ATTRIBUTES{RootDirectory: folder, ObjectName: text}
	about.Length = uint32(unsafe.Sizeof(about))
	var h windows.Handle
	var status windows.IO_STATUS_BLOCK
	err = windows.NtCreateFile(&h, access, &about, &status, nil, 0,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE,
		windows.FILE_OPEN, windows.FILE_OPEN_REPARSE_POINT|windows.FILE_OPEN_FOR_BACKUP_INTENT|windows.FILE_SYNCHRONOUS_IO_NONALERT, 0, 0)
	return h, number(err)
}

// number makes the error of Win32 from one of the kernel, which the packages above know.
func number(err error) error {
	var status windows.NTStatus
	if errors.As(err, &status) {
		return status.Errno()
	}
	return err
}

// Handle opens what stands under a name, a link itself, with rights of Windows: to read or set whose it
// is and who may do what with it. The caller closes it.
func (d *Dir) Handle(name string, access uint32) (windows.Handle, error) {
	folder, err := d.root.Open(".")
	if err != nil {
		return 0, err
	}
	defer folder.Close()
	if name == "." {
		name = ""
	}
	h, err := openAt(windows.Handle(folder.Fd()), name, access|windows.SYNCHRONIZE)
	if err != nil {
		return 0, &fs.PathError{Op: "open", Path: d.Path(name), Err: err}
	}
	return h, nil
}

// Links is how many names a file has; it is not asked here.
func Links(fs.FileInfo) uint64 { return 1 }

// Another tells whether a file belongs to another account; it is not asked here.
func Another(fs.FileInfo) bool { return false }
