//go:build unix

package files

import (
	"errors"
	"syscall"
)

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
