package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/query"
)

var (
	typeFlag = &cli.StringFlag{Name: "type", Value: link.SettingText,
		Usage: "`TYPE` of the value: text, expandable, number, long, real, flag, list (an entry a line), binary (hexadecimal)"}
	keepFlag = &cli.BoolFlag{Name: "keep", Usage: "across a restart, where that must be asked for, as of kernel parameters"}
)

// settingPath parts a path into names, at backslashes where it has some, and else at slashes.
func settingPath(text string) []string {
	by := "/"
	if strings.Contains(text, `\`) {
		by = `\`
	}
	return slices.DeleteFunc(strings.Split(text, by), func(s string) bool { return s == "" })
}

// settingNamed parts a path into the folder and the name of a setting.
func settingNamed(text string) (folder []string, name string) {
	path := settingPath(text)
	if len(path) == 0 {
		return path, ""
	}
	return path[:len(path)-1], path[len(path)-1]
}

// listSettings prints the settings at a place.
func listSettings(ctx context.Context, k *client.Client, d *api.Device, path []string) (*link.SettingPage, error) {
	in := api.ListSettingsParams{}
	if len(path) > 0 {
		in.At = &path
	}
	return client.Result(k.ListSettingsWithResponse(ctx, d.ID, &in))
}

func settingValue(s link.Setting) string {
	if s.Folder {
		return "folder"
	}
	return cmp.Or(s.Problem, strings.ReplaceAll(s.Value, "\n", " | "))
}

func settingsCommand() *cli.Command {
	change := func(action string) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			folder, name := settingNamed(c.Args().Get(1))
			if name == "" || (action == link.SettingSet && c.NArg() < 3) {
				return fmt.Errorf("which setting? moor settings %s NAME PATH %s", action,
					map[bool]string{true: "VALUE"}[action == link.SettingSet])
			}
			in := link.SettingAction{Action: action, Path: folder, Name: name, Value: c.Args().Get(2), Keep: c.Bool("keep")}
			page, err := listSettings(ctx, k, d, folder)
			if err != nil {
				return err
			}
			if i := slices.IndexFunc(page.Items, func(s link.Setting) bool { return s.Name == name && !s.Folder }); i >= 0 {
				in.Was, in.Type = &page.Items[i].Value, page.Items[i].Type
			}
			if c.IsSet("type") || in.Type == "" {
				in.Type = cmp.Or(c.String("type"), link.SettingText)
			}
			out, err := client.Result(k.ChangeSettingWithResponse(ctx, d.ID, in))
			if err == nil {
				fmt.Println(out.Message)
			}
			return err
		}
	}
	return &cli.Command{Name: "settings", Usage: "look at and change the settings of a device: registry, preferences, kernel " +
		"parameters, configuration files",
		Description: "A PATH is the names from the store on, parted by slashes, or by backslashes where a name holds a slash.\nThat of " +
			"a setting below /etc names the file, its section and the key: configuration/ssh/sshd_config/Port.",
		Commands: []*cli.Command{{
			Name: "list", Usage: "list what stands at a place", ArgsUsage: "NAME [PATH]", Flags: []cli.Flag{jsonFlag},
			ShellComplete: completeDevices,
			Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				page, err := listSettings(ctx, k, d, settingPath(c.Args().Get(1)))
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return printJSON(page)
				}
				t := newTable("NAME", "TYPE", "VALUE", "ABOUT")
				for _, s := range page.Items {
					t.row(s.Name, s.Type, settingValue(s), s.About)
				}
				return t.flush()
			},
		}, {
			Name: "search", Usage: "look for a text in names and values at a place and below; without one, write out all",
			ArgsUsage: "NAME PATH [TEXT]", ShellComplete: completeDevices,
			Flags: []cli.Flag{&cli.BoolFlag{Name: "json", Usage: "print one JSON object a line"},
				&cli.IntFlag{Name: "most", Value: 1000, Usage: "values at most"}},
			Action: searchSettings,
		}, {
			Name: "set", Usage: "set a setting", ArgsUsage: "NAME PATH VALUE", Flags: []cli.Flag{typeFlag, keepFlag},
			ShellComplete: completeDevices, Action: change(link.SettingSet),
		}, {
			Name: "remove", Usage: "remove a setting", ArgsUsage: "NAME PATH", ShellComplete: completeDevices,
			Action: change(link.SettingRemove),
		}}}
}

func searchSettings(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	if c.NArg() < 2 {
		return errors.New("where? moor settings search NAME PATH [TEXT]")
	}
	q := link.SettingSearch{Path: settingPath(c.Args().Get(1)), Text: c.Args().Get(2), Most: c.Int("most")}
	r, err := k.SearchSettings(ctx, d.ID, q)
	return client.Lines(ctx, r, err, "while the settings were looked through", func(f link.SettingFound) (bool, error) {
		if f.Setting != nil {
			if c.Bool("json") {
				text, err := jsonLine(f)
				fmt.Println(text)
				return false, err
			}
			fmt.Printf("%s = %s\n", device.CleanText(strings.Join(append(f.Path, f.Setting.Name), "/")),
				device.CleanText(settingValue(*f.Setting)))
		}
		if f.More {
			fmt.Fprintf(os.Stderr, "There are more than %d: narrow the search, or give --most.\n", q.Most)
		}
		return f.Done, nil
	})
}

func queryCommand() *cli.Command {
	return &cli.Command{Name: "query", Usage: "ask a device for management data", ArgsUsage: "NAME QUERY", ShellComplete: completeDevices,
		Description: "A query names a class, and perhaps conditions, fields and a number of rows:\n  moor query sal-records 'service " +
			"where state == \"failed\" show name, since most 20'\n" +
			"Comparisons are ==, !=, <, <=, >, >=, contains, starts and matches (RE2). Ask many devices with moor many query.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "json", Usage: "print one JSON object a line"},
			&cli.BoolFlag{Name: "classes", Usage: "list the classes of the device, with their fields"},
			&cli.BoolFlag{Name: "saved", Usage: "list the queries that were saved"},
			&cli.StringFlag{Name: "save", Usage: "save the query under this `NAME`, too"},
			&cli.StringFlag{Name: "use", Usage: "ask the saved query of this `NAME`"}},
		Action: askQuery,
	}
}

func savedQueries(ctx context.Context, k *client.Client) func(func(api.SavedQuery, error) bool) {
	return client.Pages(func(cursor *string) (*api.SavedQueryPage, error) {
		return client.Result(k.ListQueriesWithResponse(ctx, &api.ListQueriesParams{Cursor: cursor}))
	})
}

func askQuery(ctx context.Context, c *cli.Command) error {
	if c.Bool("saved") {
		k, err := dial()
		if err != nil {
			return err
		}
		return list(c, savedQueries(ctx, k), 0, []string{"NAME", "QUERY", "SAVED BY"}, func(q api.SavedQuery) []string {
			return []string{q.Name, q.Text, q.SavedBy}
		})
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("classes") {
		list, err := client.Result(k.ListQueryClassesWithResponse(ctx, d.ID))
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return printJSON(list)
		}
		t := newTable("CLASS", "TITLE", "SOURCE", "FIELDS")
		for _, class := range list.Items {
			names := make([]string, len(class.Fields))
			for i, f := range class.Fields {
				names[i] = f.Name
			}
			t.row(class.Name, class.Title, class.Source, strings.Join(names, " "))
		}
		return t.flush()
	}
	text := strings.Join(c.Args().Tail(), " ")
	if name := c.String("use"); name != "" {
		for q, err := range savedQueries(ctx, k) {
			if err != nil {
				return err
			}
			if strings.EqualFold(q.Name, name) {
				text = q.Text
			}
		}
	}
	q, err := query.Parse(text)
	if err != nil {
		return fmt.Errorf("the query cannot be read: %w", err)
	}
	if name := c.String("save"); name != "" {
		if _, err := client.Made(k.SaveQueryWithResponse(ctx, api.NewSavedQuery{Name: name, Text: q.String()})); err != nil {
			return err
		}
	}
	var t *table
	fields := q.Fields
	r, err := k.AskQuery(ctx, d.ID, link.Query{Text: q.String()})
	err = client.Lines(ctx, r, err, "while the device was asked", func(row link.QueryRow) (bool, error) {
		if row.Row != nil && c.Bool("json") {
			text, err := jsonLine(row.Row)
			fmt.Println(text)
			return false, err
		}
		if row.Row != nil {
			if len(fields) == 0 {
				fields = allFields(ctx, k, d, q.Class)
			}
			if t == nil {
				heads := make([]string, len(fields))
				for i, f := range fields {
					heads[i] = strings.ToUpper(f)
				}
				t = newTable(heads...)
			}
			cells := make([]string, len(fields))
			for i, f := range fields {
				cells[i] = query.Text(row.Row[f])
			}
			t.row(cells...)
		}
		if row.More {
			fmt.Fprintf(os.Stderr, "There are more rows than %d: add a condition, or most N.\n", q.Rows())
		}
		return row.Done, nil
	})
	if t != nil {
		return errors.Join(err, t.flush())
	}
	if err == nil && !c.Bool("json") {
		fmt.Fprintln(os.Stderr, "No row fits.")
	}
	return err
}

// allFields are the fields of a class, in the order in which the device lists them.
func allFields(ctx context.Context, k *client.Client, d *api.Device, class string) (names []string) {
	list, err := client.Result(k.ListQueryClassesWithResponse(ctx, d.ID))
	if err != nil {
		return []string{"name"}
	}
	for _, x := range list.Items {
		if x.Name == class {
			for _, f := range x.Fields {
				names = append(names, f.Name)
			}
		}
	}
	return names
}
