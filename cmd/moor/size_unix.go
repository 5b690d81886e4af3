//go:build unix

package main

import (
	"os"
	"syscall"
)

// sizeChanged is the signal of a terminal whose size changed.
var sizeChanged os.Signal = syscall.SIGWINCH
