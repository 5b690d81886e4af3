package files

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// partial begins and ends the names of what is not whole yet.
const (
	partBegin = ".moor-"
	partEnd   = ".part"
)

func partName() string { return partBegin + uuid.NewString() + partEnd }

// Change does an action, and tells of each path that it is done to. One that fails does not keep the
// others from being done.
func (f *Files) Change(ctx context.Context, d link.FileAction, send func(link.FileEvent) error) error {
	do, err := f.action(ctx, d, send)
	if err != nil {
		return err
	}
	done := 0
	for _, path := range d.Paths {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		e := link.FileEvent{Path: path}
		if err := do(path); err != nil {
			e.Error = explain(path, err).Error()
		} else {
			done++
		}
		e.Files = done
		if err := send(e); err != nil {
			return err
		}
	}
	return send(link.FileEvent{Done: true, Files: done})
}

// action returns what an action does to each of its paths.
func (f *Files) action(ctx context.Context, d link.FileAction, send func(link.FileEvent) error) (func(path string) error, error) {
	switch d.Action {
	case link.FileMake:
		return f.makeFolder, nil
	case link.FileRename:
		if len(d.Paths) != 1 {
			return nil, refuse(http.StatusBadRequest, "One thing is renamed at a time.")
		}
		return func(path string) error {
			return f.between(path, d.To, func(from, to spot) error { return f.moveTo(ctx, from, to, d.Replace) })
		}, nil
	case link.FileCopy, link.FileMove:
		folder, err := f.real(d.To)
		if err != nil {
			return nil, err
		}
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return nil, refuse(http.StatusUnprocessableEntity, "%s is no folder.", d.To)
		}
		return func(path string) error { return f.into(ctx, path, folder, d, progress(path, send)) }, nil
	case link.FileRemove:
		return func(path string) error { return f.at(path, f.remove) }, nil
	case link.FileRestore:
		return f.restore, nil
	case link.FilePurge:
		return f.purge, nil
	case link.FilePermit:
		return f.permitter(ctx, d)
	}
	return nil, refuse(http.StatusBadRequest, "There is no action %q.", d.Action)
}

// progress tells how many bytes were copied, at most five times a second.
func progress(path string, send func(link.FileEvent) error) func(n int64) error {
	last := time.Now()
	return func(n int64) error {
		if time.Since(last) < 200*time.Millisecond {
			return nil
		}
		last = time.Now()
		return send(link.FileEvent{Path: path, Bytes: n})
	}
}

func (f *Files) makeFolder(path string) error {
	return f.at(path, func(s spot) error {
		if err := f.named(s.name); err != nil {
			return err
		}
		return s.Mkdir(s.name, 0o755)
	})
}

// into copies or moves something into a folder.
func (f *Files) into(ctx context.Context, path, folder string, d link.FileAction, told func(int64) error) error {
	return f.at(path, func(from spot) error {
		there, err := place.Open(folder)
		if err != nil {
			return err
		}
		defer there.Close()
		to := spot{there, from.name}
		if err := f.mayTouch(to); err != nil {
			return err
		}
		if d.Action == link.FileMove {
			return f.moveTo(ctx, from, to, d.Replace)
		}
		if from.path() == to.path() {
			to.name = beside(to)
		}
		return f.copyTo(ctx, from, to, d.Replace, told)
	})
}

// named refuses a name that the system does not take, or takes for something else.
func (f *Files) named(name string) error {
	if err := transfer.CheckName(name, f.disk.Windows()); err != nil {
		return refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	return nil
}

// beside is a free name for a copy in the same folder.
func beside(s spot) string {
	stem, ext := s.name, filepath.Ext(s.name)
	if ext == s.name {
		ext = "" // a name that begins with its only dot
	}
	stem = strings.TrimSuffix(stem, ext)
	for n := 2; ; n++ {
		name := fmt.Sprintf("%s (%d)%s", stem, n, ext)
		if _, err := s.Stat(name); errors.Is(err, fs.ErrNotExist) {
			return name
		}
	}
}

// clear sees to it that nothing stands at a place: what does goes to the recoverable place when it
// is to be replaced.
func (f *Files) clear(s spot, replace bool) error {
	if err := f.named(s.name); err != nil {
		return err
	}
	_, err := s.Stat(s.name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case !replace:
		return refuse(http.StatusConflict, "%s is there already.", f.shown(s.path()))
	}
	return f.remove(s)
}

// inside tells whether a place is below a folder, by whatever names one comes there: some systems know no
// capitals, and links lead everywhere.
func inside(to, from spot) bool {
	outer, err := from.Stat(from.name)
	if err != nil || !outer.IsDir() {
		return false
	}
	for at := to.Path("."); ; at = filepath.Dir(at) {
		if info, err := os.Stat(at); err == nil && os.SameFile(info, outer) {
			return true
		}
		if at == filepath.Dir(at) {
			return false
		}
	}
}

// respelt tells whether two names of one file differ in capitals alone.
func respelt(from, to spot) bool {
	if !strings.EqualFold(from.path(), to.path()) {
		return false
	}
	old, err := from.Stat(from.name)
	if err != nil {
		return false
	}
	there, err := to.Stat(to.name)
	return err == nil && os.SameFile(old, there)
}

func within(inner, outer string) bool {
	return inner == outer || strings.HasPrefix(inner, strings.TrimSuffix(outer, string(filepath.Separator))+string(filepath.Separator))
}

func (f *Files) moveTo(ctx context.Context, from, to spot, replace bool) error {
	if _, err := from.Stat(from.name); err != nil {
		return err
	}
	if from.path() == to.path() {
		return nil
	}
	if inside(to, from) {
		return refuse(http.StatusUnprocessableEntity, "%s cannot be moved into itself.", f.shown(from.path()))
	}
	var err error
	if respelt(from, to) { // what stands there is the thing itself
		err = f.named(to.name)
	} else {
		err = f.clear(to, replace)
	}
	if err != nil {
		return err
	}
	if err = place.Rename(from.Dir, from.name, to.Dir, to.name); !elsewhere(err) {
		return err
	}
	if err := f.copyTo(ctx, from, to, false, func(int64) error { return nil }); err != nil {
		return err
	}
	return f.remove(from) // it was copied to another disk; what was here can still be had back
}

// copyTo copies a file or a folder with all below it. The copy has its name once it is whole.
func (f *Files) copyTo(ctx context.Context, from, to spot, replace bool, told func(int64) error) error {
	if inside(to, from) {
		return refuse(http.StatusUnprocessableEntity, "%s cannot be copied into itself.", f.shown(from.path()))
	}
	part := spot{to.Dir, partName()}
	defer part.RemoveAll(part.name)
	c := &copier{f: f, ctx: ctx, told: told}
	if err := c.copy(from, part); err != nil {
		return err
	}
	if err := f.clear(to, replace); err != nil {
		return err
	}
	return place.Rename(part.Dir, part.name, to.Dir, to.name)
}

// copier copies what stands at one place to another. Whose it is, and who may do what with it, is told by
// what was opened; a copy is closed to others until all of it is there.
type copier struct {
	f    *Files
	ctx  context.Context
	told func(int64) error
	n    int64
	made fs.FileInfo // the topmost folder that was made: it is not copied into itself
}

func (c *copier) copy(from, to spot) error {
	if c.ctx.Err() != nil {
		return c.ctx.Err()
	}
	info, err := from.Stat(from.name)
	if err != nil {
		return err
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		err = c.folder(from, to)
	case mode&fs.ModeSymlink != 0:
		var target string
		if target, err = from.Readlink(from.name); err == nil {
			err = to.Symlink(target, to.name)
		}
		if err == nil {
			c.f.take(from, info, to)
		}
	case mode.IsRegular():
		err = c.file(from, to)
	default:
		return nil // a pipe or socket is of no use as a copy
	}
	if err == nil {
		err = c.told(c.n)
	}
	return err
}

func (c *copier) folder(from, to spot) error {
	in, err := from.Sub(from.name)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Info()
	if err != nil {
		return err
	}
	if (c.made != nil && os.SameFile(info, c.made)) || c.f.own(info) {
		return nil
	}
	if err := to.Mkdir(to.name, 0o700); err != nil {
		return err
	}
	out, err := to.Sub(to.name)
	if err != nil {
		return err
	}
	defer out.Close()
	if c.made == nil {
		if c.made, err = out.Info(); err != nil {
			return err
		}
	}
	if err := in.Entries(func(name string, _ fs.FileInfo) error { return c.copy(spot{in, name}, spot{out, name}) }); err != nil {
		return err
	}
	if err := to.Chmod(to.name, info.Mode().Perm()|0o700); err != nil {
		return err
	}
	c.f.take(from, info, to)
	return nil
}

func (c *copier) file(from, to spot) error {
	in, info, err := from.File(from.name, os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	out, _, err := to.File(to.name, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	n, err := copyUntil(c.ctx, out, in)
	c.n += n
	if err == nil {
		err = out.Chmod(info.Mode().Perm())
	}
	if err = errors.Join(err, out.Close()); err == nil {
		err = to.Times(to.name, info.ModTime())
	}
	if err == nil {
		c.f.take(from, info, to)
	}
	return err
}

var mays = []string{link.MayNothing, link.MayRead, link.MayChange, link.MayAll, link.MayInherited}

// permitter returns what sets bits, owner and access.
func (f *Files) permitter(ctx context.Context, d link.FileAction) (func(path string) error, error) {
	var mode fs.FileMode
	if d.Bits != "" {
		n, err := strconv.ParseUint(d.Bits, 8, 12)
		if err != nil {
			return nil, refuse(http.StatusBadRequest, "%q are no permission bits: write them as 0644.", d.Bits)
		}
		mode = fs.FileMode(n & 0o777)
		for bit, m := range map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
			if n&bit != 0 {
				mode |= m
			}
		}
	}
	lists := d.Who != "" || d.May != ""
	switch {
	case lists && (d.Who == "" || !slices.Contains(mays, d.May)):
		return nil, refuse(http.StatusBadRequest, "Name an account, and what it may do: %s.", strings.Join(mays, ", "))
	case lists && d.Deep:
		return nil, refuse(http.StatusBadRequest, "What is below a folder takes over who may do what: it is set at the folder alone.")
	}
	one := func(s spot, info fs.FileInfo) error {
		if lists {
			if err := f.disk.Let(s.Dir, s.name, d.Who, d.May); err != nil {
				return refuse(http.StatusUnprocessableEntity, "%v", err)
			}
		}
		if d.Owner != "" || d.Group != "" {
			if err := f.disk.SetOwner(s.Dir, s.name, d.Owner, d.Group); err != nil {
				return refuse(http.StatusUnprocessableEntity, "%v", err)
			}
		}
		if d.Bits == "" || info.Mode()&fs.ModeSymlink != 0 {
			return nil
		}
		return s.Chmod(s.name, mode)
	}
	return func(path string) error {
		return f.at(path, func(s spot) error {
			if d.Deep {
				return f.below(ctx, s, one)
			}
			info, err := s.Stat(s.name)
			if err != nil {
				return err
			}
			return one(s, info)
		})
	}, nil
}

// below does something to what stands at a place and, before that, to all below it.
func (f *Files) below(ctx context.Context, s spot, one func(spot, fs.FileInfo) error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	info, err := s.Stat(s.name)
	if err != nil {
		return err
	}
	if info.IsDir() && !f.own(info) {
		in, err := s.Sub(s.name)
		if err != nil {
			return err
		}
		err = in.Entries(func(name string, _ fs.FileInfo) error { return f.below(ctx, spot{in, name}, one) })
		in.Close()
		if err != nil {
			return err
		}
	}
	if f.own(info) {
		return nil
	}
	return one(s, info)
}
