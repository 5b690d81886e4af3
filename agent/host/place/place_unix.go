//go:build unix

package place

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// noWait has the opening of a pipe not wait for its other end.
const noWait = syscall.O_NONBLOCK

// privileged tells whether the agent may do what whoever set links cannot.
func privileged() bool { return os.Geteuid() == 0 }

// ownerOf is the number of the account that a file belongs to.
func ownerOf(info fs.FileInfo) (uint32, bool) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return s.Uid, true
}

// trusted tells whether a link of an account is followed wherever it leads.
func trusted(owner uint32) bool { return owner == 0 || int(owner) == os.Geteuid() }

func (d *Dir) remove(name string) error    { return d.root.Remove(name) }
func (d *Dir) removeAll(name string) error { return d.root.RemoveAll(name) }

func isEnd(err error) bool { return err == nil || errors.Is(err, io.EOF) }

func rename(from *os.File, name string, to *os.File, other string) error {
	return unix.Renameat(int(from.Fd()), name, int(to.Fd()), other)
}

// Chown gives a file, a folder, a pipe or a link itself to others; -1 leaves one of them as it is.
func (d *Dir) Chown(name string, uid, gid int) error {
	info, err := d.Stat(name)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return d.root.Lchown(name, uid, gid)
	}
	return d.held(name, func(f *os.File) error { return f.Chown(uid, gid) }, func() error { return d.root.Lchown(name, uid, gid) })
}

// Links is how many names a file has.
func Links(info fs.FileInfo) uint64 {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 1
	}
	return uint64(s.Nlink)
}

// Another tells whether a file belongs to another account than the agent's.
func Another(info fs.FileInfo) bool {
	owner, known := ownerOf(info)
	return known && int(owner) != os.Geteuid()
}
