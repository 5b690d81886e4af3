package portable

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"moorwatch.example/contract/link"
)

// SearchSettings looks through settings that list lists, folder after folder.
func SearchSettings(ctx context.Context, list func(context.Context, link.SettingsAt) (link.SettingPage, error), q link.SettingSearch,
	send func(link.SettingFound) error) error {
	text, most := strings.ToLower(q.Text), cmp.Or(q.Most, 1000)
	if most < 0 || most > link.MaxSettings {
		return problem(http.StatusBadRequest, "at most %d settings are sent", link.MaxSettings)
	}
	checked, found := 0, 0
	var search func(path []string) error
	search = func(path []string) error {
		l, err := list(ctx, link.SettingsAt{Path: path})
		if err != nil {
			if len(path) > len(q.Path) {
				return nil // one that cannot be read does not keep the others
			}
			return err
		}
		if checked++; checked%50 == 0 {
			if err := send(link.SettingFound{Checked: checked}); err != nil {
				return err
			}
		}
		for _, i := range l.Items {
			hit := strings.Contains(strings.ToLower(i.Name), text) || strings.Contains(strings.ToLower(i.Value), text)
			if hit && (!i.Folder || text != "") {
				if found++; found > most {
					return errEnough
				}
				if err := send(link.SettingFound{Path: l.Path, Setting: &i}); err != nil {
					return err
				}
			}
			if i.Folder && len(path) < maxDepth {
				if err := search(append(slices.Clone(path), i.Name)); err != nil {
					return err
				}
			}
		}
		return ctx.Err()
	}
	err := search(append([]string{}, q.Path...))
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	return send(link.SettingFound{Done: true, Checked: checked, More: errors.Is(err, errEnough)})
}

var errEnough = errors.New("enough was found")

// maxDepth is how deep settings are checked through.
const maxDepth = 24
