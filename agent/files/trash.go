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

func (b buried) kept() string { return filepath.Join(b.Place, "files", b.ID) }
func (b buried) note() string { return filepath.Join(b.Place, "info", b.ID+".trashinfo") }

// remove takes something to the recoverable place of its disk.
func (f *Files) remove(real string) (buried, error) {
	info, err := os.Lstat(real)
	if err != nil {
		return buried{}, err
	}
	top, err := f.disk.Top(filepath.Dir(real))
	if err != nil {
		return buried{}, err
	}
	if within(top, real) {
		return buried{}, refuse(http.StatusUnprocessableEntity, "%s is a whole disk.", f.shown(real))
	}
	e := f.entry(real, info)
	b := buried{Removed: link.Removed{ID: uuid.NewString(), Path: f.shown(real), At: time.Now(), Kind: e.Kind, Size: e.Size}, Real: real,
		Place: filepath.Join(top, ".Trash-"+strconv.Itoa(max(os.Getuid(), 0)))}
	if within(real, b.Place) || within(b.Place, real) {
		return buried{}, refuse(http.StatusUnprocessableEntity, "%s holds what was removed: restore it, or remove it for good.", f.shown(real))
	}
	for _, folder := range []string{filepath.Dir(b.kept()), filepath.Dir(b.note())} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return buried{}, err
		}
	}
	if err := f.disk.Seclude(b.Place); err != nil { // it may hold what only one person could read
		return buried{}, err
	}
	text := "[Trash Info]\nPath=" + (&url.URL{Path: real}).EscapedPath() + "\nDeletionDate=" + b.At.Format("2006-01-02T15:04:05") + "\n"
	if err := os.WriteFile(b.note(), []byte(text), 0o600); err != nil {
		return buried{}, err
	}
	if err := f.noteRemoved(b); err != nil {
		return buried{}, errors.Join(err, os.Remove(b.note()))
	}
	if err := os.Rename(real, b.kept()); err != nil {
		b.Gone = true
		return buried{}, errors.Join(err, os.Remove(b.note()), f.noteRemoved(b))
	}
	return b, nil
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
		if _, err := os.Lstat(b.kept()); err != nil {
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
	if _, err := os.Lstat(b.Real); err == nil {
		return refuse(http.StatusConflict, "Something else stands at %s now: move that first.", b.Path)
	}
	if err := os.MkdirAll(filepath.Dir(b.Real), 0o755); err != nil {
		return err
	}
	if err := os.Rename(b.kept(), b.Real); err != nil {
		return err
	}
	b.Gone = true
	return errors.Join(os.Remove(b.note()), f.noteRemoved(b))
}

func (f *Files) purge(id string) error {
	b, err := f.find(id)
	if err != nil {
		return err
	}
	if err := os.RemoveAll(b.kept()); err != nil {
		return err
	}
	b.Gone = true
	return errors.Join(os.Remove(b.note()), f.noteRemoved(b))
}
