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

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// Files is the files of one device. It may be used by many goroutines at once.
type Files struct {
	disk host.Disk
	dir  string // the agent's own folder, in which it notes uploads and what was removed

	mu      sync.Mutex
	uploads map[string]*upload
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
	e := link.FileEntry{Name: transfer.Text(info.Name()), Size: info.Size(), Mode: info.Mode().String(), Bits: fmt.Sprintf("%04o", bits(info.Mode())), Modified: info.ModTime()}
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

// take gives a new file the owner and the access list of the one that it takes after, as good as the
// agent may.
func (f *Files) take(after string, info fs.FileInfo, to string) {
	owner, group := f.disk.Owner(after, info)
	f.disk.SetOwner(to, owner, group)
	f.disk.Like(to, after)
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
	folder, err := os.Open(real)
	if err != nil {
		return explain(p.Path, err)
	}
	defer folder.Close()
	if info, err := folder.Stat(); err != nil || !info.IsDir() {
		return refuse(http.StatusUnprocessableEntity, "%s is no folder.", p.Path)
	}
	b := link.FileBatch{Folder: f.shown(real)}
	if err := f.list(ctx, folder, real, "", p.Deep, &b, send); err != nil {
		return err
	}
	b.Done = true
	return send(b)
}

func (f *Files) list(ctx context.Context, folder *os.File, real, prefix string, deep bool, b *link.FileBatch, send func(link.FileBatch) error) error {
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		entries, err := folder.ReadDir(batch)
		for _, d := range entries {
			info, err := d.Info()
			if err != nil {
				continue // gone since
			}
			place := filepath.Join(real, d.Name())
			e := f.entry(place, info)
			e.Name = prefix + e.Name
			if b.Entries = append(b.Entries, e); len(b.Entries) >= batch {
				if err := send(*b); err != nil {
					return err
				}
				b.Entries = nil
			}
			if deep && d.IsDir() {
				below, err := os.Open(place)
				if err != nil {
					continue // listed, and closed to the agent
				}
				err = f.list(ctx, below, place, e.Name+"/", deep, b, send)
				below.Close()
				if err != nil {
					return err
				}
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			b.Error = explain(b.Folder, err).Error()
			return nil
		}
	}
}

// Entry describes one file or folder, with its digest where one is asked for.
func (f *Files) Entry(ctx context.Context, p link.FilePath) (link.FileEntry, error) {
	real, err := f.real(p.Path)
	if err != nil {
		return link.FileEntry{}, err
	}
	info, err := os.Lstat(real)
	if err != nil {
		return link.FileEntry{}, explain(p.Path, err)
	}
	e := f.entry(real, info)
	e.Path, e.Access = f.shown(real), f.disk.Access(real)
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
	info, err := os.Stat(real)
	if err == nil && !info.Mode().IsRegular() {
		err = irregular(path, info.Mode())
	}
	if err != nil {
		return nil, nil, explain(path, err)
	}
	file, err := openShared(real)
	if err != nil {
		return nil, nil, explain(path, err)
	}
	if info, err = file.Stat(); err == nil && !info.Mode().IsRegular() {
		err = irregular(path, info.Mode())
	}
	if err != nil {
		file.Close()
		return nil, nil, explain(path, err)
	}
	return file, info, nil
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
func (Plain) Like(string, string) error { return nil }

// Access implements host.Disk.
func (Plain) Access(string) []string { return nil }

// Let implements host.Disk.
func (Plain) Let(string, string, string) error { return errors.ErrUnsupported }

// Seclude implements host.Disk.
func (Plain) Seclude(real string) error { return os.Chmod(real, 0o700) }

// SetOwner implements host.Disk.
func (Plain) SetOwner(string, string, string) error { return errors.ErrUnsupported }

// Top implements host.Disk.
func (Plain) Top(string) (string, error) { return "", errors.ErrUnsupported }

// Free implements host.Disk.
func (Plain) Free(string) (int64, error) { return 0, errors.ErrUnsupported }

// Windows implements host.Disk.
func (Plain) Windows() bool { return false }
