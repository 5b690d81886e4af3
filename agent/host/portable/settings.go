package portable

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"moorwatch.example/agent/host"
	on "moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/settings"
)

// Settings implements host.Settings over what Linux keeps in files: the kernel's parameters below
// /proc/sys (proc(5)) and the configuration files below /etc.
type Settings struct {
	Disk host.Disk
}

// The stores.
const (
	kernelStore = "kernel"
	filesStore  = "configuration"
)

// keptParameters is where kernel parameters stand that are set at each start (sysctl.d(5)).
const keptParameters = "/etc/sysctl.d/90-moorwatch.conf"

// mostValue is how much of a kernel parameter is read, in bytes.
const mostValue = 64 << 10

func problem(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// unlike is what a failure to open a setting means.
func unlike(what string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return problem(http.StatusNotFound, "there is no %s", what)
	case errors.Is(err, fs.ErrPermission):
		return problem(http.StatusConflict, "%s cannot be opened: the agent lacks the right", what)
	}
	return problem(http.StatusConflict, "%s cannot be opened: %v", what, err)
}

// List implements host.Settings.
func (s Settings) List(ctx context.Context, at link.SettingsAt) (link.SettingPage, error) {
	out := link.SettingPage{Path: at.Path, Items: []link.Setting{}}
	if len(at.Path) == 0 {
		out.Path = []string{}
		out.Items = append(out.Items, link.Setting{Name: filesStore, Folder: true, About: "Configuration files below /etc"},
			link.Setting{Name: kernelStore, Folder: true, About: "Parameters of the running kernel, below /proc/sys"},
			link.Setting{Name: powerStore, Folder: true, About: "Power plan and the processors' clock"})
		return out, nil
	}
	if at.Path[0] == powerStore && len(at.Path) == 1 {
		var err error
		out.Items, err = s.powerFolder()
		return out, err
	}
	root, err := s.open(at.Path[0])
	if err != nil {
		return out, err
	}
	defer root.Close()
	if at.Path[0] == kernelStore {
		out.Keeps = "It is set at each start, by " + keptParameters
		out.Items, err = kernelFolder(root, at.Path[1:])
		return out, err
	}
	folder, file, section, err := s.locate(root, at.Path[1:])
	if err != nil {
		return out, err
	}
	if file == "" {
		out.Items, err = configFolder(ctx, root, folder)
		return out, err
	}
	d, _, err := document(root, file)
	if err != nil {
		return out, err
	}
	out.Types = []string{link.SettingText, link.SettingList}
	inFile := section == nil
	if inFile {
		section = new("")
		for _, name := range d.Sections() {
			if name != "" {
				out.Items = append(out.Items, link.Setting{Name: name, Folder: true, About: "section"})
			}
		}
	} else if !slices.Contains(d.Sections(), *section) {
		return out, problem(http.StatusNotFound, "there is no section %s in the file", *section)
	}
	for _, e := range d.Entries(*section) {
		out.Items = append(out.Items, value(e))
	}
	return out, nil
}

func value(e settings.Entry) link.Setting {
	v := link.Setting{Name: e.Key, Type: link.SettingText, Value: strings.Join(e.Values, "\n")}
	if len(e.Values) > 1 {
		v.Type = link.SettingList
	}
	return v
}

func (s Settings) open(store string) (*os.Root, error) {
	place, ok := map[string]string{kernelStore: "/proc/sys", filesStore: "/etc"}[store]
	if !ok {
		return nil, problem(http.StatusNotFound, "there is no store %q: they are %s, %s and %s", store, filesStore, kernelStore, powerStore)
	}
	real, err := s.Disk.Real(place)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(real)
	if err != nil {
		return nil, unlike(place, err)
	}
	return root, nil
}

// inside joins the names of a path, each of which must be one.
func inside(path []string) (string, error) {
	for _, name := range path {
		if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
			return "", problem(http.StatusBadRequest, "%q is no name of a setting", name)
		}
	}
	return cmp.Or(filepath.Join(path...), "."), nil
}

func kernelFolder(root *os.Root, path []string) ([]link.Setting, error) {
	folder, err := inside(path)
	if err != nil {
		return nil, err
	}
	entries, err := fs.ReadDir(root.FS(), folder)
	if err != nil {
		return nil, unlike(strings.Join(path, "."), err)
	}
	items := []link.Setting{}
	for _, e := range entries {
		one := link.Setting{Name: e.Name(), Folder: e.IsDir()}
		if !e.IsDir() {
			info, err := e.Info()
			if err != nil {
				continue
			}
			one.ReadOnly = info.Mode()&0o200 == 0
			if info.Mode()&0o400 == 0 && info.Mode()&0o200 != 0 {
				one.Type, one.Problem = link.SettingText, "it can be written alone"
			} else if one.Value, err = kernelValue(root, filepath.Join(folder, e.Name())); err != nil {
				one.Type, one.Problem = link.SettingText, err.Error()
			} else {
				one.Type = typeOf(one.Value)
			}
		}
		items = append(items, one)
	}
	slices.SortFunc(items, byFolder)
	return items, nil
}

func byFolder(a, b link.Setting) int {
	if a.Folder != b.Folder {
		return map[bool]int{true: -1, false: 1}[a.Folder]
	}
	return cmp.Compare(a.Name, b.Name)
}

func typeOf(value string) string {
	if _, err := strconv.ParseInt(value, 10, 64); err == nil {
		return link.SettingNumber
	}
	return link.SettingText
}

func kernelValue(root *os.Root, name string) (string, error) {
	f, err := root.Open(name)
	if err != nil {
		return "", unlike(filepath.Base(name), err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, mostValue))
	if err != nil {
		return "", problem(http.StatusConflict, "it cannot be read: %v", errors.Unwrap(err))
	}
	return strings.TrimRight(string(text), "\n"), nil
}

// locate finds what a path below /etc names: a folder, or a file and perhaps a section of it.
func (s Settings) locate(root *os.Root, path []string) (folder, file string, section *string, err error) {
	for n := len(path); n >= max(0, len(path)-1); n-- {
		name, err := inside(path[:n])
		if err != nil {
			if n == len(path) {
				continue // a section may have any name
			}
			return "", "", nil, err
		}
		info, err := root.Stat(name)
		switch {
		case err != nil && n < len(path):
			return "", "", nil, unlike(strings.Join(path, "/"), err)
		case err != nil:
		case info.IsDir() && n == len(path):
			return name, "", nil, nil
		case info.Mode().IsRegular():
			if n < len(path) {
				section = &path[n]
			}
			return "", name, section, nil
		}
	}
	return "", "", nil, problem(http.StatusNotFound, "there is no %s below /etc", strings.Join(path, "/"))
}

func configFolder(ctx context.Context, root *os.Root, folder string) ([]link.Setting, error) {
	entries, err := fs.ReadDir(root.FS(), filepath.ToSlash(folder))
	if err != nil {
		return nil, unlike(folder, err)
	}
	items := []link.Setting{}
	for _, e := range entries {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		name := filepath.Join(folder, e.Name())
		info, err := root.Stat(name) // a link that leads out of /etc is no part of it
		switch {
		case err != nil:
		case info.IsDir():
			items = append(items, link.Setting{Name: e.Name(), Folder: true})
		case info.Mode().IsRegular() && info.Size() <= settings.MaxFile:
			if d, _, err := document(root, name); err == nil {
				n := 0
				for _, section := range d.Sections() {
					n += len(d.Entries(section))
				}
				items = append(items, link.Setting{Name: e.Name(), Folder: true, About: fmt.Sprintf("file, %d settings", n)})
			}
		}
	}
	return items, nil
}

func document(root *os.Root, name string) (*settings.Document, fs.FileInfo, error) {
	f, err := root.Open(name)
	if err != nil {
		return nil, nil, unlike(name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil, nil, problem(http.StatusConflict, "%s is no file", name)
	}
	text, err := io.ReadAll(io.LimitReader(f, settings.MaxFile+1))
	if err != nil {
		return nil, nil, unlike(name, err)
	}
	d, err := settings.Parse(name, text)
	if err != nil {
		return nil, nil, problem(http.StatusConflict, "%s: %v", name, err)
	}
	return d, info, nil
}

// Search implements host.Settings.
func (s Settings) Search(ctx context.Context, q link.SettingSearch, send func(link.SettingFound) error) error {
	return SearchSettings(ctx, s.List, q, send)
}

// Do implements host.Settings.
func (s Settings) Do(_ context.Context, d link.SettingAction) (link.Outcome, error) {
	if len(d.Path) == 0 || d.Name == "" {
		return link.Outcome{}, problem(http.StatusBadRequest, "name the setting and its folder")
	}
	if d.Path[0] == powerStore {
		return s.setPower(d)
	}
	root, err := s.open(d.Path[0])
	if err != nil {
		return link.Outcome{}, err
	}
	defer root.Close()
	if d.Path[0] == kernelStore {
		return s.setKernel(root, d)
	}
	return s.setFile(root, d)
}

// Changed refuses an action to a setting that is not as the technician saw it. there is false where it
// is not there.
func Changed(d link.SettingAction, is string, there bool) error {
	switch {
	case d.Any:
	case there && d.Was == nil:
		return problem(http.StatusConflict, "%s is there by now: it is %q. Look again", d.Name, is)
	case there && *d.Was != is:
		return problem(http.StatusConflict, "%s changed meanwhile: it is %q, and was %q. Look again", d.Name, is, *d.Was)
	case !there && d.Was != nil:
		return problem(http.StatusConflict, "%s is not there any more. Look again", d.Name)
	}
	return nil
}

func (s Settings) setKernel(root *os.Root, d link.SettingAction) (link.Outcome, error) {
	dotted := strings.Join(append(slices.Clone(d.Path[1:]), d.Name), ".")
	name, err := inside(append(slices.Clone(d.Path[1:]), d.Name))
	if err != nil {
		return link.Outcome{}, err
	}
	if d.Action != link.SettingSet {
		return link.Outcome{}, problem(http.StatusConflict, "a kernel parameter cannot be removed, only set")
	}
	old, err := kernelValue(root, name)
	if err != nil {
		return link.Outcome{}, err
	}
	if err := Changed(d, old, true); err != nil {
		return link.Outcome{}, err
	}
	f, err := root.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return link.Outcome{}, unlike(dotted, err)
	}
	_, err = f.WriteString(d.Value + "\n")
	if err = errors.Join(err, f.Close()); err != nil {
		return link.Outcome{}, problem(http.StatusConflict, "the kernel does not take %q for %s", d.Value, dotted)
	}
	is, err := kernelValue(root, name)
	if err != nil {
		return link.Outcome{}, err
	}
	if strings.Join(strings.Fields(is), " ") != strings.Join(strings.Fields(d.Value), " ") {
		return link.Outcome{}, problem(http.StatusConflict, "the kernel made %q of it: %s is that now", is, dotted)
	}
	message := fmt.Sprintf("%s is %s, and was %s.", dotted, is, old)
	if !d.Keep {
		return link.Outcome{Message: message + " It is so until the next start."}, nil
	}
	etc, err := s.open(filesStore)
	if err == nil {
		defer etc.Close()
		err = s.keep(etc, strings.ReplaceAll(dotted, "/", "."), is)
	}
	if err != nil {
		return link.Outcome{}, problem(http.StatusConflict, "%s It could not be kept for the next start: %v", message, err)
	}
	return link.Outcome{Message: message + " It is kept for the next start."}, nil
}

// keep has a parameter set at each start.
func (s Settings) keep(etc *os.Root, name, value string) error {
	file := strings.TrimPrefix(keptParameters, "/etc/")
	d, info, err := document(etc, file)
	if err != nil {
		if err := etc.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if d, err = settings.Parse(file, []byte("# set from the console\n"+name+" = "+value+"\n")); err != nil {
			return err
		}
	} else if err := d.Set("", name, value); err != nil {
		return err
	}
	return s.write(etc, file, d, info)
}

func (s Settings) setFile(root *os.Root, d link.SettingAction) (link.Outcome, error) {
	_, file, section, err := s.locate(root, d.Path[1:])
	if err != nil {
		return link.Outcome{}, err
	}
	if file == "" {
		return link.Outcome{}, problem(http.StatusConflict, "%s is a folder of files: choose a file", strings.Join(d.Path, "/"))
	}
	if section == nil {
		section = new("")
	}
	doc, info, err := document(root, file)
	if err != nil {
		return link.Outcome{}, err
	}
	old := doc.Get(*section, d.Name)
	if err := Changed(d, strings.Join(old, "\n"), len(old) > 0); err != nil {
		return link.Outcome{}, err
	}
	var values []string
	message := fmt.Sprintf("%s is removed from /etc/%s.", d.Name, file)
	if d.Action == link.SettingSet {
		values = strings.Split(strings.TrimRight(d.Value, "\n"), "\n")
		message = fmt.Sprintf("%s in /etc/%s is %s.", d.Name, file, strings.Join(values, ", "))
		if len(old) > 0 {
			message = strings.TrimSuffix(message, ".") + ", and was " + strings.Join(old, ", ") + "."
		}
	}
	if err := doc.Set(*section, d.Name, values...); err != nil {
		return link.Outcome{}, problem(http.StatusUnprocessableEntity, "%v", err)
	}
	if err := s.write(root, file, doc, info); err != nil {
		return link.Outcome{}, problem(http.StatusConflict, "/etc/%s cannot be written: %v", file, err)
	}
	return link.Outcome{Message: message + " What reads the file sees it when it reads it again."}, nil
}

// write puts a file in place whole, with the rights and the owner that it had.
func (s Settings) write(root *os.Root, name string, d *settings.Document, was fs.FileInfo) error {
	for range 10 { // the file that is meant, not a link to it; those that lead out were refused
		target, err := root.Readlink(name)
		if err != nil {
			break
		}
		name = filepath.Join(filepath.Dir(name), target)
	}
	mode := fs.FileMode(0o644)
	if was != nil {
		mode = was.Mode().Perm()
	}
	fresh := name + ".moorwatch-new"
	root.Remove(fresh)
	f, err := root.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, bytes.NewReader(d.Bytes()))
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err == nil && was != nil {
		owner, group := s.Disk.Owner(filepath.Join(root.Name(), name), was)
		var d *on.Dir
		if d, err = on.Open(filepath.Join(root.Name(), filepath.Dir(fresh))); err == nil {
			err = errors.Join(s.Disk.SetOwner(d, filepath.Base(fresh), owner, group), d.Close())
		}
	}
	if err == nil {
		err = root.Rename(fresh, name)
	}
	if err != nil {
		root.Remove(fresh)
	}
	return err
}
