package portable

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	on "moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
)

// fakeDisk is a disk whose root is a folder of the test.
type fakeDisk struct{ root string }

func (d fakeDisk) Real(path string) (string, error)              { return filepath.Join(d.root, path), nil }
func (d fakeDisk) Shown(real string) string                      { return strings.TrimPrefix(real, d.root) }
func (fakeDisk) Owner(string, fs.FileInfo) (owner, group string) { return "", "" }
func (fakeDisk) Like(*on.Dir, string, *on.Dir, string) error     { return nil }
func (fakeDisk) Access(string) []string                          { return nil }
func (fakeDisk) Let(*on.Dir, string, string, string) error       { return nil }
func (fakeDisk) Seclude(*on.Dir, string) error                   { return nil }
func (fakeDisk) SetOwner(*on.Dir, string, string, string) error  { return nil }
func (d fakeDisk) Top(string) (string, error)                    { return d.root, nil }
func (fakeDisk) Free(string) (int64, error)                      { return 1 << 40, nil }
func (fakeDisk) Windows() bool                                   { return false }
func (d fakeDisk) write(t *testing.T, path, text string) {
	t.Helper()
	real := filepath.Join(d.root, path)
	if err := errors.Join(os.MkdirAll(filepath.Dir(real), 0o755), os.WriteFile(real, []byte(text), 0o644)); err != nil {
		t.Fatal(err)
	}
}

func (d fakeDisk) read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(d.root, path))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func newFake(t *testing.T) (Settings, fakeDisk) {
	d := fakeDisk{t.TempDir()}
	d.write(t, "/proc/sys/vm/swappiness", "60\n")
	d.write(t, "/proc/sys/net/ipv4/tcp_rmem", "4096\t131072\t6291456\n")
	d.write(t, "/etc/app/app.conf", "[net]\nport = 80\nhost = a\nhost = b\n")
	d.write(t, "/etc/app/notes.txt", "these are words\nand no settings at all, as anyone sees\n")
	d.write(t, "/secret/keys.conf", "key = 1\n")
	return Settings{Disk: d}, d
}

func names(p link.SettingPage) (all []string) {
	for _, s := range p.Items {
		all = append(all, s.Name)
	}
	return all
}

func refusedWith(t *testing.T, err error, status int, reason string) {
	t.Helper()
	var told *link.Problem
	if !errors.As(err, &told) || told.Status != status || !strings.Contains(told.Reason, reason) {
		t.Errorf("got %v, want %d with %q", err, status, reason)
	}
}

func TestSettingsAreListed(t *testing.T) {
	s, _ := newFake(t)
	for _, c := range []struct {
		at   []string
		want []string
	}{
		{nil, []string{"configuration", "kernel", "power"}},
		{[]string{"kernel"}, []string{"net", "vm"}},
		{[]string{"kernel", "vm"}, []string{"swappiness"}},
		{[]string{"configuration", "app"}, []string{"app.conf"}}, // prose is no configuration
		{[]string{"configuration", "app", "app.conf"}, []string{"net"}},
		{[]string{"configuration", "app", "app.conf", "net"}, []string{"port", "host"}},
	} {
		page, err := s.List(t.Context(), link.SettingsAt{Path: c.at})
		if err != nil || !slices.Equal(names(page), c.want) {
			t.Errorf("%q: %q, %v", c.at, names(page), err)
		}
	}
	page, _ := s.List(t.Context(), link.SettingsAt{Path: []string{"configuration", "app", "app.conf", "net"}})
	if host := page.Items[1]; host.Type != link.SettingList || host.Value != "a\nb" {
		t.Errorf("a key that stands twice is %+v", host)
	}
	for _, at := range [][]string{{"nosuch"}, {"configuration", "nosuch"}, {"configuration", "app", "app.conf", "nosuch"},
		{"kernel", "..", ".."}, {"configuration", "..", "secret"},
		{"configuration", "app/../../secret"}, {"configuration", ""}, {"configuration", "app", "notes.txt"}} {
		if page, err := s.List(t.Context(), link.SettingsAt{Path: at}); err == nil {
			t.Errorf("%q is listed: %q", at, names(page))
		}
	}
}

// A link that leads out of /etc is no part of it, to be looked at or to be written through.
func TestSettingsStayBelowTheirStore(t *testing.T) {
	s, d := newFake(t)
	for name, target := range map[string]string{"out.conf": "../secret/keys.conf", "whole.conf": filepath.Join(d.root, "secret/keys.conf"),
		"folder": "../secret", "loop.conf": "loop.conf"} {
		if err := os.Symlink(target, filepath.Join(d.root, "etc", name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("app/app.conf", filepath.Join(d.root, "etc", "inside.conf")); err != nil {
		t.Fatal(err)
	}
	page, err := s.List(t.Context(), link.SettingsAt{Path: []string{"configuration"}})
	if want := []string{"app", "inside.conf"}; err != nil || !slices.Equal(names(page), want) {
		t.Errorf("%q, %v", names(page), err)
	}
	for _, name := range []string{"out.conf", "whole.conf", "loop.conf"} {
		if _, err := s.Do(t.Context(), link.SettingAction{Action: link.SettingSet, Path: []string{"configuration", name}, Name: "key",
			Value: "2", Any: true}); err == nil {
			t.Errorf("%s is written through", name)
		}
	}
	if d.read(t, "/secret/keys.conf") != "key = 1\n" {
		t.Error("a file outside was changed")
	}
	if _, err := s.Do(t.Context(), link.SettingAction{Action: link.SettingSet, Path: []string{"configuration", "inside.conf", "net"},
		Name: "port", Value: "81", Was: new("80")}); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(d.read(t, "/etc/app/app.conf"), "port = 81\n") {
		t.Error("what an inner link names was not changed")
	}
	if info, err := os.Lstat(filepath.Join(d.root, "etc/inside.conf")); err != nil || info.Mode()&fs.ModeSymlink == 0 {
		t.Errorf("the link was replaced: %v", err)
	}
	left, _ := filepath.Glob(filepath.Join(d.root, "etc/*/*.moorwatch-new"))
	if len(left) > 0 {
		t.Errorf("left behind: %q", left)
	}
}

func TestKernelParametersAreSetAndKept(t *testing.T) {
	s, d := newFake(t)
	in := link.SettingAction{Action: link.SettingSet, Path: []string{"kernel", "vm"}, Name: "swappiness", Value: "10", Was: new("61")}
	_, err := s.Do(t.Context(), in)
	refusedWith(t, err, http.StatusConflict, `it is "60", and was "61"`)
	in.Was = new("60")
	out, err := s.Do(t.Context(), in)
	if err != nil || out.Message != "vm.swappiness is 10, and was 60. It is so until the next start." {
		t.Errorf("%q, %v", out.Message, err)
	}
	for _, value := range []string{"20", "30"} { // the file is made, and then changed
		if _, err := s.Do(t.Context(), link.SettingAction{Action: link.SettingSet, Path: in.Path, Name: in.Name, Value: value, Any: true,
			Keep: true}); err != nil {
			t.Fatal(err)
		}
	}
	if got := d.read(t, keptParameters); got != "# set from the console\nvm.swappiness = 30\n" {
		t.Errorf("kept is %q", got)
	}
	_, err = s.Do(t.Context(), link.SettingAction{Action: link.SettingRemove, Path: in.Path, Name: in.Name, Any: true})
	refusedWith(t, err, http.StatusConflict, "cannot be removed")
	_, err = s.Do(t.Context(), link.SettingAction{Action: link.SettingSet, Path: []string{"kernel", ".."}, Name: "x", Value: "1",
		Any: true})
	refusedWith(t, err, http.StatusBadRequest, "no name of a setting")
	_, err = s.Do(t.Context(), link.SettingAction{Action: link.SettingSet, Path: []string{"kernel", "vm"}, Name: "new", Value: "1"})
	refusedWith(t, err, http.StatusNotFound, "there is no")
}

func TestSearchOfSettings(t *testing.T) {
	s, _ := newFake(t)
	search := func(q link.SettingSearch) (found []string, last link.SettingFound) {
		if err := s.Search(t.Context(), q, func(f link.SettingFound) error {
			if f.Setting != nil {
				found = append(found, strings.Join(append(f.Path, f.Setting.Name), "/"))
			}
			last = f
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return found, last
	}
	if found, last := search(link.SettingSearch{Text: "RMEM"}); !slices.Equal(found, []string{"kernel/net/ipv4/tcp_rmem"}) || !last.Done {
		t.Errorf("%q %+v", found, last)
	}
	if found, _ := search(link.SettingSearch{Path: []string{"configuration"}}); !slices.Equal(found,
		[]string{"configuration/app/app.conf/net/port", "configuration/app/app.conf/net/host"}) {
		t.Errorf("an export holds %q", found)
	}
	if found, last := search(link.SettingSearch{Most: 1}); len(found) != 1 || !last.More {
		t.Errorf("%q %+v", found, last)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if err := s.Search(ctx, link.SettingSearch{}, func(link.SettingFound) error { return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("a search that nobody waits for ends with %v", err)
	}
}

// The power plan is read, set to one of those that there are, and set alike for all processors.
func TestPower(t *testing.T) {
	s, d := newFake(t)
	list := func() link.SettingPage {
		t.Helper()
		page, err := s.List(t.Context(), link.SettingsAt{Path: []string{"power"}})
		if err != nil {
			t.Fatal(err)
		}
		return page
	}
	if page := list(); len(page.Items) != 0 {
		t.Errorf("what the computer does not have is listed: %+v", page)
	}
	d.write(t, "/sys/firmware/acpi/platform_profile", "balanced\n")
	d.write(t, "/sys/firmware/acpi/platform_profile_choices", "low-power balanced performance\n")
	d.write(t, "/sys/devices/system/cpu/cpufreq/policy0/scaling_governor", "powersave\n")
	d.write(t, "/sys/devices/system/cpu/cpufreq/policy1/scaling_governor", "performance\n")
	d.write(t, "/sys/devices/system/cpu/cpufreq/policy0/scaling_available_governors", "performance powersave\n")
	if page := list(); len(page.Items) != 2 || page.Items[0].Value != "balanced" || page.Items[1].Value != "powersave, performance" {
		t.Errorf("%+v", page)
	}
	set := func(name, value string) error {
		_, err := s.Do(t.Context(), link.SettingAction{Action: link.SettingSet, Path: []string{"power"}, Name: name, Value: value,
			Any: true})
		return err
	}
	if err := errors.Join(set("plan", "low-power"), set("governor", "powersave")); err != nil {
		t.Fatal(err)
	}
	if d.read(t, "/sys/firmware/acpi/platform_profile") != "low-power\n" ||
		d.read(t, "/sys/devices/system/cpu/cpufreq/policy1/scaling_governor") != "powersave\n" {
		t.Error("it was not set")
	}
	var p *link.Problem
	if err := set("plan", "turbo"); !errors.As(err, &p) || p.Status != http.StatusUnprocessableEntity {
		t.Errorf("what there is not is set: %v", err)
	}
	if err := set("speed", "1"); !errors.As(err, &p) || p.Status != http.StatusNotFound {
		t.Errorf("what there is not is set: %v", err)
	}
}
