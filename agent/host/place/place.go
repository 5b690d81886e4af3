// Package place reaches what stands on a disk by descriptors, and never twice by a path: between two
// looks at a path whoever owns a folder on the way can put a link there, and the agent works as root. A
// folder is opened once, component by component, and what is in it is named by one name from then on.
//
// Links on the way are followed where the account that the agent works as, or the system's own, made
// them; a link that somebody else made is followed only to what is theirs. Links at the end of a path are
// not followed, but where Final is asked for.
package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// ErrLink says that a link that somebody made leads to what is not theirs.
var ErrLink = errors.New("a link on the way belongs to somebody else than what it leads to: name the place itself")

// ErrChanged says that something was put in the place of what was looked at.
var ErrChanged = errors.New("it was changed while it was looked at")

// Dir is an open folder. Its methods take one name that stands in it, never a path.
type Dir struct {
	root *os.Root
	path string // without links; for messages, and where a system has no other way
}

// mostLinks is how many links are followed on the way to a place, as on Linux (path_resolution(7)).
const mostLinks = 40

// Open opens a folder.
func Open(path string) (*Dir, error) {
	d, name, err := follow(path, true)
	if err != nil || name == "" {
		return d, err
	}
	defer d.Close()
	return d.Sub(name)
}

// Make opens a folder, and makes it and those above it where they are not there.
func Make(path string, perm fs.FileMode) (*Dir, error) {
	w := walker{make: perm, final: true}
	d, name, err := w.walk(path)
	if err != nil || name == "" {
		return d, err
	}
	defer d.Close()
	return w.enter(d, name)
}

// Parent opens the folder in which something stands, or is to, and returns its name there. For the top
// of a disk the name is ".".
func Parent(path string) (*Dir, string, error) {
	d, name, err := follow(path, false)
	if name == "" {
		name = "."
	}
	return d, name, err
}

// Final is Parent of what a path means, where it names a link.
func Final(path string) (*Dir, string, error) {
	d, name, err := follow(path, true)
	if name == "" {
		name = "."
	}
	return d, name, err
}

func follow(path string, final bool) (*Dir, string, error) {
	return (&walker{final: final}).walk(path)
}

// walker goes the way of a path.
type walker struct {
	make   fs.FileMode // with which missing folders are made; 0 for not
	final  bool        // a link at the end is followed
	links  int
	owners []uint32 // of the links that somebody else made: what they lead to must be theirs
}

func (w *walker) walk(path string) (*Dir, string, error) {
	if !filepath.IsAbs(path) {
		return nil, "", &fs.PathError{Op: "open", Path: path, Err: fs.ErrInvalid}
	}
	path = filepath.Clean(path)
	for {
		d, name, next, err := w.once(path)
		if err != nil {
			return nil, "", err
		}
		if next == "" {
			if err := w.owned(d, name); err != nil {
				d.Close()
				return nil, "", &fs.PathError{Op: "open", Path: path, Err: err}
			}
			return d, name, nil
		}
		path = next
	}
}

// top is the folder in which a path begins, and the names that follow.
func top(path string) (string, []string) {
	volume := filepath.VolumeName(path) + string(filepath.Separator)
	return volume, strings.FieldsFunc(path[len(volume)-1:], func(r rune) bool { return r == filepath.Separator })
}

// once goes a path until its last name, or until a link, of which it returns where it leads.
func (w *walker) once(path string) (d *Dir, name, next string, err error) {
	begin, names := top(path)
	if !privileged() && len(names) > 0 { // who runs it can do no more by it than without, and may not open every folder on the way
		if real, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
			if begin, names = real, names[len(names)-1:]; w.final {
				if real, err := filepath.EvalSymlinks(path); err == nil {
					begin, names = filepath.Dir(real), []string{filepath.Base(real)}
				}
			}
		}
	}
	root, err := os.OpenRoot(begin)
	if err != nil {
		return nil, "", "", err
	}
	d = &Dir{root, begin}
	for i, name := range names {
		last := i == len(names)-1
		info, err := d.Stat(name)
		if err == nil && info.Mode()&fs.ModeSymlink != 0 && (!last || w.final) {
			next, err := w.link(d, name, info)
			d.Close()
			if err != nil {
				return nil, "", "", &fs.PathError{Op: "open", Path: d.Path(name), Err: err}
			}
			return nil, "", filepath.Join(append([]string{next}, names[i+1:]...)...), nil
		}
		if last {
			return d, name, "", nil
		}
		below, err := w.enter(d, name)
		d.Close()
		if err != nil {
			return nil, "", "", err
		}
		d = below
	}
	return d, "", "", nil
}

// enter opens a folder, and makes it where it is to.
func (w *walker) enter(d *Dir, name string) (*Dir, error) {
	below, err := d.Sub(name)
	if errors.Is(err, fs.ErrNotExist) && w.make != 0 {
		if err := d.Mkdir(name, w.make); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		below, err = d.Sub(name)
	}
	return below, err
}

// link returns where a link leads, and notes whose it is.
func (w *walker) link(d *Dir, name string, info fs.FileInfo) (string, error) {
	if w.links++; w.links > mostLinks {
		return "", syscall.ELOOP
	}
	owner, known := ownerOf(info)
	if privileged() {
		switch {
		case !known:
			return "", ErrLink
		case !trusted(owner):
			w.owners = append(w.owners, owner)
		}
	}
	target, err := d.root.Readlink(name)
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(target) {
		target = filepath.Join(d.path, target)
	}
	return target, nil
}

// owned refuses an end of the way that belongs to somebody else than the links that led there.
func (w *walker) owned(d *Dir, name string) error {
	if len(w.owners) == 0 {
		return nil
	}
	info, err := d.root.Lstat(".")
	if err == nil && name != "" {
		if at, bad := d.Stat(name); bad == nil {
			info = at
		}
	}
	if err != nil {
		return err
	}
	owner, _ := ownerOf(info)
	if slices.ContainsFunc(w.owners, func(o uint32) bool { return o != owner }) {
		return ErrLink
	}
	return nil
}

// whole is an error with the whole path of what stands under a name.
func (d *Dir) whole(name string, err error) error {
	var failed *fs.PathError
	if errors.As(err, &failed) {
		return &fs.PathError{Op: failed.Op, Path: d.Path(name), Err: failed.Err}
	}
	return err
}

// Close lets go of the folder.
func (d *Dir) Close() error { return d.root.Close() }

// Path is the path of the folder, or of what stands in it under a name, without links. It tells people
// what is meant; what is done by it may be done to something else.
func (d *Dir) Path(name string) string { return filepath.Join(d.path, name) }

// Root is the folder as package os knows it, for names of several parts below it. It is closed with d.
func (d *Dir) Root() *os.Root { return d.root }

// Info describes the folder itself.
func (d *Dir) Info() (fs.FileInfo, error) { return d.root.Stat(".") }

// Stat describes what stands under a name: a link itself, and not what it names.
func (d *Dir) Stat(name string) (fs.FileInfo, error) { return d.root.Lstat(name) }

// Sub opens a folder that stands here. A link is none.
func (d *Dir) Sub(name string) (*Dir, error) {
	info, err := d.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: d.Path(name), Err: syscall.ENOTDIR}
	}
	root, err := d.root.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	if now, err := root.Stat("."); err != nil || !os.SameFile(info, now) {
		root.Close()
		return nil, &fs.PathError{Op: "open", Path: d.Path(name), Err: errors.Join(ErrChanged, err)}
	}
	return &Dir{root, d.Path(name)}, nil
}

// File opens what stands under a name, with flags of package os. It opens no link, and does not wait for
// the other end of a pipe. With os.O_CREATE os.O_EXCL must be given too: nothing is made where something
// stands.
func (d *Dir) File(name string, flag int, perm fs.FileMode) (*os.File, fs.FileInfo, error) {
	if flag&os.O_CREATE != 0 {
		f, err := d.root.OpenFile(name, flag|os.O_EXCL, perm)
		if err != nil {
			return nil, nil, d.whole(name, err)
		}
		info, err := f.Stat()
		if err != nil {
			f.Close()
		}
		return f, info, err
	}
	info, err := d.Stat(name)
	if err != nil {
		return nil, nil, err
	}
	if info.Mode()&(fs.ModeSymlink|fs.ModeDevice|fs.ModeSocket) != 0 {
		return nil, info, &fs.PathError{Op: "open", Path: d.Path(name), Err: fs.ErrInvalid}
	}
	f, err := d.root.OpenFile(name, flag|noWait, 0)
	if err != nil {
		return nil, info, d.whole(name, err)
	}
	now, err := f.Stat()
	if err != nil || !os.SameFile(info, now) {
		f.Close()
		return nil, info, &fs.PathError{Op: "open", Path: d.Path(name), Err: errors.Join(ErrChanged, err)}
	}
	return f, now, nil
}

// Entries calls each with what stands in the folder, in the order of the disk, without . and .. .
func (d *Dir) Entries(each func(name string, info fs.FileInfo) error) error {
	f, err := d.root.Open(".")
	if err != nil {
		return err
	}
	defer f.Close()
	for {
		names, err := f.Readdirnames(1000)
		for _, name := range names {
			info, err := d.Stat(name)
			if err != nil {
				continue // gone since
			}
			if err := each(name, info); err != nil {
				return err
			}
		}
		if err != nil || len(names) == 0 {
			if errors.Is(err, os.ErrClosed) || !isEnd(err) {
				return err
			}
			return nil
		}
	}
}

// Mkdir makes a folder.
func (d *Dir) Mkdir(name string, perm fs.FileMode) error {
	return d.whole(name, d.root.Mkdir(name, perm))
}

// Symlink makes a link to target.
func (d *Dir) Symlink(target, name string) error { return d.root.Symlink(target, name) }

// Readlink tells where a link leads.
func (d *Dir) Readlink(name string) (string, error) { return d.root.Readlink(name) }

// Remove removes a file, a link, or an empty folder.
func (d *Dir) Remove(name string) error { return d.whole(name, d.remove(name)) }

// RemoveAll removes what stands under a name, with all below it; a link alone, not what it names.
func (d *Dir) RemoveAll(name string) error { return d.removeAll(name) }

// Link gives a file another name in the same folder, where nothing stands under it.
func (d *Dir) Link(name, other string) error { return d.root.Link(name, other) }

// Times sets when a file was changed last.
func (d *Dir) Times(name string, modified time.Time) error {
	return d.root.Chtimes(name, time.Time{}, modified)
}

// Chmod sets the permission bits of a file, a folder or a pipe that stands under a name.
func (d *Dir) Chmod(name string, mode fs.FileMode) error {
	return d.held(name, func(f *os.File) error { return f.Chmod(mode) }, func() error { return d.root.Chmod(name, mode) })
}

// held does something to what stands under a name, having opened it. Who may not open what is theirs, as
// an agent without privileges may not, does it by the name.
func (d *Dir) held(name string, do func(*os.File) error, byName func() error) error {
	f, _, err := d.File(name, os.O_RDONLY, 0)
	if errors.Is(err, fs.ErrPermission) && !privileged() {
		return byName()
	}
	if err != nil {
		return err
	}
	return errors.Join(do(f), f.Close())
}

// Rename gives what stands under a name in one folder another in the same or another, in place of what
// stands there.
func Rename(from *Dir, name string, to *Dir, other string) error {
	if from.root == to.root {
		var failed *os.LinkError
		err := from.root.Rename(name, other)
		if errors.As(err, &failed) {
			err = &os.LinkError{Op: failed.Op, Old: from.Path(name), New: to.Path(other), Err: failed.Err}
		}
		return err
	}
	a, err := from.root.Open(".")
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := to.root.Open(".")
	if err != nil {
		return err
	}
	defer b.Close()
	if err := rename(a, name, b, other); err != nil {
		return &os.LinkError{Op: "rename", Old: from.Path(name), New: to.Path(other), Err: err}
	}
	return nil
}

// Foreign refuses a folder that somebody else owns or may write to.
func (d *Dir) Foreign() error {
	info, err := d.Info()
	if err != nil {
		return err
	}
	if owner, known := ownerOf(info); known && (owner != uint32(os.Geteuid()) || info.Mode().Perm()&0o022 != 0) {
		return fmt.Errorf("%s belongs to somebody else, or others may write to it: have it removed first", d.path)
	}
	return nil
}
