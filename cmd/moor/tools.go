package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// outcome prints how an action ended.
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
	action := func(name, usage string, flags ...cli.Flag) *cli.Command {
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
				order := link.ProcessAction{Action: name, PID: pid, Force: c.Bool("force"), Priority: c.String("to")}
				o, err := client.Result(k.ChangeProcessWithResponse(ctx, d.ID, order))
				return outcome(c, o, err)
			}}
	}
	force := &cli.BoolFlag{Name: "force", Usage: "at once; what it has not saved is lost"}
	return &cli.Command{
		Name:  "processes",
		Usage: "list and change the processes of a device, unseen by its user",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list processes, the busiest first", ArgsUsage: "NAME", ShellComplete: completeDevices,
				Action: listProcesses,
				Flags:  listFlags(&cli.StringFlag{Name: "by", Value: "cpu", Usage: "sort by cpu, memory, name or pid"})},
			{Name: "past", Usage: "show what was busiest in the last hour", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag},
				ShellComplete: completeDevices, Action: listSpikes},
			action(link.ProcessEnd, "end a process", force), action(link.ProcessEndTree, "end a process and all that it started", force),
			action(link.ProcessPause, "pause a process"), action(link.ProcessContinue, "have a paused process go on"),
			action(link.ProcessPriority, "set the priority of a process",
				&cli.StringFlag{Name: "to", Required: true, Usage: "low, below-normal, normal, above-normal or high"}),
			{Name: "start", Usage: "start a program and leave it running", ArgsUsage: "NAME -- PROGRAM [ARGUMENT ...]",
				ShellComplete: completeDevices,
				Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "as", Usage: "as this `PERSON`, who is signed in"},
					&cli.BoolFlag{Name: "visible", Usage: "on their desktop: they see it"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					argv := slices.DeleteFunc(c.Args().Tail(), func(a string) bool { return a == "--" })
					if len(argv) == 0 {
						return errors.New("which program? moor processes start NAME -- PROGRAM")
					}
					k, d, err := target(ctx, c)
					if err != nil {
						return err
					}
					o, err := client.Result(k.StartProgramWithResponse(ctx, d.ID,
						link.Program{Argv: argv, Person: c.String("as"), Visible: c.Bool("visible")}))
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
	heads := []string{"PID", "CPU %", "MEMORY", "DISK", "RUNS AS", "STATE", "NAME", "LISTENS ON"}
	return list(c, client.Each(all.Items), 40, heads, func(p link.Process) []string {
		disk := ""
		if p.Read+p.Written > 100 {
			disk = health.Bytes(int64(p.Read+p.Written)) + "/s"
		}
		return []string{fmt.Sprintf("%6d", p.PID), fmt.Sprintf("%5.1f", p.CPU), health.Bytes(p.Memory), disk, p.Person, p.State, p.Name,
			strings.Join(p.Listening, ", ")}
	})
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
	action := func(name, usage string, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME SERVICE", Flags: append(flags, jsonFlag),
			ShellComplete: completeDevices,
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.NArg() != 2 {
					return fmt.Errorf("moor services %s NAME SERVICE", name)
				}
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				order := link.ServiceAction{Action: name, Name: c.Args().Get(1), Start: c.String("to"), Stops: c.StringSlice("stopping")}
				o, err := client.Result(k.ChangeServiceWithResponse(ctx, d.ID, order))
				return outcome(c, o, err)
			}}
	}
	stopping := &cli.StringSliceFlag{Name: "stopping",
		Usage: "a `SERVICE` that may stop with it; without, the action is refused where one would"}
	return &cli.Command{
		Name:  "services",
		Usage: "list and change the services of a device, unseen by its user",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list services", ArgsUsage: "NAME", ShellComplete: completeDevices, Action: listServices,
				Flags: listFlags(&cli.StringFlag{Name: "state", Usage: "only those that are running, stopped or failed"})},
			{Name: "show", Usage: "show one service, what stops with it, and its last lines", ArgsUsage: "NAME SERVICE",
				Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: showService},
			action(link.ServiceStart, "start a service"), action(link.ServiceStop, "stop a service", stopping),
			action(link.ServiceRestart, "restart a service", stopping),
			action(link.ServiceMode, "change when a service starts",
				&cli.StringFlag{Name: "to", Required: true, Usage: "automatic, manual or disabled"}),
		},
	}
}

func listServices(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	all, err := client.Result(k.ListServicesWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	items := slices.DeleteFunc(all.Items, func(s link.Service) bool { return c.String("state") != "" && s.State != c.String("state") })
	return list(c, client.Each(items), 0, []string{"NAME", "STATE", "STARTS", "MEMORY", "WHAT IT IS"}, func(s link.Service) []string {
		memory := ""
		if s.Memory > 0 {
			memory = health.Bytes(s.Memory)
		}
		return []string{s.Name, s.State, s.Start, memory, s.Title}
	})
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
