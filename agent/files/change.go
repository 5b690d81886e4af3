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

	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// partial begins and ends the names of what is not whole yet.
const (
	partBegin = ".moor-"
	partEnd   = ".part"
)

func partName() string { return partBegin + uuid.NewString() + partEnd }

// part makes a new file in a folder, under a name that says that it is not whole.
func (f *Files) part(folder string) (*os.File, error) {
	return os.OpenFile(filepath.Join(folder, partName()), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
}

// Change does a deed, and tells of each path that it is done to. One that fails does not keep the
// others from being done.
func (f *Files) Change(ctx context.Context, d link.FileDeed, send func(link.FileEvent) error) error {
	do, err := f.deed(ctx, d, send)
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

// deed returns what a deed does to each of its paths.
func (f *Files) deed(ctx context.Context, d link.FileDeed, send func(link.FileEvent) error) (func(path string) error, error) {
	switch d.Deed {
	case link.FileMake:
		return f.makeFolder, nil
	case link.FileRename:
		if len(d.Paths) != 1 {
			return nil, refuse(http.StatusBadRequest, "One thing is renamed at a time.")
		}
		return func(path string) error {
			from, err := f.real(path)
			if err != nil {
				return err
			}
			to, err := f.real(d.To)
			if err != nil {
				return err
			}
			return f.moveTo(from, to, d.Replace)
		}, nil
	case link.FileCopy, link.FileMove:
		folder, err := f.real(d.To)
		if err != nil {
			return nil, err
		}
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return nil, refuse(http.StatusUnprocessableEntity, "%s is no folder.", d.To)
		}
		return func(path string) error {
			from, err := f.real(path)
			if err != nil {
				return err
			}
			to := filepath.Join(folder, filepath.Base(from))
			if d.Deed == link.FileMove {
				return f.moveTo(from, to, d.Replace)
			}
			if from == to {
				to = beside(to)
			}
			return f.copyTo(ctx, from, to, d.Replace, progress(path, send))
		}, nil
	case link.FileRemove:
		return func(path string) error {
			real, err := f.real(path)
			if err != nil {
				return err
			}
			_, err = f.remove(real)
			return err
		}, nil
	case link.FileRestore:
		return f.restore, nil
	case link.FilePurge:
		return f.purge, nil
	case link.FilePermit:
		return f.permitter(ctx, d)
	}
	return nil, refuse(http.StatusBadRequest, "There is no deed %q.", d.Deed)
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
	real, err := f.real(path)
	if err == nil {
		err = f.named(real)
	}
	if err == nil {
		err = os.Mkdir(real, 0o755)
	}
	return err
}

// named refuses a name that the system does not take, or takes for something else.
func (f *Files) named(real string) error {
	if err := transfer.CheckName(filepath.Base(real), f.disk.Windows()); err != nil {
		return refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	return nil
}

// beside is a free name for a copy in the same folder.
func beside(real string) string {
	stem, ext := real, filepath.Ext(real)
	if base := filepath.Base(real); ext == base {
		ext = "" // a name that begins with its only dot
	}
	stem = strings.TrimSuffix(stem, ext)
	for n := 2; ; n++ {
		name := fmt.Sprintf("%s (%d)%s", stem, n, ext)
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			return name
		}
	}
}

// clear sees to it that nothing stands at a place: what does goes to the recoverable place when it
// is to be replaced.
func (f *Files) clear(real string, replace bool) error {
	if err := f.named(real); err != nil {
		return err
	}
	_, err := os.Lstat(real)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case !replace:
		return refuse(http.StatusConflict, "%s is there already.", f.shown(real))
	}
	_, err = f.remove(real)
	return err
}

// inside tells whether a place is below a folder, by whatever names one comes there: some systems know no
// capitals, and links lead everywhere.
func inside(place, folder string) bool {
	outer, err := os.Lstat(folder)
	if err != nil || !outer.IsDir() {
		return false
	}
	at := filepath.Dir(place)
	if real, err := filepath.EvalSymlinks(at); err == nil {
		at = real
	}
	for {
		if info, err := os.Stat(at); err == nil && os.SameFile(info, outer) {
			return true
		}
		up := filepath.Dir(at)
		if up == at {
			return false
		}
		at = up
	}
}

// respelt tells whether two names of one file differ in capitals alone.
func respelt(from, to string) bool {
	if !strings.EqualFold(from, to) {
		return false
	}
	old, err := os.Lstat(from)
	if err != nil {
		return false
	}
	there, err := os.Lstat(to)
	return err == nil && os.SameFile(old, there)
}

func within(inner, outer string) bool {
	return inner == outer || strings.HasPrefix(inner, strings.TrimSuffix(outer, string(filepath.Separator))+string(filepath.Separator))
}

func (f *Files) moveTo(from, to string, replace bool) error {
	if _, err := os.Lstat(from); err != nil {
		return err
	}
	if from == to {
		return nil
	}
	if inside(to, from) {
		return refuse(http.StatusUnprocessableEntity, "%s cannot be moved into itself.", f.shown(from))
	}
	var err error
	if respelt(from, to) { // what stands there is the thing itself
		err = f.named(to)
	} else {
		err = f.clear(to, replace)
	}
	if err != nil {
		return err
	}
	if err = os.Rename(from, to); !elsewhere(err) {
		return err
	}
	if err := f.copyTo(context.Background(), from, to, false, func(int64) error { return nil }); err != nil {
		return err
	}
	_, err = f.remove(from) // it was copied to another disk; what was here can still be had back
	return err
}

// copyTo copies a file or a folder with all below it. The copy has its name once it is whole.
func (f *Files) copyTo(ctx context.Context, from, to string, replace bool, told func(int64) error) error {
	if inside(to, from) {
		return refuse(http.StatusUnprocessableEntity, "%s cannot be copied into itself.", f.shown(from))
	}
	part := filepath.Join(filepath.Dir(to), partName())
	defer os.RemoveAll(part)
	var n int64
	err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		k, err := f.copyOne(ctx, path, filepath.Join(part, rel), d)
		if n += k; err == nil {
			err = told(n)
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := f.clear(to, replace); err != nil {
		return err
	}
	return os.Rename(part, to)
}

func (f *Files) copyOne(ctx context.Context, from, to string, d fs.DirEntry) (int64, error) {
	info, err := d.Info()
	if err != nil {
		return 0, err
	}
	defer f.take(from, info, to)
	switch {
	case d.IsDir():
		return 0, os.Mkdir(to, info.Mode().Perm()|0o700)
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(from)
		if err == nil {
			err = os.Symlink(target, to)
		}
		return 0, err
	case !info.Mode().IsRegular():
		return 0, nil // a pipe or socket is of no use as a copy
	}
	in, _, err := f.open(f.shown(from))
	if err != nil {
		return 0, err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm())
	if err != nil {
		return 0, err
	}
	n, err := copyUntil(ctx, out, in)
	if err = errors.Join(err, out.Close()); err == nil {
		err = os.Chtimes(to, time.Time{}, info.ModTime())
	}
	return n, err
}

var mays = []string{link.MayNothing, link.MayRead, link.MayChange, link.MayAll, link.MayInherited}

// permitter returns what sets bits, owner and access.
func (f *Files) permitter(ctx context.Context, d link.FileDeed) (func(path string) error, error) {
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
	one := func(real string, info fs.FileInfo) error {
		if lists {
			if err := f.disk.Let(real, d.Who, d.May); err != nil {
				return refuse(http.StatusUnprocessableEntity, "%v", err)
			}
		}
		if d.Owner != "" || d.Group != "" {
			if err := f.disk.SetOwner(real, d.Owner, d.Group); err != nil {
				return refuse(http.StatusUnprocessableEntity, "%v", err)
			}
		}
		if d.Bits == "" || info.Mode()&fs.ModeSymlink != 0 {
			return nil
		}
		return os.Chmod(real, mode)
	}
	return func(path string) error {
		real, err := f.real(path)
		if err != nil {
			return err
		}
		info, err := os.Lstat(real)
		if err != nil {
			return err
		}
		if !d.Deep {
			return one(real, info)
		}
		return filepath.WalkDir(real, func(p string, e fs.DirEntry, err error) error {
			if err != nil || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			info, err := e.Info()
			if err != nil {
				return err
			}
			return one(p, info)
		})
	}, nil
}
