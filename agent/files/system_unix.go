//go:build unix

package files

import (
	"errors"
	"os"
	"syscall"
)

// openShared opens a file to read. Opening a pipe without a writer does not wait.
func openShared(real string) (*os.File, error) {
	return os.OpenFile(real, os.O_RDONLY|syscall.O_NONBLOCK, 0)
}

// inUse says that another program keeps a file to itself: these systems let every program open it.
func inUse(string, error) string { return "" }

// elsewhere tells whether a file cannot be renamed because the other name is on another disk.
func elsewhere(err error) bool { return errors.Is(err, syscall.EXDEV) }

var said = map[string][]error{
	full:     {syscall.ENOSPC, syscall.EDQUOT},
	tooLong:  {syscall.ENAMETOOLONG},
	noFolder: {syscall.ENOTDIR},
	circle:   {syscall.ELOOP},
	readOnly: {syscall.EROFS},
}
