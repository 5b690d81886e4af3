//go:build unix

package files

import "syscall"

// nonblock keeps the opening of a pipe without a writer from waiting.
const nonblock = syscall.O_NONBLOCK
