package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

func devicesCommand() *cli.Command {
	return &cli.Command{
		Name:  "devices",
		Usage: "list devices, all or those that are picked",
		Description: "Of a flag that is given more than once a device has one of the values; of several flags it has each:\n\n" +
			"  moor devices --site 'Haywater branch' --condition failing --condition degraded\n" +
			"  moor devices --where 'os == \"windows\" && disk > 80'",
		Flags: listFlags(pickFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if c.Args().Present() {
				return errors.New("devices takes no name: use moor device NAME, or --where")
			}
			where, group, err := pick(ctx, c, k)
			if err != nil {
				return err
			}
			return listOr(c, k.Chosen(ctx, where, group), 0, "No device matches.",
				[]string{"NAME", "CONDITION", "ORGANISATION", "SITE", "OS", "ADDRESS", "CPU", "MEMORY", "DISK", "PERSON"},
				func(d api.Device) []string {
					return []string{d.Name, string(d.Condition), d.Organisation, d.Site, d.OSName, first(d.Addresses), percent(d.CPU),
						percent(d.Memory), percent(d.Disk), personOf(d)}
				})
		},
	}
}

// personOf is who is signed in at a device, or who was last and when.
func personOf(d api.Device) string {
	if len(d.People) > 0 || len(d.LastPeople) == 0 || d.LastPeopleAt == nil {
		return strings.Join(d.People, ", ")
	}
	return strings.Join(d.LastPeople, ", ") + ", " + ago(*d.LastPeopleAt)
}

func deviceCommand() *cli.Command {
	return &cli.Command{
		Name:          "device",
		Usage:         "show one device whole",
		ArgsUsage:     "NAME",
		Flags:         []cli.Flag{jsonFlag},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			whole, err := k.Device(ctx, d.ID)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(deviceJSON{whole.Device, whole.EnrolledAt, whole.Facts, whole.Vitals, whole.Findings})
			}
			return show(os.Stdout, whole)
		},
	}
}

// deviceJSON is a device's row with what belongs to it beside it, so that programs find the same
// names in a list and in one device.
type deviceJSON struct {
	api.Device
	EnrolledAt time.Time        `json:"enrolled_at"`
	Facts      *device.Facts    `json:"facts,omitempty"`
	Vitals     *device.Vitals   `json:"vitals,omitempty"`
	Findings   []health.Finding `json:"findings"`
}

func show(w io.Writer, whole *api.DeviceDetail) error {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	d := whole.Device
	line := func(name, format string, args ...any) { fmt.Fprintf(t, "%s\t%s\n", name, fmt.Sprintf(format, args...)) }
	line(d.Name, "%s, %s for %s", d.Condition, map[bool]string{true: "online", false: "silent"}[d.Online], since(d.Since))
	for _, f := range whole.Findings {
		line("  "+string(f.Level), "%s (%s)", f.Message, ago(f.Since))
	}
	line("where", "%s, %s", d.Organisation, d.Site)
	if d.Alias != nil {
		line("called", "%s", device.CleanText(*d.Alias))
	}
	if d.Note != nil {
		line("note", "%s", device.CleanText(*d.Note))
	}
	if f := whole.Facts; f != nil {
		line("system", "%s %s, %s, kernel %s", f.OSName, f.OSVersion, f.Arch, f.Kernel)
		line("hardware", "%s, serial %s", orNone(hardware(f)), orNone(f.Serial))
		line("processor", "%s, %d cores", orNone(f.CPUModel), f.Cores)
		line("addresses", "%s", strings.Join(f.Addresses, ", "))
		line("agent", "%s offers %s", f.AgentVersion, strings.Join(f.Capabilities, ", "))
	}
	if v := whole.Vitals; v != nil {
		line("read", "%s", ago(v.At))
		line("  cpu", "%.0f %%, load %.2f", v.CPU, v.Load1)
		line("  memory", "%.0f %% of %s, swap %.0f %%", v.Memory, health.Memory(v.MemoryBytes), v.Swap)
		for _, k := range v.Disks {
			line("  disk "+k.Mount, "%.0f %% of %s, %s left", k.Percent(), health.Bytes(k.TotalBytes),
				health.Bytes(k.TotalBytes-k.UsedBytes))
		}
		line("  network", "%s/s in, %s/s out", health.Bytes(int64(v.Receive)), health.Bytes(int64(v.Transmit)))
		for _, s := range v.Temperatures {
			line("  "+s.Sensor, "%.1f °C", s.Celsius)
		}
		for _, p := range v.People {
			line("  person", "%s at %s, idle %s", p.Name, orNone(p.Where), time.Duration(max(p.IdleSeconds, 0))*time.Second)
		}
		line("  up", "%s", time.Duration(v.UptimeSeconds)*time.Second)
	}
	line("id", "%s", d.ID)
	return t.Flush()
}

// hardware names maker and model; many models begin with their maker.
func hardware(f *device.Facts) string {
	if strings.HasPrefix(f.Model, f.Vendor) {
		return f.Model
	}
	return strings.TrimSpace(f.Vendor + " " + f.Model)
}

// target finds the device that the first argument names.
func target(ctx context.Context, c *cli.Command) (*client.Client, *api.Device, error) {
	k, err := dial()
	if err != nil {
		return nil, nil, err
	}
	name := c.Args().First()
	if name == "" {
		return nil, nil, fmt.Errorf("which device? moor %s NAME", c.Name)
	}
	d, err := k.Find(ctx, name)
	return k, d, err
}

// completeDevices offers the names of devices, within two seconds.
func completeDevices(ctx context.Context, c *cli.Command) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	k, err := dial()
	if err != nil || c.Args().Len() > 1 {
		return
	}
	for d, err := range k.Devices(ctx, "") {
		if err != nil {
			return
		}
		fmt.Fprintln(c.Root().Writer, d.Name)
	}
}

func siteCommand() *cli.Command {
	return &cli.Command{Name: "site", Usage: "list, add and rename sites and organisations", Commands: []*cli.Command{{
		Name: "list", Usage: "list organisations and their sites", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return list(c, organisationRows(ctx, k), 0, []string{"ORGANISATION", "SITES"}, func(o api.Organisation) []string {
				names := make([]string, len(o.Sites))
				for i, s := range o.Sites {
					names[i] = s.Name
				}
				return []string{o.Name, strings.Join(names, ", ")}
			})
		},
	}, {
		Name: "add", Usage: "add a site, and its organisation where that is new", ArgsUsage: "ORGANISATION SITE",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			if c.Args().Len() != 2 {
				return errors.New("name the organisation and the site: moor site add ORGANISATION SITE")
			}
			s, err := client.Made(k.AddSiteWithResponse(ctx, api.NewSite{Organisation: c.Args().Get(0), Site: c.Args().Get(1)}))
			if err != nil {
				return err
			}
			fmt.Printf("Added %s of %s.\n", s.Name, s.Organisation)
			return nil
		},
	}, {
		Name: "rename", Usage: "give a site, or an organisation, another name", ArgsUsage: "ORGANISATION [SITE] NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			n := c.Args().Len()
			if n < 2 || n > 3 {
				return errors.New("say what is renamed, and to what: moor site rename ORGANISATION [SITE] NAME")
			}
			to := api.NewName{Name: c.Args().Get(n - 1)}
			o, err := findOrganisation(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			if n == 2 {
				return client.Done(k.RenameOrganisationWithResponse(ctx, o.ID, to))
			}
			for _, s := range o.Sites {
				if s.Name == c.Args().Get(1) {
					return client.Done(k.RenameSiteWithResponse(ctx, s.ID, to))
				}
			}
			return fmt.Errorf("%s has no site %q: moor site list shows them", o.Name, c.Args().Get(1))
		},
	}}}
}

func findOrganisation(ctx context.Context, k *client.Client, name string) (api.Organisation, error) {
	for o, err := range organisationRows(ctx, k) {
		if err != nil || o.Name == name {
			return o, err
		}
	}
	return api.Organisation{}, fmt.Errorf("there is no organisation %q: moor site list shows them", name)
}

func noteCommand() *cli.Command {
	return &cli.Command{
		Name: "note", Usage: "set what people call a device, and what they note about it", ArgsUsage: "NAME [NOTE]",
		Description:   "What is left out stays; an empty text takes away what was there.",
		Flags:         []cli.Flag{&cli.StringFlag{Name: "alias", Usage: "what people call it"}},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			in := api.DeviceNote{}
			if d.Alias != nil {
				in.Alias = *d.Alias
			}
			if d.Note != nil {
				in.Note = *d.Note
			}
			if c.IsSet("alias") {
				in.Alias = c.String("alias")
			}
			if c.Args().Len() > 1 {
				in.Note = strings.Join(c.Args().Tail(), " ")
			} else if !c.IsSet("alias") {
				return errors.New("say what is noted: moor note NAME NOTE, or --alias ALIAS")
			}
			return client.Done(k.SetDeviceNoteWithResponse(ctx, d.ID, in))
		},
	}
}

// approval has the devices of a token wait until somebody lets them in.
var approval = &cli.BoolFlag{Name: "approval",
	Usage: "devices wait until somebody lets them in; so it is for more than one, and --approval=false turns it off"}

// approvalFlag is what was said of it; nil for nothing.
func approvalFlag(c *cli.Command) *bool {
	if !c.IsSet("approval") {
		return nil
	}
	on := c.Bool("approval")
	return &on
}

func enrolmentCommand() *cli.Command {
	return &cli.Command{Name: "enrolment", Usage: "make, list and revoke tokens with which devices enrol", Commands: []*cli.Command{{
		Name: "add", Usage: "make an enrolment token; its secret is printed this once",
		Flags: []cli.Flag{jsonFlag,
			&cli.StringFlag{Name: "organisation", Required: true, Usage: "where the devices belong"},
			&cli.StringFlag{Name: "site", Required: true, Usage: "where they stand"},
			&cli.IntFlag{Name: "uses", Value: 1, Usage: "how many devices may enrol with it"},
			&cli.IntFlag{Name: "hours", Value: 24, Usage: "hours until it expires"},
			approval},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			uses, hours := c.Int("uses"), c.Int("hours")
			t, err := client.Made(k.AddEnrolmentTokenWithResponse(ctx,
				api.NewEnrolmentToken{Organisation: c.String("organisation"), Site: c.String("site"), Uses: &uses, Hours: &hours,
					Approval: approvalFlag(c)}))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(t)
			}
			s, err := load()
			if err != nil {
				return err
			}
			fmt.Printf("%s\n\nOn the device, with the token in a file of its own:\n\n  moor-agent install --service %s --token-file FILE\n",
				t.Secret, s.URL)
			return nil
		},
	}, {
		Name: "list", Usage: "list enrolment tokens, newest first", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := client.Pages(func(cursor *string) (*api.EnrolmentTokenPage, error) {
				return client.Result(k.ListEnrolmentTokensWithResponse(ctx, &api.ListEnrolmentTokensParams{Cursor: cursor}))
			})
			return list(c, rows, 0, []string{"ID", "ORGANISATION", "SITE", "USED", "OF", "EXPIRES", "STATE"},
				func(e api.EnrolmentToken) []string {
					return []string{e.ID.String(), e.Organisation, e.Site, fmt.Sprint(e.Used), fmt.Sprint(e.Uses),
						e.ExpiresAt.Local().Format("2 Jan 15:04"), tokenState(e.RevokedAt, e.ExpiresAt, e.Used >= e.Uses)}
				})
		},
	}, {
		Name: "revoke", Usage: "revoke an enrolment token", ArgsUsage: "ID",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, id, err := identified(c)
			if err != nil {
				return err
			}
			return client.Done(k.RevokeEnrolmentTokenWithResponse(ctx, id))
		},
	}}}
}

func tokenState(revoked *time.Time, expires time.Time, usedUp bool) string {
	switch {
	case revoked != nil:
		return "revoked"
	case expires.Before(time.Now()):
		return "expired"
	case usedUp:
		return "used up"
	}
	return "valid"
}

// identified reads the id that the first argument is.
func identified(c *cli.Command) (*client.Client, uuid.UUID, error) {
	id, err := uuid.Parse(c.Args().First())
	if err != nil {
		return nil, id, fmt.Errorf("which one? give its id, as moor %s list shows it", strings.Fields(c.FullName())[1])
	}
	k, err := dial()
	return k, id, err
}

func printJSON(v any) error {
	e := json.NewEncoder(os.Stdout)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
