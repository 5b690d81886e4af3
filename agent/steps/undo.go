package steps

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	disk "moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/work"
)

// back is what it takes to undo a step.
type back struct {
	// Put moves a file or folder back to its place; Away removes what stands there before.
	Put     string              `json:"put,omitempty"` // real path of what was moved aside
	Place   string              `json:"place,omitempty"`
	Argv    []string            `json:"argv,omitempty"`
	Service *link.ServiceAction `json:"service,omitempty"`
	Setting *link.SettingAction `json:"setting,omitempty"`
	Remove  string              `json:"remove,omitempty"` // a piece of software
}

func (b back) text() string {
	t, _ := json.Marshal(b) // of texts
	return string(t)
}

func (r *doing) undoBy(s work.Step) string {
	if len(s.Undo) == 0 {
		return ""
	}
	return back{Argv: s.Undo}.text()
}

// asidePrefix begins the names of what was moved aside, so that it can be put back.
const asidePrefix = ".moor-aside-"

// moveAside moves what stands under a name out of the way; "" where nothing does.
func moveAside(in *disk.Dir, name string) (aside string, err error) {
	if _, err := in.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	aside = asidePrefix + rand.Text()[:12]
	return aside, disk.Rename(in, name, in, aside)
}

// clearAside moves what stands at a place out of the way, and returns where it is then.
func clearAside(real string) (aside string, err error) {
	in, name, err := disk.Parent(real)
	if err != nil {
		return "", err
	}
	defer in.Close()
	if aside, err = moveAside(in, name); aside != "" {
		aside = in.Path(aside)
	}
	return aside, err
}

// place writes a file whole to its place, moving aside what stands there.
func place(real string, from io.Reader, mode fs.FileMode) (undo string, err error) {
	in, err := disk.Make(filepath.Dir(real), 0o755)
	if err != nil {
		return "", err
	}
	defer in.Close()
	name, part := filepath.Base(real), asidePrefix+rand.Text()[:12]
	f, _, err := in.File(part, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer in.Remove(part) // once it has its name, there is none
	_, err = io.Copy(f, from)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return "", err
	}
	b := back{Place: real}
	aside, err := moveAside(in, name)
	if err == nil {
		if err = disk.Rename(in, part, in, name); err != nil && aside != "" {
			err = errors.Join(err, disk.Rename(in, aside, in, name))
		}
	}
	if aside != "" {
		b.Put = in.Path(aside)
	}
	return b.text(), err
}

// removeAll removes what stands at a place, with all below it.
func removeAll(real string) error {
	in, name, err := disk.Parent(real)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(in.RemoveAll(name), in.Close())
}

// back undoes a step.
func (r *doing) back(ctx context.Context, text string) error {
	var b back
	if err := json.Unmarshal([]byte(text), &b); err != nil {
		return err
	}
	switch {
	case b.Place != "":
		if err := removeAll(b.Place); err != nil || b.Put == "" {
			return err
		}
		in, name, err := disk.Parent(b.Place)
		if err != nil {
			return err
		}
		defer in.Close()
		return disk.Rename(in, filepath.Base(b.Put), in, name) // it was put beside
	case len(b.Argv) > 0:
		exit := r.exit
		defer func() { r.exit = exit }()
		return r.program(ctx, work.Step{}, b.Argv)
	case b.Service != nil:
		_, err := r.Host.Services.Do(ctx, *b.Service)
		return err
	case b.Setting != nil:
		_, err := r.Host.Settings.Do(ctx, *b.Setting)
		return err
	case b.Remove != "":
		return r.Host.Software.Remove(ctx, b.Remove, r.out)
	}
	return nil
}

// Tidy removes what steps that ended well moved aside.
func Tidy(p *Progress) {
	for _, text := range p.Steps.Backs {
		var b back
		if json.Unmarshal([]byte(text), &b) == nil && b.Put != "" {
			removeAll(b.Put)
		}
	}
}
