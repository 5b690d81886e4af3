package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// tally prints what comes back from many devices: failures as they come, then equal answers together.
func tally(c *cli.Command, within string, ask func(each func(api.SweepEvent) error) error) error {
	type count struct {
		value   string
		devices []string
	}
	counts := map[string]*count{}
	asked, failed := 0, 0
	sep := "[\n  "
	err := ask(func(e api.SweepEvent) error {
		if c.Bool("json") {
			text, err := jsonLine(e)
			fmt.Print(sep, text)
			sep = ",\n  "
			return err
		}
		switch {
		case e.Asked != nil:
			asked = *e.Asked
			if e.Offline != nil && len(*e.Offline) > 0 {
				fmt.Printf("Not asked, as they are silent: %s\n", strings.Join(*e.Offline, ", "))
			}
		case e.Done != nil:
			if e.Silent != nil && len(*e.Silent) > 0 {
				fmt.Printf("No answer within %s: %s\n", within, strings.Join(*e.Silent, ", "))
			}
		case e.Error != nil:
			failed++
			fmt.Printf("%s: %s\n", *e.Device, *e.Error)
		case e.Answer != nil:
			if counts[e.Answer.Value] == nil {
				counts[e.Answer.Value] = &count{value: e.Answer.Value}
			}
			one := counts[e.Answer.Value]
			one.devices = append(one.devices, *e.Device)
			if c.Bool("each") {
				fmt.Printf("%s: %s\n", *e.Device, e.Answer.Value)
			}
		}
		return nil
	})
	if c.Bool("json") {
		fmt.Println("\n]")
		return err
	}
	if err != nil {
		return err
	}
	list := slices.SortedFunc(maps.Values(counts), func(a, b *count) int {
		return cmp.Or(cmp.Compare(len(b.devices), len(a.devices)), cmp.Compare(a.value, b.value))
	})
	t := newTable("ANSWER", "DEVICES", "SUCH AS")
	answered := 0
	for _, one := range list {
		slices.Sort(one.devices)
		answered += len(one.devices)
		t.row(strings.ReplaceAll(one.value, "\n", " ⏎ "), fmt.Sprint(len(one.devices)),
			strings.Join(one.devices[:min(4, len(one.devices))], ", "))
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Printf("%d of %d devices answered.\n", answered+failed, asked)
	return nil
}

func manyCommand() *cli.Command {
	flags := func(more ...cli.Flag) []cli.Flag {
		return append(append(pickFlags(), jsonFlag,
			&cli.BoolFlag{Name: "yes", Usage: "do not ask first"}, &cli.BoolFlag{Name: "each", Usage: "print each device's answer"},
			&cli.IntFlag{Name: "seconds", Value: 120, Usage: "how long answers are awaited"}), more...)
	}
	do := func(name, usage, args string, least int, what func(c *cli.Command, args []string) (api.ManyAction, string),
		more ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, Flags: flags(more...),
			Action: func(ctx context.Context, c *cli.Command) error {
				rest := slices.DeleteFunc(c.Args().Slice(), func(a string) bool { return a == "--" })
				if len(rest) < least {
					return fmt.Errorf("moor many %s %s", name, args)
				}
				in, words := what(c, rest)
				return doOnMany(ctx, c, in, words)
			}}
	}
	return &cli.Command{
		Name:        "many",
		Usage:       "do one thing on many devices, now",
		Description: "It says on how many, and asks once. Those offline are named and left out.",
		Commands: []*cli.Command{
			do("run", "run a command", "-- COMMAND [ARGUMENT ...]", 1, func(c *cli.Command, args []string) (api.ManyAction, string) {
				return api.ManyAction{Command: &link.Command{Argv: args, Line: c.Bool("line"), TimeoutSeconds: c.Int("seconds")}}, "Run " +
					strings.Join(args, " ")
			}, &cli.BoolFlag{Name: "line", Usage: "give the command to the devices' own interpreter"}),
			do("end", "end all processes of a name", "PROCESS", 1, func(c *cli.Command, args []string) (api.ManyAction, string) {
				return api.ManyAction{Process: &link.ProcessAction{Action: link.ProcessEnd, Name: args[0], Force: c.Bool("force")}},
					"End all processes named " + args[0]
			}, &cli.BoolFlag{Name: "force", Usage: "at once"}),
			do("service", "start, stop or restart a service", "start|stop|restart SERVICE", 2,
				func(c *cli.Command, args []string) (api.ManyAction, string) {
					return api.ManyAction{Service: &link.ServiceAction{Action: args[0], Name: args[1], Stops: c.StringSlice("stopping")}},
						args[0] + " the service " + args[1]
				}, &cli.StringSliceFlag{Name: "stopping", Usage: "a `SERVICE` that may stop with it"}),
			do("power", "restart or shut down", "restart|off", 1, func(c *cli.Command, args []string) (api.ManyAction, string) {
				return api.ManyAction{Power: &link.PowerAction{Action: args[0], Message: c.String("message"),
					DelaySeconds: int(c.Duration("in").Seconds())}}, "power " + args[0]
			}, &cli.StringFlag{Name: "message", Usage: "what the people there are told"},
				&cli.DurationFlag{Name: "in", Usage: "after this time, at most 1h"}),
			do("message", "show a message", "TEXT", 1, func(c *cli.Command, args []string) (api.ManyAction, string) {
				return api.ManyAction{Message: &link.Message{Text: args[0], Buttons: c.StringSlice("button"),
					Seconds: min(c.Int("seconds"), 600)}}, "Show a message"
			}, &cli.StringSliceFlag{Name: "button", Usage: "an `ANSWER` to choose from, at most three"}),
			do("query", "ask for management data", "QUERY", 1, func(c *cli.Command, args []string) (api.ManyAction, string) {
				return api.ManyAction{Query: &link.Query{Text: strings.Join(args, " ")}}, "Ask " + strings.Join(args, " ")
			}),
			do("set", "set a setting, whatever it is now", "PATH VALUE", 2, func(c *cli.Command, args []string) (api.ManyAction, string) {
				path, name := settingNamed(args[0])
				return api.ManyAction{Setting: &link.SettingAction{Action: link.SettingSet, Path: path, Name: name, Type: c.String("type"),
					Value: args[1], Any: true, Keep: c.Bool("keep")}}, "Set " + args[0] + " to " + args[1]
			}, typeFlag, keepFlag),
			{Name: "put", Usage: "send one file", ArgsUsage: "FILE PATH", Flags: flags(replaceFlag), Action: putOnMany},
		},
	}
}

// doOnMany tells on how many devices it would be, asks, and does it.
func doOnMany(ctx context.Context, c *cli.Command, in api.ManyAction, words string) error {
	k, err := dial()
	if err != nil {
		return err
	}
	if in.Where, in.Group, err = mustPick(ctx, c, k); err != nil {
		return err
	}
	n, offline := 0, 0
	preview, yes := in, true
	preview.Preview = &yes
	if err := k.DoOnMany(ctx, preview, func(e api.SweepEvent) error {
		n, offline = *e.Asked, len(*e.Offline)
		return nil
	}); err != nil {
		return err
	}
	if err := agreed(c, fmt.Sprintf("%s on %d devices", words, n), offline); err != nil {
		return err
	}
	seconds := c.Int("seconds")
	in.Seconds = &seconds
	return tally(c, fmt.Sprintf("%d s", seconds), func(each func(api.SweepEvent) error) error { return k.DoOnMany(ctx, in, each) })
}

// agreed asks once before something is done to many.
func agreed(c *cli.Command, what string, offline int) error {
	if c.Bool("yes") {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return errors.New("this would " + what + ": say --yes where nobody can be asked")
	}
	fmt.Fprintf(os.Stderr, "%s", what)
	if offline > 0 {
		fmt.Fprintf(os.Stderr, " (%d more are silent and left out)", offline)
	}
	fmt.Fprint(os.Stderr, "? [yes/no] ")
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil || strings.TrimSpace(line) != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}

// putAtOnce is how many devices are sent a file at the same time.
const putAtOnce = 16

// putOnMany sends one file to many devices.
func putOnMany(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return errors.New("moor many put FILE PATH")
	}
	k, err := dial()
	if err != nil {
		return err
	}
	where, group, err := mustPick(ctx, c, k)
	if err != nil {
		return err
	}
	from, to := c.Args().Get(0), c.Args().Get(1)
	if strings.HasSuffix(to, "/") || strings.HasSuffix(to, `\`) {
		to += filepath.Base(from)
	}
	var all []api.Device
	offline := []string{}
	for d, err := range k.Chosen(ctx, where, group) {
		if err != nil {
			return err
		}
		if d.Online && slices.Contains(d.Capabilities, device.CapabilityFiles) {
			all = append(all, d)
		} else {
			offline = append(offline, d.Name)
		}
	}
	if err := agreed(c, fmt.Sprintf("Send %s to %s on %d devices", from, to, len(all)), len(offline)); err != nil {
		return err
	}
	return tally(c, "its time", func(each func(api.SweepEvent) error) error {
		n, done := len(all), true
		if err := each(api.SweepEvent{Asked: &n, Offline: &offline}); err != nil {
			return err
		}
		var mu sync.Mutex
		var running sync.WaitGroup
		slots := make(chan struct{}, putAtOnce)
		for _, d := range all {
			slots <- struct{}{}
			running.Go(func() {
				defer func() { <-slots }()
				e := api.SweepEvent{Device: &d.Name, DeviceID: &d.ID}
				if err := putOne(ctx, k, d.ID, from, to, c.Bool("replace")); err != nil {
					text := err.Error()
					e.Error = &text
				} else {
					e.Answer = &link.Answer{Value: "sent and compared"}
				}
				mu.Lock()
				defer mu.Unlock()
				each(e)
			})
		}
		running.Wait()
		return errors.Join(ctx.Err(), each(api.SweepEvent{Done: &done}))
	})
}

func putOne(ctx context.Context, k *client.Client, id uuid.UUID, from, to string, replace bool) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = k.Put(ctx, id, f, to, client.PutOptions{Replace: replace, Folders: true})
	return err
}
