package files

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
)

// The recoverable place of each disk is laid out as the freedesktop.org Trash specification 1.0
// has it, at the top of the disk, so that the device's own desktop can show and empty it. The
// agent notes in its own folder what it put there.

// buried is a note of something in the recoverable place.
type buried struct {
	link.Removed
	Real  string `json:"real"`  // where it was
	Place string `json:"place"` // the recoverable place's own folder
	Gone  bool   `json:"gone,omitempty"`
}

// The folders of the recoverable place.
const (
	keptFolder = "files"
	noteFolder = "info"
)

func (b buried) note() string { return b.ID + ".trashinfo" }

// binName is the name of the recoverable place of the agent's account.
func binName() string { return ".Trash-" + strconv.Itoa(max(os.Getuid(), 0)) }

// bin is an open recoverable place.
type bin struct{ kept, notes *place.Dir }

func (b *bin) Close() error { return errors.Join(b.kept.Close(), b.notes.Close()) }

// openBin opens a recoverable place, and makes it where it is to. It refuses one that is a link or that
// somebody else made: they could put it in front of any folder.
func (f *Files) openBin(path string, makeIt bool) (*bin, error) {
	top, name, err := place.Parent(path)
	if err != nil {
		return nil, err
	}
	defer top.Close()
	if makeIt {
		if err := top.Mkdir(name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
	}
	if err := f.disk.Seclude(top, name); err != nil { // it may hold what only one person could read
		return nil, err
	}
	at, err := top.Sub(name)
	if err != nil {
		return nil, err
	}
	defer at.Close()
	b := &bin{}
	for folder, to := range map[string]**place.Dir{keptFolder: &b.kept, noteFolder: &b.notes} {
		if makeIt {
			if err := at.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
				return nil, err
			}
		}
		if *to, err = at.Sub(folder); err == nil {
			err = (*to).Foreign()
		}
		if err != nil {
			for _, d := range []*place.Dir{b.kept, b.notes} {
				if d != nil {
					d.Close()
				}
			}
			return nil, err
		}
	}
	return b, nil
}

// remove takes something to the recoverable place of its disk.
func (f *Files) remove(s spot) error {
	info, err := s.Stat(s.name)
	if err != nil {
		return err
	}
	real := s.path()
	top, err := f.disk.Top(filepath.Dir(real))
	if err != nil {
		return err
	}
	if within(top, real) {
		return refuse(http.StatusUnprocessableEntity, "%s is a whole disk.", f.shown(real))
	}
	e := f.entry(real, info)
	b := buried{Removed: link.Removed{ID: uuid.NewString(), Path: f.shown(real), At: time.Now(), Kind: e.Kind, Size: e.Size}, Real: real,
		Place: filepath.Join(top, binName())}
	if within(real, b.Place) || within(b.Place, real) {
		return refuse(http.StatusUnprocessableEntity, "%s holds what was removed: restore it, or remove it for good.", f.shown(real))
	}
	bin, err := f.openBin(b.Place, true)
	if err != nil {
		return refuse(http.StatusConflict, "What is removed from this disk cannot be kept: %v.", err)
	}
	defer bin.Close()
	text := "[Trash Info]\nPath=" + (&url.URL{Path: real}).EscapedPath() + "\nDeletionDate=" + b.At.Format("2006-01-02T15:04:05") + "\n"
	note, _, err := bin.notes.File(b.note(), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = note.WriteString(text)
	if err = errors.Join(err, note.Close()); err == nil {
		err = f.noteRemoved(b)
	}
	if err != nil {
		return errors.Join(err, bin.notes.Remove(b.note()))
	}
	if err := place.Rename(s.Dir, s.name, bin.kept, b.ID); err != nil {
		b.Gone = true
		return errors.Join(err, bin.notes.Remove(b.note()), f.noteRemoved(b))
	}
	return nil
}

func (f *Files) noteRemoved(b buried) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	file, err := os.OpenFile(filepath.Join(f.dir, "removed.jsonl"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(json.NewEncoder(file).Encode(b), file.Close())
}

// removed reads what the agent removed and is still there.
func (f *Files) removed() (map[string]buried, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := map[string]buried{}
	file, err := os.Open(filepath.Join(f.dir, "removed.jsonl"))
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 256<<10)
	for lines.Scan() {
		var b buried
		if json.Unmarshal(lines.Bytes(), &b) != nil {
			continue // cut off by a crash
		}
		if b.Gone {
			delete(all, b.ID)
		} else {
			all[b.ID] = b
		}
	}
	for id, b := range all {
		if _, err := os.Lstat(filepath.Join(b.Place, keptFolder, b.ID)); err != nil {
			delete(all, id) // emptied by somebody at the device
		}
	}
	return all, lines.Err()
}

// Removed lists what can be restored, the latest 1,000.
func (f *Files) Removed(context.Context, struct{}) (link.RemovedList, error) {
	all, err := f.removed()
	if err != nil {
		return link.RemovedList{}, err
	}
	list := link.RemovedList{Items: []link.Removed{}}
	for _, b := range all {
		list.Items = append(list.Items, b.Removed)
	}
	slices.SortFunc(list.Items, func(a, b link.Removed) int { return b.At.Compare(a.At) })
	list.Items = list.Items[:min(len(list.Items), 1000)]
	return list, nil
}

func (f *Files) find(id string) (buried, error) {
	all, err := f.removed()
	if err != nil {
		return buried{}, err
	}
	b, ok := all[id]
	if !ok {
		return b, refuse(http.StatusNotFound, "This is not among what was removed any more.")
	}
	return b, nil
}

func (f *Files) restore(id string) error {
	b, err := f.find(id)
	if err != nil {
		return err
	}
	bin, err := f.openBin(b.Place, false)
	if err != nil {
		return err
	}
	defer bin.Close()
	to, err := place.Make(filepath.Dir(b.Real), 0o755)
	if err != nil {
		return err
	}
	defer to.Close()
	name := filepath.Base(b.Real)
	if _, err := to.Stat(name); err == nil {
		return refuse(http.StatusConflict, "Something else stands at %s now: move that first.", b.Path)
	}
	if err := place.Rename(bin.kept, b.ID, to, name); err != nil {
		return err
	}
	b.Gone = true
	return errors.Join(bin.notes.Remove(b.note()), f.noteRemoved(b))
}

func (f *Files) purge(id string) error {
	b, err := f.find(id)
	if err != nil {
		return err
	}
	bin, err := f.openBin(b.Place, false)
	if err != nil {
		return err
	}
	defer bin.Close()
	if err := bin.kept.RemoveAll(b.ID); err != nil {
		return err
	}
	b.Gone = true
	return errors.Join(bin.notes.Remove(b.note()), f.noteRemoved(b))
}
