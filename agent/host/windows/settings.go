//go:build windows

package windows

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
)

// settings implements host.Settings over the registry. The unnamed value of a key is called
// unnamed.
type settings struct{}

// unnamed is what the value of a key without a name is called.
const unnamed = "(unnamed)"

// roots are the stores. Other roots are views of these.
var roots = map[string]registry.Key{"HKEY_LOCAL_MACHINE": registry.LOCAL_MACHINE, "HKEY_USERS": registry.USERS}

// kinds are the types that a new value may have.
var kinds = []string{link.SettingText, link.SettingExpandable, link.SettingNumber, link.SettingLong, link.SettingList, link.SettingBinary}

// mostValue is how much of a value is read, in bytes.
const mostValue = 1 << 20

func openKey(path []string, access uint32) (registry.Key, error) {
	if len(path) == 0 {
		return 0, refuse(http.StatusBadRequest, "Name the key and the value.")
	}
	root, ok := roots[path[0]]
	if !ok {
		return 0, refuse(http.StatusNotFound, "There is no store %q: they are HKEY_LOCAL_MACHINE and HKEY_USERS.", path[0])
	}
	for _, name := range path[1:] {
		if name == "" || len(name) > 255 || strings.ContainsAny(name, "\\\x00") {
			return 0, refuse(http.StatusBadRequest, "%q is no name of a key.", name)
		}
	}
	k, err := registry.OpenKey(root, strings.Join(path[1:], `\`), access|registry.WOW64_64KEY)
	switch {
	case errors.Is(err, registry.ErrNotExist):
		return 0, refuse(http.StatusNotFound, `There is no key %s.`, strings.Join(path, `\`))
	case err != nil:
		return 0, refusal(strings.Join(path, `\`), err)
	}
	return k, nil
}

// List implements host.Settings.
func (settings) List(ctx context.Context, at link.SettingsAt) (link.SettingPage, error) {
	out := link.SettingPage{Path: append([]string{}, at.Path...), Items: []link.Setting{}}
	if len(at.Path) == 0 {
		out.Items = append(out.Items, link.Setting{Name: "HKEY_LOCAL_MACHINE", Folder: true, About: "Registry of the computer"},
			link.Setting{Name: "HKEY_USERS", Folder: true, About: "Registry of its users"})
		return out, nil
	}
	k, err := openKey(at.Path, registry.READ)
	if err != nil {
		return out, err
	}
	defer k.Close()
	if len(at.Path) > 1 {
		out.Types = kinds
	}
	folders, err := k.ReadSubKeyNames(-1)
	if err != nil {
		return out, refusal(strings.Join(at.Path, `\`), err)
	}
	slices.Sort(folders)
	for _, name := range folders {
		one := link.Setting{Name: name, Folder: true}
		if len(at.Path) == 1 && at.Path[0] == "HKEY_USERS" {
			if sid, err := windows.StringToSid(name); err == nil {
				one.About = "Registry of " + names.short(sid)
			}
		}
		out.Items = append(out.Items, one)
	}
	names, err := k.ReadValueNames(-1)
	if err != nil {
		return out, refusal(strings.Join(at.Path, `\`), err)
	}
	slices.Sort(names)
	for _, name := range names {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		one, err := readValue(k, name)
		if err != nil {
			one.Problem = err.Error()
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// readValue reads a value of a key as its type tells it.
func readValue(k registry.Key, name string) (link.Setting, error) {
	s := link.Setting{Name: name, Type: link.SettingBinary}
	if name == "" {
		s.Name = unnamed
	}
	n, kind, err := k.GetValue(name, nil)
	if err != nil {
		return s, err
	}
	if n > mostValue {
		return s, fmt.Errorf("it is larger than %d bytes", mostValue)
	}
	b := make([]byte, n)
	if n, kind, err = k.GetValue(name, b); err != nil {
		return s, err
	}
	s.Type, s.Value = decode(kind, b[:n])
	return s, nil
}

// Search implements host.Settings.
func (s settings) Search(ctx context.Context, q link.SettingSearch, send func(link.SettingFound) error) error {
	return portable.SearchSettings(ctx, s.List, q, send)
}

// Do implements host.Settings. Keys that are missing are made.
func (settings) Do(_ context.Context, d link.SettingAction) (link.Outcome, error) {
	if len(d.Path) < 2 || d.Name == "" {
		return link.Outcome{}, refuse(http.StatusBadRequest, "Name the value and its key below a store.")
	}
	k, err := openKey(d.Path, registry.QUERY_VALUE|registry.SET_VALUE)
	if d.Action == link.SettingSet && (d.Any || d.Was == nil) && link.StatusOf(err, 0) == http.StatusNotFound {
		if _, known := roots[d.Path[0]]; known {
			var made registry.Key
			if made, _, err = registry.CreateKey(roots[d.Path[0]], strings.Join(d.Path[1:], `\`),
				registry.QUERY_VALUE|registry.SET_VALUE|registry.WOW64_64KEY); err != nil {
				err = refusal(strings.Join(d.Path, `\`), err)
			}
			k = made
		}
	}
	if err != nil {
		return link.Outcome{}, err
	}
	defer k.Close()
	name := d.Name
	if name == unnamed {
		name = ""
	}
	old, err := readValue(k, name)
	there := err == nil
	if err != nil && !errors.Is(err, registry.ErrNotExist) {
		return link.Outcome{}, refusal(d.Name, err)
	}
	if err := portable.Changed(d, old.Value, there); err != nil {
		return link.Outcome{}, err
	}
	if d.Action == link.SettingRemove {
		if err := k.DeleteValue(name); err != nil && !errors.Is(err, registry.ErrNotExist) {
			return link.Outcome{}, refusal(d.Name, err)
		}
		return link.Outcome{Message: d.Name + " is removed."}, nil
	}
	kind := d.Type
	if kind == "" && there {
		kind = old.Type
	}
	if err := write(k, name, kind, d.Value); err != nil {
		return link.Outcome{}, err
	}
	message := fmt.Sprintf("%s is %s.", d.Name, strings.ReplaceAll(d.Value, "\n", ", "))
	if there {
		message = fmt.Sprintf("%s is %s, and was %s.", d.Name, strings.ReplaceAll(d.Value, "\n", ", "),
			strings.ReplaceAll(old.Value, "\n", ", "))
	}
	return link.Outcome{Message: message}, nil
}

func write(k registry.Key, name, kind, value string) error {
	var err error
	number := func(bits int) uint64 {
		n, wrong := strconv.ParseUint(value, 10, bits)
		if wrong != nil {
			err = refuse(http.StatusBadRequest, "%q is no number of %d bits.", value, bits)
		}
		return n
	}
	var set func() error
	switch kind {
	case link.SettingText:
		set = func() error { return k.SetStringValue(name, value) }
	case link.SettingExpandable:
		set = func() error { return k.SetExpandStringValue(name, value) }
	case link.SettingNumber:
		n := uint32(number(32))
		set = func() error { return k.SetDWordValue(name, n) }
	case link.SettingLong:
		n := number(64)
		set = func() error { return k.SetQWordValue(name, n) }
	case link.SettingList:
		lines := strings.Split(strings.TrimSuffix(value, "\n"), "\n")
		if slices.Contains(lines, "") && len(lines) > 1 {
			return refuse(http.StatusBadRequest, "A list has no empty entries here.")
		}
		set = func() error { return k.SetStringsValue(name, lines) }
	case link.SettingBinary:
		b, wrong := hex.DecodeString(strings.Join(strings.Fields(value), ""))
		if wrong != nil {
			err = refuse(http.StatusBadRequest, "Binary is written in hexadecimal digits, two a byte.")
		}
		set = func() error { return k.SetBinaryValue(name, b) }
	default:
		return refuse(http.StatusBadRequest, "There is no type %q here: it has %s.", kind, strings.Join(kinds, ", "))
	}
	if err != nil {
		return err
	}
	if err := set(); err != nil {
		return refusal(name, err)
	}
	return nil
}

// registryValue reads a value that is named as one path, for questions: HKEY_LOCAL_MACHINE\…\Name.
func registryValue(name string) (string, error) {
	path := strings.Split(name, `\`)
	if short := map[string]string{"HKLM": "HKEY_LOCAL_MACHINE", "HKU": "HKEY_USERS"}[path[0]]; short != "" {
		path[0] = short
	}
	if len(path) < 2 {
		return "", errors.New(`name a value with its key, as HKEY_LOCAL_MACHINE\SOFTWARE\Name`)
	}
	k, err := openKey(path[:len(path)-1], registry.QUERY_VALUE)
	if err != nil {
		return "", err
	}
	defer k.Close()
	value := path[len(path)-1]
	if value == unnamed {
		value = ""
	}
	s, err := readValue(k, value)
	if errors.Is(err, registry.ErrNotExist) {
		return "", fmt.Errorf("there is no value %s", name)
	}
	return s.Value, err
}
