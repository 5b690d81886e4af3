package steps

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/work"
)

// settingAt parts a setting into its folder and its name: a path whose parts stand between / or, where there is
// one in it, \.
func settingAt(path string) (folder []string, name string) {
	by := "/"
	if strings.Contains(path, `\`) {
		by = `\`
	}
	parts := strings.Split(strings.Trim(path, by), by)
	return parts[:len(parts)-1], parts[len(parts)-1]
}

// readSetting reads a setting; there is false where it is not.
func readSetting(ctx context.Context, h host.Host, path string) (v link.Setting, there bool, err error) {
	if h.Settings == nil {
		return v, false, errors.New("this device offers no settings")
	}
	folder, name := settingAt(path)
	page, err := h.Settings.List(ctx, link.SettingsAt{Path: folder})
	var problem *link.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return v, false, nil
	}
	if err != nil {
		return v, false, err
	}
	for _, one := range page.Items {
		if one.Name == name && !one.Folder {
			return one, true, nil
		}
	}
	return v, false, nil
}

// Probe looks at a setting, as a policy asks for.
func Probe(ctx context.Context, h host.Host, path string) (r device.ProbeResult) {
	v, there, err := readSetting(ctx, h, path)
	if err != nil {
		r.Unknown, r.Detail = true, err.Error()
		return r
	}
	r.OK, r.Detail = there, v.Value
	return r
}

func (r *doing) set(ctx context.Context, s work.Step) (string, error) {
	was, there, err := readSetting(ctx, r.Host, s.Path)
	if err != nil {
		return "", err
	}
	folder, name := settingAt(s.Path)
	if there && !s.Gone && was.Value == s.Value || !there && s.Gone {
		return "", nil
	}
	d := link.SettingAction{Action: link.SettingSet, Path: folder, Name: name, Type: s.Type, Value: s.Value, Any: true, Keep: true}
	if there && d.Type == "" {
		d.Type = was.Type
	}
	if s.Gone {
		d.Action = link.SettingRemove
	}
	if _, err := r.Host.Settings.Do(ctx, d); err != nil {
		return "", err
	}
	undo := link.SettingAction{Action: link.SettingRemove, Path: folder, Name: name, Any: true, Keep: true}
	if there {
		undo = link.SettingAction{Action: link.SettingSet, Path: folder, Name: name, Type: was.Type, Value: was.Value, Any: true,
			Keep: true}
	}
	return back{Setting: &undo}.text(), nil
}
