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

	"moorwatch.example/contract/link"
	"moorwatch.example/core/work"
)

// back is what it takes to undo a step.
type back struct {
	// Put moves a file or folder back to its place; Away removes what stands there before.
	Put     string            `json:"put,omitempty"` // real path of what was moved aside
	Place   string            `json:"place,omitempty"`
	Argv    []string          `json:"argv,omitempty"`
	Service *link.ServiceDeed `json:"service,omitempty"`
	Setting *link.SettingDeed `json:"setting,omitempty"`
	Remove  string            `json:"remove,omitempty"` // a piece of software
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

// moveAside moves what stands at a place out of the way; "" where nothing does.
func moveAside(real string) (aside string, err error) {
	if _, err := os.Lstat(real); errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	aside = filepath.Join(filepath.Dir(real), asidePrefix+rand.Text()[:12])
	return aside, os.Rename(real, aside)
}

// place writes a file whole to its place, moving aside what stands there.
func place(real string, from io.Reader, mode fs.FileMode) (undo string, err error) {
	if err := os.MkdirAll(filepath.Dir(real), 0o755); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(filepath.Dir(real), asidePrefix)
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name()) // once it has its name, there is none
	_, err = io.Copy(f, from)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return "", err
	}
	aside, err := moveAside(real)
	if err == nil {
		if err = os.Rename(f.Name(), real); err != nil && aside != "" {
			err = errors.Join(err, os.Rename(aside, real))
		}
	}
	return back{Put: aside, Place: real}.text(), err
}

// back undoes a step.
func (r *doing) back(ctx context.Context, text string) error {
	var b back
	if err := json.Unmarshal([]byte(text), &b); err != nil {
		return err
	}
	switch {
	case b.Place != "":
		if err := os.RemoveAll(b.Place); err != nil || b.Put == "" {
			return err
		}
		return os.Rename(b.Put, b.Place)
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
	for _, text := range p.Course.Backs {
		var b back
		if json.Unmarshal([]byte(text), &b) == nil && b.Put != "" {
			os.RemoveAll(b.Put)
		}
	}
}
