//go:build unix

package portable

import (
	"errors"
	"syscall"
)

// broadcasting lets a socket send to all of a network.
func broadcasting(_, _ string, c syscall.RawConn) error {
	var set error
	err := c.Control(func(fd uintptr) { set = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_BROADCAST, 1) })
	return errors.Join(err, set)
}
