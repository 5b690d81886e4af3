// Package atomicfile writes the files of the agent's own folder whole or not at all, whatever dies in between, and
// whoever reads them meanwhile. What files are of a technician's work is package files'.
package atomicfile

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"time"
)

// Surety is how sure it must be that what is written outlasts a power cut.
type Surety int

const (
	OnDisk  Surety = iota // the file and its name
	Content               // the file; the one of that name before may come back in its place
	Soon                  // neither
)

// fresh ends the name of a file that is not whole yet.
const fresh = ".new"

// Write writes a file that nobody but the agent's account may read, in place of one of its name.
func Write(path string, text []byte, how Surety) error {
	f, err := os.OpenFile(path+fresh, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if how < Soon {
		err = errors.Join(err, f.Sync())
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = Rename(path+fresh, path)
	}
	if err != nil {
		os.Remove(path + fresh)
		return err
	}
	if how != OnDisk {
		return nil
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer dir.Close()
	dir.Sync() // not every file system can
	return nil
}

// heldFor is how long somebody else may hold a file.
const heldFor = 2 * time.Second

// Rename gives a file another name, in place of a file that has it. On Windows neither may be open, and scanners
// and readers hold files for moments: it is tried for 2 s before it fails.
func Rename(from, to string) error {
	for until := time.Now().Add(heldFor); ; time.Sleep(5 * time.Millisecond) {
		err := os.Rename(from, to)
		if err == nil || !held(err) || time.Now().After(until) {
			return err
		}
	}
}

// What Windows says of a file that somebody holds (system error codes 5 and 32).
const (
	accessDenied     = syscall.Errno(5)
	sharingViolation = syscall.Errno(32)
)

func held(err error) bool {
	return runtime.GOOS == "windows" && (errors.Is(err, accessDenied) || errors.Is(err, sharingViolation))
}
