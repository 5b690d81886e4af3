package portable

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"moorwatch.example/contract/link"
)

// powerStore holds how a computer trades speed for power.
const powerStore = "power"

// powerSetting is one such setting: the files below /sys that hold it, and the one that names what it may
// be.
type powerSetting struct{ name, about, files, choices string }

var powerSettings = []powerSetting{
	// The kernel's ABI documentation, sysfs-platform_profile and sysfs-devices-system-cpu.
	{"plan", "Power plan of the firmware", "/sys/firmware/acpi/platform_profile", "/sys/firmware/acpi/platform_profile_choices"},
	{"governor", "How the processors' clock follows the load", "/sys/devices/system/cpu/cpufreq/policy*/scaling_governor",
		"/sys/devices/system/cpu/cpufreq/policy0/scaling_available_governors"},
}

// places are the files of a setting that this computer has.
func (s Settings) places(p powerSetting) ([]string, error) {
	real, err := s.Disk.Real(p.files)
	if err != nil {
		return nil, err
	}
	return filepath.Glob(real)
}

// powerFolder lists what this computer has of them.
func (s Settings) powerFolder() ([]link.Setting, error) {
	items := []link.Setting{}
	for _, p := range powerSettings {
		files, err := s.places(p)
		if err != nil {
			return nil, err
		}
		if len(files) == 0 {
			continue
		}
		value, choices := s.powerValue(p, files)
		items = append(items, link.Setting{Name: p.name, Type: link.SettingText, Value: value, About: p.about + ": one of " +
			strings.Join(choices, ", ")})
	}
	return items, nil
}

// powerValue reads a setting; where the processors differ it is all of theirs.
func (s Settings) powerValue(p powerSetting, files []string) (value string, choices []string) {
	var values []string
	for _, f := range files {
		text, _ := os.ReadFile(f)
		if v := strings.TrimSpace(string(text)); !slices.Contains(values, v) {
			values = append(values, v)
		}
	}
	if real, err := s.Disk.Real(p.choices); err == nil {
		text, _ := os.ReadFile(real)
		choices = strings.Fields(string(text))
	}
	return strings.Join(values, ", "), choices
}

func (s Settings) setPower(d link.SettingAction) (link.Outcome, error) {
	i := slices.IndexFunc(powerSettings, func(p powerSetting) bool { return p.name == d.Name })
	if i < 0 || len(d.Path) != 1 {
		return link.Outcome{}, problem(http.StatusNotFound, "there is no setting %s of power", d.Name)
	}
	files, err := s.places(powerSettings[i])
	if err != nil {
		return link.Outcome{}, err
	}
	if len(files) == 0 {
		return link.Outcome{}, problem(http.StatusNotFound, "this computer has no setting %s of power", d.Name)
	}
	old, choices := s.powerValue(powerSettings[i], files)
	switch {
	case d.Action != link.SettingSet:
		return link.Outcome{}, problem(http.StatusConflict, "it cannot be removed, only set")
	case !slices.Contains(choices, d.Value):
		return link.Outcome{}, problem(http.StatusUnprocessableEntity, "%s is one of %s, and not %q", d.Name, strings.Join(choices, ", "),
			d.Value)
	}
	if err := Changed(d, old, true); err != nil {
		return link.Outcome{}, err
	}
	for _, f := range files {
		if err := os.WriteFile(f, []byte(d.Value+"\n"), 0o644); err != nil {
			return link.Outcome{}, unlike(d.Name, err)
		}
	}
	return link.Outcome{Message: fmt.Sprintf("%s is %s, and was %s. It is so until the next start.", d.Name, d.Value, old)}, nil
}
