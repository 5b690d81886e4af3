package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// outcome prints how a deed ended.
func outcome(c *cli.Command, o *link.Outcome, err error) error {
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(o)
	}
	fmt.Println(device.CleanText(o.Message))
	return nil
}

func processesCommand() *cli.Command {
	deed := func(name, usage string, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME PID", Flags: append(flags, jsonFlag), ShellComplete: completeDevices,
			Action: func(ctx context.Context, c *cli.Command) error {
				pid, err := strconv.Atoi(c.Args().Get(1))
				if err != nil || c.NArg() != 2 {
					return fmt.Errorf("moor processes %s NAME PID: moor processes list NAME shows the numbers", name)
				}
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				order := link.ProcessDeed{Deed: name, PID: pid, Force: c.Bool("force"), Priority: c.String("to")}
				o, err := client.Result(k.ChangeProcessWithResponse(ctx, d.ID, order))
				return outcome(c, o, err)
			}}
	}
	force := &cli.BoolFlag{Name: "force", Usage: "at once; what it has not saved is lost"}
	return &cli.Command{
		Name:  "processes",
		Usage: "list and change the processes of a device, unseen by its user",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list processes, the busiest first", ArgsUsage: "NAME", ShellComplete: completeDevices, Action: listProcesses,
				Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "by", Value: "cpu", Usage: "sort by cpu, memory, name or pid"}, &cli.IntFlag{Name: "most", Value: 40, Usage: "rows; 0 for all"}}},
			{Name: "past", Usage: "show what was busiest in the last hour", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: listSpikes},
			deed(link.ProcessEnd, "end a process", force), deed(link.ProcessEndTree, "end a process and all that it started", force),
			deed(link.ProcessPause, "pause a process"), deed(link.ProcessContinue, "have a paused process go on"),
			deed(link.ProcessPriority, "set the priority of a process", &cli.StringFlag{Name: "to", Required: true, Usage: "low, below-normal, normal, above-normal or high"}),
			{Name: "start", Usage: "start a program and leave it running", ArgsUsage: "NAME -- PROGRAM [ARGUMENT ...]", ShellComplete: completeDevices,
				Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "as", Usage: "as this `PERSON`, who is signed in"}, &cli.BoolFlag{Name: "visible", Usage: "on their desktop: they see it"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					argv := slices.DeleteFunc(c.Args().Tail(), func(a string) bool { return a == "--" })
					if len(argv) == 0 {
						return errors.New("which program? moor processes start NAME -- PROGRAM")
					}
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					o, err := client.Result(k.StartProgramWithResponse(ctx, d.ID, link.Program{Argv: argv, Person: c.String("as"), Visible: c.Bool("visible")}))
					return outcome(c, o, err)
				}},
		},
	}
}

func listProcesses(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	// Rates need two looks: the second of the stream is the first that tells of now.
	var all link.Processes
	looks := 0
	r, err := k.WatchProcesses(ctx, d.ID)
	err = client.Lines(ctx, r, err, "before it was whole", func(p link.Processes) (bool, error) {
		all = p
		looks++
		return looks == 2, nil
	})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(all)
	}
	slices.SortFunc(all.Items, func(a, b link.Process) int {
		switch c.String("by") {
		case "memory":
			return cmp.Compare(b.Memory, a.Memory)
		case "name":
			return cmp.Compare(a.Name, b.Name)
		case "pid":
			return cmp.Compare(a.PID, b.PID)
		}
		return cmp.Compare(b.CPU, a.CPU)
	})
	most := c.Int("most")
	if most <= 0 {
		most = len(all.Items)
	}
	t := newTable("PID", "CPU %", "MEMORY", "DISK", "RUNS AS", "STATE", "NAME", "LISTENS ON")
	for _, p := range all.Items[:min(most, len(all.Items))] {
		disk := ""
		if p.Read+p.Written > 100 {
			disk = health.Bytes(int64(p.Read+p.Written)) + "/s"
		}
		t.row(fmt.Sprintf("%6d", p.PID), fmt.Sprintf("%5.1f", p.CPU), health.Bytes(p.Memory), disk, p.Person, p.State, p.Name, strings.Join(p.Listening, ", "))
	}
	if err := t.flush(); err != nil {
		return err
	}
	if rest := len(all.Items) - most; rest > 0 {
		fmt.Fprintf(os.Stderr, "%d more: --most 0 shows all.\n", rest)
	}
	return nil
}

func listSpikes(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	list, err := client.Result(k.ListSpikesWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(list.Items)
	}
	t := newTable("AT", "CPU %", "BUSIEST")
	for _, s := range list.Items {
		var names []string
		for _, p := range s.Busiest {
			names = append(names, fmt.Sprintf("%s %.0f %%", p.Name, p.CPU))
		}
		t.row(s.At.Local().Format("15:04:05"), fmt.Sprintf("%5.1f", s.CPU), strings.Join(names, ", "))
	}
	return t.flush()
}

func servicesCommand() *cli.Command {
	deed := func(name, usage string, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME SERVICE", Flags: append(flags, jsonFlag), ShellComplete: completeDevices,
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.NArg() != 2 {
					return fmt.Errorf("moor services %s NAME SERVICE", name)
				}
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				order := link.ServiceDeed{Deed: name, Name: c.Args().Get(1), Start: c.String("to"), Stops: c.StringSlice("stopping")}
				o, err := client.Result(k.ChangeServiceWithResponse(ctx, d.ID, order))
				return outcome(c, o, err)
			}}
	}
	stopping := &cli.StringSliceFlag{Name: "stopping", Usage: "a `SERVICE` that may stop with it; without, the deed is refused where one would"}
	return &cli.Command{
		Name:  "services",
		Usage: "list and change the services of a device, unseen by its user",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list services", ArgsUsage: "NAME", ShellComplete: completeDevices, Action: listServices, Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "state", Usage: "only those that are running, stopped or failed"}}},
			{Name: "show", Usage: "show one service, what stops with it, and its last lines", ArgsUsage: "NAME SERVICE", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: showService},
			deed(link.ServiceStart, "start a service"), deed(link.ServiceStop, "stop a service", stopping), deed(link.ServiceRestart, "restart a service", stopping),
			deed(link.ServiceMode, "change when a service starts", &cli.StringFlag{Name: "to", Required: true, Usage: "automatic, manual or disabled"}),
		},
	}
}

func listServices(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	list, err := client.Result(k.ListServicesWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	items := slices.DeleteFunc(list.Items, func(s link.Service) bool { return c.String("state") != "" && s.State != c.String("state") })
	if c.Bool("json") {
		return printJSON(items)
	}
	t := newTable("NAME", "STATE", "STARTS", "MEMORY", "WHAT IT IS")
	for _, s := range items {
		memory := ""
		if s.Memory > 0 {
			memory = health.Bytes(s.Memory)
		}
		t.row(s.Name, s.State, s.Start, memory, s.Title)
	}
	return t.flush()
}

func showService(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return errors.New("moor services show NAME SERVICE")
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	s, err := client.Result(k.GetServiceWithResponse(ctx, d.ID, c.Args().Get(1)))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(s)
	}
	fmt.Printf("%s: %s (%s), starts %s\n", device.CleanText(s.Name), s.State, device.CleanText(s.Detail), s.Start)
	for _, line := range []struct {
		what string
		list []string
	}{{"needs", s.Needs}, {"stops with it", s.NeededBy}} {
		if len(line.list) > 0 {
			fmt.Printf("%s: %s\n", line.what, device.CleanText(strings.Join(line.list, ", ")))
		}
	}
	printLines(strings.Join(s.Log, "\n") + "\n")
	return nil
}

func eventsCommand() *cli.Command {
	return &cli.Command{
		Name:          "events",
		Usage:         "read and follow the event logs of a device, unseen by its user",
		ArgsUsage:     "NAME [LOG]",
		Description:   "Without LOG the first of the device's logs is read; --logs lists them.",
		ShellComplete: completeDevices,
		Flags: []cli.Flag{&cli.BoolFlag{Name: "json", Usage: "print one JSON object a line"}, &cli.BoolFlag{Name: "logs", Usage: "list the device's logs"}, &cli.BoolFlag{Name: "follow", Usage: "print what comes, too, until Ctrl+C"},
			&cli.StringFlag{Name: "level", Usage: "this `LEVEL` and worse: emergency, alert, critical, error, warning, notice, info, debug"}, &cli.StringFlag{Name: "unit", Usage: "only of this `SOURCE`"},
			&cli.StringFlag{Name: "text", Usage: "only messages that match this `PATTERN` (RE2)"}, &cli.DurationFlag{Name: "since", Usage: "how far back, such as 2h"}, &cli.IntFlag{Name: "last", Value: 50, Usage: "at most so many of the past"}},
		Action: readEvents,
	}
}

func readEvents(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	q := link.EventQuery{Source: c.Args().Get(1), Level: c.String("level"), Unit: c.String("unit"), Text: c.String("text"), Last: c.Int("last"), Follow: c.Bool("follow")}
	if since := c.Duration("since"); since > 0 {
		q.Since = time.Now().Add(-since)
	}
	if q.Source == "" || c.Bool("logs") {
		list, err := client.Result(k.ListEventSourcesWithResponse(ctx, d.ID))
		if err != nil {
			return err
		}
		if c.Bool("logs") {
			t := newTable("LOG", "KIND", "TITLE")
			for _, s := range list.Items {
				t.row(s.Name, s.Kind, s.Title)
			}
			return t.flush()
		}
		if len(list.Items) == 0 {
			return fmt.Errorf("%s has no log that its agent can read", d.Name)
		}
		q.Source = list.Items[0].Name
	}
	r, err := k.ReadEvents(ctx, d.ID, q)
	return client.Lines(ctx, r, err, "while the log was read", func(b link.EventBatch) (bool, error) {
		for _, e := range b.Events {
			if c.Bool("json") {
				text, err := jsonLine(e)
				if err != nil {
					return false, err
				}
				fmt.Println(text)
				continue
			}
			fmt.Printf("%s %-9s %s: %s\n", e.At.Local().Format("2006-01-02 15:04:05"), e.Level, device.CleanText(e.Unit), device.CleanText(e.Message))
		}
		if b.Skipped > 0 {
			fmt.Fprintf(os.Stderr, "%d events were left out, as they came too fast.\n", b.Skipped)
		}
		return b.Done, nil
	})
}

func networkCommand() *cli.Command {
	return &cli.Command{
		Name:  "network",
		Usage: "look at the network from a device",
		Commands: []*cli.Command{
			{Name: "show", Usage: "show addresses, routes, resolvers, neighbours and connections", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: showNetwork},
			{Name: "reach", Usage: "test whether the device reaches something", ArgsUsage: "NAME KIND TARGET", Description: "KIND is echo, tcp (with --port), name (a lookup) or web (a page).", ShellComplete: completeDevices,
				Flags: []cli.Flag{&cli.IntFlag{Name: "port", Usage: "of tcp"}, &cli.IntFlag{Name: "times", Value: 4}}, Action: testReach},
			{Name: "scan", Usage: "look for hosts on a network that the device is on", ArgsUsage: "NAME NETWORK", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: scanNetwork},
		},
	}
}

func showNetwork(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	n, err := client.Result(k.GetNetworkWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(n)
	}
	t := newTable("INTERFACE", "HARDWARE", "ADDRESSES")
	for _, i := range n.Interfaces {
		t.row(i.Name, i.Hardware, strings.Join(i.Addresses, ", "))
	}
	t.row()
	t.row("ROUTE TO", "BY", "INTERFACE")
	for _, r := range n.Routes {
		t.row(r.To, r.By, r.Interface)
	}
	t.row()
	t.row("NEIGHBOUR", "HARDWARE", "DEVICE")
	for _, h := range n.Neighbours {
		t.row(h.Address, h.Hardware, cmp.Or(h.Device, "no agent"))
	}
	t.row()
	t.row("CONNECTION", "STATE", "PROCESS")
	for _, o := range n.Connections {
		t.row(strings.TrimSuffix(o.Protocol+" "+o.Local+" - "+o.Remote, " - "), o.State, o.Process)
	}
	t.row()
	t.row("RESOLVERS", strings.Join(n.Resolvers, ", "))
	return t.flush()
}

func testReach(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 3 {
		return errors.New("moor network reach NAME KIND TARGET")
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	reached := false
	r, err := k.TestReach(ctx, d.ID, link.Reach{Kind: c.Args().Get(1), Target: c.Args().Get(2), Port: c.Int("port"), Times: c.Int("times")})
	err = client.Lines(ctx, r, err, "before the test was over", func(l link.ReachResult) (bool, error) {
		text := device.CleanText(l.Text)
		if l.Milliseconds > 0 {
			text += fmt.Sprintf(", %.1f ms", l.Milliseconds)
		}
		fmt.Println(text)
		reached = reached || l.OK
		return l.Done, nil
	})
	if err == nil && !reached {
		return exitStatus(1)
	}
	return err
}

func scanNetwork(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return errors.New("moor network scan NAME NETWORK")
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	found := map[string]link.Neighbour{}
	r, err := k.ScanNetwork(ctx, d.ID, link.Scan{Network: c.Args().Get(1)})
	err = client.Lines(ctx, r, err, "before the scan was over", func(e link.ScanEvent) (bool, error) {
		if e.Found != nil {
			found[e.Found.Address] = *e.Found
		}
		return e.Done, nil
	})
	if err != nil {
		return err
	}
	list := []link.Neighbour{}
	for _, n := range found {
		list = append(list, n)
	}
	slices.SortFunc(list, func(a, b link.Neighbour) int { return cmp.Compare(a.Address, b.Address) })
	if c.Bool("json") {
		return printJSON(list)
	}
	t := newTable("ADDRESS", "HARDWARE", "ANSWERS AT")
	for _, n := range list {
		t.row(n.Address, n.Hardware, strings.Trim(fmt.Sprint(n.Open), "[]"))
	}
	return t.flush()
}

func powerCommand() *cli.Command {
	deed := func(name, usage string, session bool) *cli.Command {
		args := "NAME"
		if session {
			args = "NAME SESSION"
		}
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, ShellComplete: completeDevices,
			Flags: []cli.Flag{jsonFlag, &cli.DurationFlag{Name: "in", Usage: "after this time, at most 1h"}, &cli.StringFlag{Name: "message", Usage: "what the person at the device is told"}, &cli.BoolFlag{Name: "wait", Usage: "wait until the device is back"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				began := time.Now()
				o, err := client.Result(k.ChangePowerWithResponse(ctx, d.ID, link.PowerDeed{Deed: name, Session: c.Args().Get(1), DelaySeconds: int(c.Duration("in").Seconds()), Message: c.String("message")}))
				if err := outcome(c, o, err); err != nil || !c.Bool("wait") {
					return err
				}
				return awaitBack(ctx, k, d, began)
			}}
	}
	return &cli.Command{
		Name:  "power",
		Usage: "restart or end a device, or a session on it: the person there notices",
		Commands: []*cli.Command{deed(link.PowerRestart, "restart it", false), deed(link.PowerFirmware, "restart it into its firmware's settings", false), deed(link.PowerRecovery, "restart it into its recovery or safe mode", false),
			deed(link.PowerOff, "shut it down", false), deed(link.PowerCancel, "call off what was to come", false), deed(link.PowerLogOff, "sign a session out", true), deed(link.PowerLock, "lock a session", true),
			{Name: "wake", Usage: "wake it through its neighbours (Wake-on-LAN)", ArgsUsage: "NAME", ShellComplete: completeDevices, Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				r, err := client.Result(k.WakeDeviceWithResponse(ctx, d.ID))
				if err == nil {
					fmt.Printf("%s (by %s)\n", r.Message, strings.Join(r.By, ", "))
				}
				return err
			}}},
	}
}

// backWithin is how long a restarted device is waited for.
const backWithin = 30 * time.Minute

func awaitBack(ctx context.Context, k *client.Client, d *api.Device, began time.Time) error {
	asked := ctx
	ctx, cancel := context.WithTimeout(ctx, backWithin)
	defer cancel()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			if asked.Err() != nil {
				return context.Canceled
			}
			return fmt.Errorf("%s was not back within %s", d.Name, backWithin)
		case <-tick.C:
		}
		now, err := k.Device(ctx, d.ID)
		if err == nil && now.Device.Online && now.Device.Since.After(began) {
			fmt.Printf("It is back, after %s.\n", time.Since(began).Round(time.Second))
			return nil
		}
	}
}

func peopleCommand() *cli.Command {
	return &cli.Command{
		Name:  "people",
		Usage: "see who is signed in at a device, and reach them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list who is signed in", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: func(ctx context.Context, c *cli.Command) error {
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				list, err := client.Result(k.ListPresenceWithResponse(ctx, d.ID))
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return printJSON(list.Items)
				}
				t := newTable("SESSION", "NAME", "KIND", "WHERE", "IDLE", "LOCKED")
				for _, p := range list.Items {
					idle := ""
					if p.IdleSeconds >= 0 {
						idle = lasted(time.Duration(p.IdleSeconds) * time.Second)
					}
					t.row(p.Session, p.Name, p.Kind, p.Where, idle, map[bool]string{true: "yes"}[p.Locked])
				}
				return t.flush()
			}},
			{Name: "message", Usage: "show a message and wait for an answer", ArgsUsage: "NAME TEXT", ShellComplete: completeDevices,
				Flags: []cli.Flag{jsonFlag, &cli.StringSliceFlag{Name: "button", Usage: "an `ANSWER` to choose from, at most three"}, &cli.StringFlag{Name: "session"}, &cli.DurationFlag{Name: "wait", Value: 2 * time.Minute, Usage: "how long it stays"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.NArg() != 2 {
						return errors.New("moor people message NAME TEXT")
					}
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					a, err := client.Result(k.ShowMessageWithResponse(ctx, d.ID, link.Message{Text: c.Args().Get(1), Buttons: c.StringSlice("button"), Session: c.String("session"), Seconds: int(c.Duration("wait").Seconds())}))
					if err != nil {
						return err
					}
					switch {
					case c.Bool("json"):
						return printJSON(a)
					case a.Answer != "":
						fmt.Printf("%s answered: %s\n", cmp.Or(a.By, "They"), a.Answer)
					default:
						fmt.Println("No answer: " + a.Reason)
						return exitStatus(1)
					}
					return nil
				}},
			{Name: "clipboard", Usage: "put a text on the clipboard of the person at the device", ArgsUsage: "NAME TEXT", Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: func(ctx context.Context, c *cli.Command) error {
				if c.NArg() != 2 {
					return errors.New("moor people clipboard NAME TEXT")
				}
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				o, err := client.Result(k.SetClipboardWithResponse(ctx, d.ID, link.Clip{Text: c.Args().Get(1)}))
				return outcome(c, o, err)
			}},
		},
	}
}

func sessionsCommand() *cli.Command {
	return &cli.Command{
		Name:          "sessions",
		Usage:         "list who worked on a device, with which tool and whose consent",
		ArgsUsage:     "[NAME]",
		Flags:         []cli.Flag{jsonFlag},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			var read func(cursor *string) ([]api.ToolSession, *string, error)
			if c.NArg() > 0 {
				d, err := k.Find(ctx, c.Args().First())
				if err != nil {
					return err
				}
				read = func(cursor *string) ([]api.ToolSession, *string, error) {
					page, err := client.Result(k.ListDeviceSessionsWithResponse(ctx, d.ID, &api.ListDeviceSessionsParams{Cursor: cursor}))
					if err != nil {
						return nil, nil, err
					}
					return page.Items, page.Next, nil
				}
			} else {
				read = func(cursor *string) ([]api.ToolSession, *string, error) {
					page, err := client.Result(k.ListSessionsWithResponse(ctx, &api.ListSessionsParams{Cursor: cursor}))
					if err != nil {
						return nil, nil, err
					}
					return page.Items, page.Next, nil
				}
			}
			rows := client.Pages(read)
			if c.Bool("json") {
				return jsonList(rows)
			}
			t := newTable("BEGAN", "DEVICE", "TOOL", "WHO", "LASTED", "DEEDS", "CONSENT")
			for s, err := range rows {
				if err != nil {
					return err
				}
				end := s.LastAt
				if s.EndedAt != nil {
					end = *s.EndedAt
				}
				t.row(s.BeganAt.Local().Format("2006-01-02 15:04"), s.Device, s.Tool, s.Actor, lasted(end.Sub(s.BeganAt)), fmt.Sprint(s.Deeds), s.Consent)
			}
			return t.flush()
		},
	}
}
