// Package files is the agent's work on the files of a device: listing, reading, changing, following
// and moving them to and from the service. It stands on package os and on what host.Disk adds; it
// opens nothing but files and folders, and gives nothing a name before it is whole.
package files

import (
	"context"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// Files is the files of one device. It may be used by many goroutines at once.
type Files struct {
	disk host.Disk
	dir  string // the agent's own folder, in which it notes uploads and what was removed

	mu      sync.Mutex
	uploads map[string]*upload
	tidied  time.Time // when uploads were last looked through
}

// New returns the files of a disk. dir is the agent's own folder.
func New(disk host.Disk, dir string) *Files {
	return &Files{disk: disk, dir: dir, uploads: map[string]*upload{}}
}

// refuse makes a problem of a reason that a person can do something about.
func refuse(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// explain makes a problem of an error of the system, in words that name the path once.
func explain(path string, err error) error {
	var told *link.Problem
	if err == nil || errors.As(err, &told) {
		return err
	}
	bare := err
	var at *fs.PathError
	var moved *os.LinkError
	var places []string
	switch {
	case errors.As(err, &at):
		bare, places = at.Err, []string{at.Path}
	case errors.As(err, &moved):
		bare, places = moved.Err, []string{moved.Old, moved.New}
	}
	for _, place := range places {
		if why := inUse(place, bare); why != "" {
			return refuse(http.StatusConflict, "%s %s", path, why)
		}
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return refuse(http.StatusNotFound, "%s is not there.", path)
	case errors.Is(err, fs.ErrPermission):
		return refuse(http.StatusUnprocessableEntity, "%s: the agent has no permission.", path)
	case errors.Is(err, fs.ErrExist):
		return refuse(http.StatusConflict, "%s is there already.", path)
	}
	if errors.Is(err, place.ErrLink) || errors.Is(err, place.ErrChanged) {
		return refuse(http.StatusConflict, "%s: %v.", path, bare)
	}
	for why, errs := range said {
		if slices.ContainsFunc(errs, func(e error) bool { return errors.Is(err, e) }) {
			status := http.StatusUnprocessableEntity
			if why == full {
				status = http.StatusInsufficientStorage
			}
			return refuse(status, "%s: %s.", path, why)
		}
	}
	return refuse(http.StatusUnprocessableEntity, "%s: %v.", path, bare)
}

// What systems say of files, in words; said has the errors of each.
const (
	full     = "the disk is full"
	tooLong  = "the name is too long; most systems take 255 bytes"
	noFolder = "a part of this path is no folder"
	circle   = "its links lead in a circle"
	readOnly = "this disk can only be read"
)

// real finds where the disk keeps a path.
func (f *Files) real(path string) (string, error) {
	if path == "" || len(path) > 32<<10 || strings.ContainsRune(path, 0) {
		return "", refuse(http.StatusBadRequest, "This is no path of a file.")
	}
	real, err := f.disk.Real(transfer.Name(path))
	if err != nil {
		return "", refuse(http.StatusBadRequest, "%v", err)
	}
	return real, nil
}

func (f *Files) shown(real string) string { return transfer.Text(f.disk.Shown(real)) }

// entry describes what stands at a place.
func (f *Files) entry(real string, info fs.FileInfo) link.FileEntry {
	e := link.FileEntry{Name: transfer.Text(info.Name()), Size: info.Size(), Mode: info.Mode().String(),
		Bits: fmt.Sprintf("%04o", bits(info.Mode())), Modified: info.ModTime()}
	e.Owner, e.Group = f.disk.Owner(real, info)
	switch mode := info.Mode(); {
	case mode.IsRegular():
		e.Kind = link.KindFile
	case mode.IsDir():
		e.Kind, e.Size = link.KindFolder, 0
	case mode&fs.ModeSymlink != 0:
		e.Kind, e.Size = link.KindLink, 0
		if to, err := os.Readlink(real); err == nil {
			e.Target = transfer.Text(to)
		}
	default:
		e.Kind, e.Size = link.KindOther, 0
	}
	return e
}

// spot is a name in an open folder: where something stands, or is to.
type spot struct {
	*place.Dir
	name string
}

// path is where the spot is, for people.
func (s spot) path() string { return s.Path(s.name) }

// at does something where a path leads. A link at its end is what is meant, and not what it names.
func (f *Files) at(path string, do func(spot) error) error {
	real, err := f.real(path)
	if err != nil {
		return err
	}
	d, name, err := place.Parent(real)
	if err != nil {
		return err
	}
	defer d.Close()
	s := spot{d, name}
	if err := f.mayTouch(s); err != nil {
		return err
	}
	return do(s)
}

// between does something with two places.
func (f *Files) between(from, to string, do func(from, to spot) error) error {
	return f.at(from, func(a spot) error {
		return f.at(to, func(b spot) error { return do(a, b) })
	})
}

// mayTouch refuses the agent's own folder, and what is in it: who has the key by which a device proves
// what it is, is that device.
func (f *Files) mayTouch(s spot) error {
	if f.dir == "" {
		return nil
	}
	own, err := filepath.EvalSymlinks(f.dir)
	if err != nil {
		return nil // it is not there yet
	}
	at := s.path()
	if f.disk.Windows() {
		own, at = strings.ToLower(own), strings.ToLower(at)
	}
	if within(at, own) {
		return refuse(http.StatusUnprocessableEntity, "%s belongs to the agent itself: it is closed to every tool.", f.shown(s.path()))
	}
	return nil
}

// own tells whether a folder is the agent's own.
func (f *Files) own(info fs.FileInfo) bool {
	if f.dir == "" || !info.IsDir() {
		return false
	}
	own, err := os.Stat(f.dir)
	return err == nil && os.SameFile(own, info)
}

// take gives a new file the owner and the access list of the one that it takes after, as good as the
// agent may.
func (f *Files) take(after spot, info fs.FileInfo, to spot) {
	owner, group := f.disk.Owner(after.path(), info)
	f.disk.Like(to.Dir, to.name, after.Dir, after.name)
	f.disk.SetOwner(to.Dir, to.name, owner, group)
}

// bits are the permission bits as chmod(1) writes them.
func bits(m fs.FileMode) uint32 {
	b := uint32(m.Perm())
	for _, s := range [...]struct {
		mode fs.FileMode
		bit  uint32
	}{{fs.ModeSetuid, 0o4000}, {fs.ModeSetgid, 0o2000}, {fs.ModeSticky, 0o1000}} {
		if m&s.mode != 0 {
			b |= s.bit
		}
	}
	return b
}

// batch is how many entries a part of a list holds at most.
const batch = 1000

// List gives the entries of a folder in parts, in the order of the disk; with Deep, of all folders
// below too, their names then being paths from the folder. Links are not followed below it.
func (f *Files) List(ctx context.Context, p link.FilePath, send func(link.FileBatch) error) error {
	real, err := f.real(p.Path)
	if err != nil {
		return err
	}
	folder, err := place.Open(real)
	if errors.Is(err, syscall.ENOTDIR) {
		return refuse(http.StatusUnprocessableEntity, "%s is no folder.", p.Path)
	}
	if err != nil {
		return explain(p.Path, err)
	}
	defer folder.Close()
	if err := f.mayTouch(spot{folder, "."}); err != nil {
		return err
	}
	b := link.FileBatch{Folder: f.shown(real)}
	if err := f.list(ctx, folder, "", p.Deep, &b, send); err != nil {
		return err
	}
	b.Done = true
	return send(b)
}

// unsent is an error of whoever the list goes to.
type unsent struct{ error }

func (f *Files) list(ctx context.Context, folder *place.Dir, prefix string, deep bool, b *link.FileBatch,
	send func(link.FileBatch) error) error {
	err := folder.Entries(func(name string, info fs.FileInfo) error {
		if ctx.Err() != nil {
			return unsent{ctx.Err()}
		}
		e := f.entry(folder.Path(name), info)
		e.Name = prefix + e.Name
		if b.Entries = append(b.Entries, e); len(b.Entries) >= batch {
			if err := send(*b); err != nil {
				return unsent{err}
			}
			b.Entries = nil
		}
		if !deep || !info.IsDir() || f.own(info) {
			return nil
		}
		below, err := folder.Sub(name)
		if err != nil {
			return nil // listed, and closed to the agent
		}
		defer below.Close()
		return f.list(ctx, below, e.Name+"/", deep, b, send)
	})
	if bad := (unsent{}); errors.As(err, &bad) {
		return err
	}
	if err != nil {
		b.Error = explain(b.Folder, err).Error()
	}
	return nil
}

// Entry describes one file or folder, with its digest where one is asked for.
func (f *Files) Entry(ctx context.Context, p link.FilePath) (link.FileEntry, error) {
	var e link.FileEntry
	if err := f.at(p.Path, func(s spot) error {
		info, err := s.Stat(s.name)
		if err == nil {
			e = f.entry(s.path(), info)
			e.Path, e.Access = f.shown(s.path()), f.disk.Access(s.path())
		}
		return err
	}); err != nil {
		return link.FileEntry{}, explain(p.Path, err)
	}
	if p.Digest == "" {
		return e, nil
	}
	h, err := digester(p.Digest)
	if err != nil {
		return e, err
	}
	file, _, err := f.open(p.Path)
	if err != nil {
		return e, err
	}
	defer file.Close()
	if _, err := copyUntil(ctx, h, file); err != nil {
		return e, explain(p.Path, err)
	}
	e.Digest = hex.EncodeToString(h.Sum(nil))
	return e, nil
}

func digester(name string) (hash.Hash, error) {
	switch name {
	case "sha256":
		return sha256.New(), nil
	case "sha512":
		return sha512.New(), nil
	case "md5":
		return md5.New(), nil
	}
	return nil, refuse(http.StatusBadRequest, "There is no digest %q: there are sha256, sha512 and md5.", name)
}

// open opens a regular file to read. Pipes and device files are refused without being opened, and
// one that takes a file's place in between cannot hold the agent up.
func (f *Files) open(path string) (*os.File, fs.FileInfo, error) {
	real, err := f.real(path)
	if err != nil {
		return nil, nil, err
	}
	d, name, err := place.Final(real)
	if err != nil {
		return nil, nil, explain(path, err)
	}
	defer d.Close()
	if err := f.mayTouch(spot{d, name}); err != nil {
		return nil, nil, err
	}
	file, info, err := regular(spot{d, name}, path)
	return file, info, explain(path, err)
}

// regular opens a regular file to read.
func regular(s spot, path string) (*os.File, fs.FileInfo, error) {
	info, err := s.Stat(s.name)
	if err == nil && !info.Mode().IsRegular() {
		err = irregular(path, info.Mode())
	}
	if err != nil {
		return nil, nil, err
	}
	file, info, err := s.File(s.name, os.O_RDONLY, 0)
	if err == nil && !info.Mode().IsRegular() {
		file.Close()
		return nil, nil, irregular(path, info.Mode())
	}
	return file, info, err
}

func irregular(path string, mode fs.FileMode) error {
	what := "a device file"
	switch {
	case mode.IsDir():
		what = "a folder"
	case mode&fs.ModeNamedPipe != 0:
		what = "a pipe"
	case mode&fs.ModeSocket != 0:
		what = "a socket"
	}
	return refuse(http.StatusUnprocessableEntity, "%s is %s, not a file.", path, what)
}

// copyUntil copies until the end or until ctx ends.
func copyUntil(ctx context.Context, w io.Writer, r io.Reader) (n int64, err error) {
	b := make([]byte, 256<<10)
	for {
		if ctx.Err() != nil {
			return n, ctx.Err()
		}
		k, err := r.Read(b)
		if k > 0 {
			if _, err := w.Write(b[:k]); err != nil {
				return n, err
			}
			n += int64(k)
		}
		if errors.Is(err, io.EOF) {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// Plain is a disk whose files are found where their paths say, and that knows no owners.
type Plain struct{}

// Real implements host.Disk.
func (Plain) Real(path string) (string, error) { return filepath.Clean(path), nil }

// Shown implements host.Disk.
func (Plain) Shown(real string) string { return real }

// Owner implements host.Disk.
func (Plain) Owner(string, fs.FileInfo) (owner, group string) { return "", "" }

// Like implements host.Disk.
func (Plain) Like(*place.Dir, string, *place.Dir, string) error { return nil }

// Access implements host.Disk.
func (Plain) Access(string) []string { return nil }

// Let implements host.Disk.
func (Plain) Let(*place.Dir, string, string, string) error { return errors.ErrUnsupported }

// Seclude implements host.Disk.
func (Plain) Seclude(d *place.Dir, name string) error { return d.Chmod(name, 0o700) }

// SetOwner implements host.Disk.
func (Plain) SetOwner(*place.Dir, string, string, string) error { return errors.ErrUnsupported }

// Top implements host.Disk.
func (Plain) Top(string) (string, error) { return "", errors.ErrUnsupported }

// Free implements host.Disk.
func (Plain) Free(string) (int64, error) { return 0, errors.ErrUnsupported }

// Windows implements host.Disk.
func (Plain) Windows() bool { return false }
