//go:build unix

package darwin

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"howett.net/plist"

	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
)

// settings implements host.Settings over the preferences of the computer and of its people (defaults(1)),
// what profiles force (profiles(1)), and how it trades speed for power (pmset(1)). All of them are trees of property
// lists, so that one way leads through them.
type settings struct {
	tools  tools
	people persons
	root   string // below which the system's folders are; "" but in tests
}

// The stores.
const (
	computerStore = "preferences"
	peopleStore   = "people"
	forcedStore   = "forced"
	profileStore  = "profiles"
	powerStore    = "power"
)

const preferences = "/Library/Preferences"

var stores = []link.Setting{
	{Name: forcedStore, Folder: true, ReadOnly: true, About: "Preferences that profiles force"},
	{Name: peopleStore, Folder: true, About: "Preferences of each person"},
	{Name: powerStore, Folder: true, About: "How the computer trades speed for power"},
	{Name: computerStore, Folder: true, About: "Preferences of the computer"},
	{Name: profileStore, Folder: true, ReadOnly: true, About: "Profiles that are installed"},
}

// place is a property list that a path leads to, and what is left of the path below its top.
type place struct {
	top    map[string]any
	inside []string
	domain string   // as defaults(1) names it; "" where it is not written
	as     []string // has a command run as whom it belongs to
}

// List implements host.Settings.
func (s settings) List(ctx context.Context, at link.SettingsAt) (link.SettingPage, error) {
	out := link.SettingPage{Path: append([]string{}, at.Path...), Items: []link.Setting{}}
	if len(at.Path) == 0 {
		out.Items = slices.Clone(stores)
		return out, nil
	}
	folders, err := s.folders(at.Path)
	if err != nil {
		return out, err
	}
	if folders != nil {
		out.Items = folders
		return out, nil
	}
	p, err := s.open(ctx, at.Path)
	if err != nil {
		return out, err
	}
	value, err := within(p.top, p.inside)
	if err != nil {
		return out, err
	}
	writable := p.domain != "" || at.Path[0] == powerStore
	if out.Items = shown(value, !writable); p.domain != "" {
		out.Types = []string{link.SettingText, link.SettingNumber, link.SettingReal, link.SettingFlag, link.SettingList, link.SettingBinary}
	}
	return out, nil
}

// folders lists what stands above property lists; nil at one.
func (s settings) folders(path []string) ([]link.Setting, error) {
	switch {
	case len(path) == 1 && path[0] == computerStore:
		return domains(s.root + preferences), nil
	case len(path) == 1 && path[0] == forcedStore:
		return domains(s.root + "/Library/Managed Preferences"), nil
	case len(path) == 1 && path[0] == peopleStore:
		list := []link.Setting{}
		homes, _ := os.ReadDir(s.root + "/Users")
		for _, h := range homes {
			if info, err := os.Stat(filepath.Join(s.root, "/Users", h.Name(), preferences)); err == nil && info.IsDir() {
				list = append(list, link.Setting{Name: h.Name(), Folder: true})
			}
		}
		return list, nil
	case len(path) == 2 && path[0] == peopleStore:
		folder, err := s.home(path[1])
		return domains(folder), err
	}
	return nil, nil
}

// domains lists the property lists of a folder, by name.
func domains(folder string) []link.Setting {
	list := []link.Setting{}
	files, _ := filepath.Glob(filepath.Join(folder, "*.plist"))
	for _, f := range files {
		list = append(list, link.Setting{Name: strings.TrimSuffix(filepath.Base(f), ".plist"), Folder: true})
	}
	return list
}

func (s settings) home(person string) (string, error) {
	if person == "" || person[0] == '.' || strings.ContainsAny(person, "/\x00") {
		return "", refuse(http.StatusBadRequest, "%q is no name of a person.", person)
	}
	return filepath.Join(s.root, "/Users", person, preferences), nil
}

// open reads the property list that a path leads to.
func (s settings) open(ctx context.Context, path []string) (place, error) {
	n := 2 // names of a path up to its property list
	switch path[0] {
	case powerStore:
		text, err := s.tools.ask(ctx, "/usr/bin/pmset", "-g", "custom")
		if err != nil {
			return place{}, unanswered("pmset", err)
		}
		return place{top: PowerPlans(text), inside: path[1:]}, nil
	case profileStore:
		var all map[string][]map[string]any
		if err := s.tools.list(ctx, &all, "/usr/bin/profiles", "show", "-output", "stdout-xml"); err != nil {
			return place{}, unanswered("profiles", err)
		}
		return place{top: Profiles(all), inside: path[1:]}, nil
	case peopleStore:
		n = 3
	case computerStore, forcedStore:
	default:
		return place{}, refuse(http.StatusNotFound, "There is no store %q: they are %s, %s, %s, %s and %s.", path[0], computerStore,
			peopleStore, forcedStore, profileStore, powerStore)
	}
	if len(path) < n {
		return place{}, refuse(http.StatusBadRequest, "Name the setting and its folder.")
	}
	name := path[n-1]
	if name == "" || name[0] == '-' || name[0] == '.' || strings.ContainsAny(name, "/\x00") {
		return place{}, refuse(http.StatusBadRequest, "%q is no name of preferences.", name)
	}
	p := place{inside: path[n:]}
	switch path[0] {
	case computerStore:
		p.domain = filepath.Join(s.root+preferences, name)
	case forcedStore:
		return p, s.read(ctx, &p, filepath.Join(s.root, "/Library/Managed Preferences", name))
	case peopleStore:
		folder, err := s.home(path[1])
		if err != nil {
			return p, err
		}
		p.domain = filepath.Join(folder, name)
		all, err := s.people.desktops(ctx)
		if err != nil {
			return p, err
		}
		if i := slices.IndexFunc(all, func(o person) bool { return o.name == path[1] }); i >= 0 {
			p.as = as(all[i]) // whose preferences are in memory, and not yet in the file
		} else {
			p.as = []string{"/usr/bin/sudo", "-H", "-u", path[1], "--"}
		}
	}
	return p, s.read(ctx, &p, p.domain)
}

// read asks for preferences as programs see them now, which their file may lag behind.
func (s settings) read(ctx context.Context, p *place, domain string) error {
	argv := append(slices.Clone(p.as), "/usr/bin/defaults", "export", domain, "-")
	if err := s.tools.list(ctx, &p.top, argv...); err != nil {
		return refuse(http.StatusNotFound, "%s cannot be read: %v.", filepath.Base(domain), err)
	}
	if len(p.top) == 0 { // defaults answers so for what is not there
		if _, err := os.Stat(domain + ".plist"); err != nil {
			return refuse(http.StatusNotFound, "There are no preferences %s.", filepath.Base(domain))
		}
		p.top = map[string]any{}
	}
	return nil
}

// within goes down a tree. Entries of lists are named by their number, from 0.
func within(value any, path []string) (any, error) {
	for n, name := range path {
		switch v := value.(type) {
		case map[string]any:
			inner, ok := v[name]
			if !ok {
				return nil, refuse(http.StatusNotFound, "There is no %s.", strings.Join(path[:n+1], " → "))
			}
			value = inner
		case []any:
			i, err := strconv.Atoi(name)
			if err != nil || i < 0 || i >= len(v) {
				return nil, refuse(http.StatusNotFound, "There is no entry %s.", strings.Join(path[:n+1], " → "))
			}
			value = v[i]
		default:
			return nil, refuse(http.StatusConflict, "%s is a value, and no folder.", strings.Join(path[:n], " → "))
		}
	}
	switch value.(type) {
	case map[string]any, []any:
		return value, nil
	}
	return nil, refuse(http.StatusConflict, "%s is a value, and no folder.", strings.Join(path, " → "))
}

// shown lists a folder of a tree.
func shown(value any, readOnly bool) []link.Setting {
	items := []link.Setting{}
	add := func(name string, v any) {
		one := setting(v)
		one.Name = name
		one.ReadOnly = one.ReadOnly || readOnly
		items = append(items, one)
	}
	switch v := value.(type) {
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			add(name, v[name])
		}
	case []any:
		for i, inner := range v {
			add(strconv.Itoa(i), inner)
		}
	}
	return items
}

// setting is a value of a property list as it is shown. A list of texts is a value, any other a folder.
func setting(value any) link.Setting {
	text := func(kind, v string) link.Setting { return link.Setting{Type: kind, Value: v} }
	switch v := value.(type) {
	case string:
		return text(link.SettingText, v)
	case bool:
		return text(link.SettingFlag, strconv.FormatBool(v))
	case uint64:
		return text(link.SettingNumber, strconv.FormatUint(v, 10))
	case int64:
		return text(link.SettingNumber, strconv.FormatInt(v, 10))
	case float64:
		return text(link.SettingReal, strconv.FormatFloat(v, 'g', -1, 64))
	case []byte:
		return text(link.SettingBinary, hex.EncodeToString(v))
	case time.Time:
		one := text(link.SettingText, v.UTC().Format(time.RFC3339))
		one.About, one.ReadOnly = "time", true
		return one
	case []any:
		lines := make([]string, 0, len(v))
		for _, e := range v {
			s, ok := e.(string)
			if !ok || strings.Contains(s, "\n") {
				return link.Setting{Folder: true, About: fmt.Sprintf("list of %d", len(v))}
			}
			lines = append(lines, s)
		}
		return text(link.SettingList, strings.Join(lines, "\n"))
	}
	return link.Setting{Folder: true}
}

// valueOf is the inverse of setting.
func valueOf(kind, value string) (any, error) {
	var v any
	var err error
	switch kind {
	case link.SettingText:
		v = value
	case link.SettingNumber:
		v, err = strconv.ParseInt(value, 10, 64)
	case link.SettingReal:
		v, err = strconv.ParseFloat(value, 64)
	case link.SettingFlag:
		if v = value == "true"; value != "true" && value != "false" {
			err = errors.New("a flag is true or false")
		}
	case link.SettingBinary:
		v, err = hex.DecodeString(strings.Join(strings.Fields(value), ""))
	case link.SettingList:
		list := []any{}
		for line := range strings.SplitSeq(strings.TrimSuffix(value, "\n"), "\n") {
			list = append(list, line)
		}
		v = list
	default:
		err = errors.New("it is text, number, real, flag, list or binary")
	}
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "%q is no %s: %v.", value, cmp.Or(kind, "setting"), err)
	}
	return v, nil
}

// Search implements host.Settings.
func (s settings) Search(ctx context.Context, q link.SettingSearch, send func(link.SettingFound) error) error {
	return portable.SearchSettings(ctx, s.List, q, send)
}

// Do implements host.Settings. What stands deeper in preferences is written with all that is below the same
// name at their top, as defaults(1) does not write single values there.
func (s settings) Do(ctx context.Context, d link.SettingAction) (link.Outcome, error) {
	if len(d.Path) == 0 || d.Name == "" || d.Name[0] == '-' {
		return link.Outcome{}, refuse(http.StatusBadRequest, "Name the setting and its folder.")
	}
	p, err := s.open(ctx, d.Path)
	if err != nil {
		return link.Outcome{}, err
	}
	if p.domain == "" && d.Path[0] != powerStore {
		return link.Outcome{}, refuse(http.StatusConflict, "What a profile sets is changed by the profile.")
	}
	folder, err := within(p.top, p.inside)
	if err != nil {
		return link.Outcome{}, err
	}
	was, there := entry(folder, d.Name)
	is := setting(was)
	if there && (is.Folder || is.ReadOnly) {
		return link.Outcome{}, refuse(http.StatusConflict, "%s cannot be changed here.", d.Name)
	}
	if err := portable.Changed(d, is.Value, there); err != nil {
		return link.Outcome{}, err
	}
	var value any
	if d.Action == link.SettingSet {
		if value, err = valueOf(cmp.Or(d.Type, is.Type), d.Value); err != nil {
			return link.Outcome{}, err
		}
	}
	if d.Path[0] == powerStore {
		err = s.setPower(ctx, d, there)
	} else {
		err = s.write(ctx, p, d.Name, value)
	}
	if err != nil {
		return link.Outcome{}, err
	}
	message := fmt.Sprintf("%s is %s.", d.Name, strings.ReplaceAll(d.Value, "\n", ", "))
	switch {
	case value == nil:
		message = d.Name + " is removed."
	case there:
		message = fmt.Sprintf("%s is %s, and was %s.", d.Name, strings.ReplaceAll(d.Value, "\n", ", "),
			strings.ReplaceAll(is.Value, "\n", ", "))
	}
	return link.Outcome{Message: message}, nil
}

func entry(folder any, name string) (any, bool) {
	switch v := folder.(type) {
	case map[string]any:
		inner, ok := v[name]
		return inner, ok
	case []any:
		if i, err := strconv.Atoi(name); err == nil && i >= 0 && i < len(v) {
			return v[i], true
		}
	}
	return nil, false
}

// write sets a value, or removes it where it is nil.
func (s settings) write(ctx context.Context, p place, name string, value any) error {
	key, whole := name, value
	if len(p.inside) > 0 {
		key = p.inside[0]
		folder, _ := within(p.top, p.inside)
		switch v := folder.(type) {
		case map[string]any:
			if v[name] = value; value == nil {
				delete(v, name)
			}
		case []any:
			i, err := strconv.Atoi(name)
			if err != nil || i < 0 || i >= len(v) || value == nil {
				return refuse(http.StatusConflict, "Entries of a list can be changed here, and neither added nor removed.")
			}
			v[i] = value
		}
		whole = p.top[key]
	}
	if strings.HasPrefix(key, "-") {
		return refuse(http.StatusBadRequest, "%q cannot be written by the system's program.", key)
	}
	argv := append(slices.Clone(p.as), "/usr/bin/defaults")
	if whole == nil {
		argv = append(argv, "delete", p.domain, key)
	} else {
		text, err := plist.Marshal(whole, plist.XMLFormat)
		if err != nil {
			return refuse(http.StatusBadRequest, "%s cannot be written: %v.", name, err)
		}
		argv = append(argv, "write", p.domain, key, fragment(string(text)))
	}
	if _, err := s.tools.ask(ctx, argv...); err != nil {
		return refuse(http.StatusConflict, "%s cannot be written: %v.", name, err)
	}
	return nil
}

// fragment is what a property list holds, without what stands around it.
func fragment(text string) string {
	if _, rest, ok := strings.Cut(text, `<plist version="1.0">`); ok {
		text, _, _ = strings.Cut(rest, "</plist>")
	}
	return strings.TrimSpace(text)
}

// PowerPlans reads what `pmset -g custom` prints: the name of a source of power with a colon, and below it a
// setting and its value a line.
func PowerPlans(text string) map[string]any {
	plans := map[string]any{}
	var plan map[string]any
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		switch {
		case len(f) > 0 && strings.HasSuffix(strings.TrimSpace(line), ":"):
			plan = map[string]any{}
			plans[strings.TrimSuffix(strings.TrimSpace(line), ":")] = plan
		case len(f) >= 2 && plan != nil:
			name, value := strings.Join(f[:len(f)-1], " "), f[len(f)-1]
			if n, err := strconv.ParseInt(value, 10, 64); err == nil {
				plan[name] = n
			} else {
				plan[name] = value
			}
		}
	}
	return plans
}

// powerSources are the options of pmset(1) that name a source of power.
var powerSources = map[string]string{"Battery Power": "-b", "AC Power": "-c", "UPS Power": "-u"}

func (s settings) setPower(ctx context.Context, d link.SettingAction, there bool) error {
	source := ""
	if len(d.Path) == 2 {
		source = powerSources[d.Path[1]]
	}
	if d.Action != link.SettingSet || source == "" || !there {
		return refuse(http.StatusConflict, "Settings of power that are there can be set, and neither added nor removed.")
	}
	if _, err := s.tools.ask(ctx, "/usr/bin/pmset", source, d.Name, d.Value); err != nil {
		return refuse(http.StatusUnprocessableEntity, "pmset does not take %q for %s: %v.", d.Value, d.Name, err)
	}
	return nil
}

// Profiles gives profiles(1)'s answer, which lists profiles and their payloads by whose they are, names
// instead of numbers.
func Profiles(all map[string][]map[string]any) map[string]any {
	top := map[string]any{}
	for whose, list := range all {
		for _, profile := range list {
			if items, ok := profile["ProfileItems"].([]any); ok {
				named := map[string]any{}
				for i, item := range items {
					m, _ := item.(map[string]any)
					kind, _ := m["PayloadType"].(string)
					named[fmt.Sprintf("%d %s", i+1, kind)] = item
				}
				profile["ProfileItems"] = named
			}
			name, _ := profile["ProfileDisplayName"].(string)
			id, _ := profile["ProfileIdentifier"].(string)
			name = cmp.Or(name, id)
			if whose != "_computerlevel" {
				name += " of " + whose
			}
			for n := 2; top[name] != nil; n++ {
				name = fmt.Sprintf("%s (%s)", cmp.Or(id, name), strconv.Itoa(n))
			}
			top[name] = profile
		}
	}
	return top
}
