package files

import (
	"errors"
	"strings"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/windows/locks"
)

const nonblock = 0

// inUse says which program keeps a file to itself, where that is why it cannot be worked on.
func inUse(path string, err error) string {
	if !errors.Is(err, windows.ERROR_SHARING_VIOLATION) && !errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return ""
	}
	if who := locks.Holders(path); len(who) > 0 {
		return "is kept by " + strings.Join(who, ", ") + ": end that first."
	}
	return "is kept by another program: end that first."
}
