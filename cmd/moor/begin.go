package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
)

// beginFlags are the options of every command that begins a job: on what, when, and how many at once.
func beginFlags() []cli.Flag {
	return append(pickFlags(), jsonFlag,
		&cli.StringSliceFlag{Name: "set", Usage: "a parameter, as `NAME=VALUE`"},
		&cli.StringSliceFlag{Name: "ask", Usage: "ask for the secret parameter of this `NAME`, or read it from a line of standard input"},
		&cli.StringFlag{Name: "name", Usage: "what the job is called"},
		&cli.StringFlag{Name: "at", Usage: "when it begins, such as 2026-11-24T22:00:00Z"},
		&cli.StringFlag{Name: "every", Usage: "again and again, by a `RULE` of RFC 5545 such as FREQ=DAILY"},
		&cli.StringFlag{Name: "from", Usage: "the first time of a job that recurs, by each device's own clock, such as 2026-11-24T22:00"},
		&cli.StringFlag{Name: "on", Usage: "each time that an `EVENT` happens at a device: enrolled, online, signed-in, check"},
		&cli.StringFlag{Name: "check", Usage: "of the event check, which `CHECK`"},
		&cli.BoolFlag{Name: "follow", Usage: "and on every device that comes to be meant later"},
		&cli.TimestampFlag{Name: "until", Usage: "when a job that recurs, follows or waits for events ends by itself",
			Config: cli.TimestampConfig{Layouts: []string{time.RFC3339}}},
		&cli.BoolFlag{Name: "in-windows", Usage: "begin runs in the maintenance windows of their devices alone"},
		&cli.StringFlag{Name: "needs", Usage: "begin a run only while this `EXPRESSION` holds of its device"},
		&cli.IntFlag{Name: "at-once", Usage: "how many runs go on at once"},
		&cli.IntFlag{Name: "per-site", Usage: "how many at once at a site"},
		&cli.IntFlag{Name: "per-second", Usage: "how many begin in a second"},
		&cli.DurationFlag{Name: "spread", Usage: "over how long the starts are spread"},
		&cli.DurationFlag{Name: "wait", Usage: "for how long devices that are away are awaited, such as 48h"},
		&cli.IntFlag{Name: "stop-after", Usage: "after so many failures no more begin"},
		&cli.IntFlag{Name: "stop-share", Usage: "at this percentage of failures no more begin"},
		&cli.BoolFlag{Name: "plan", Usage: "only tell what would be done"},
		&cli.BoolFlag{Name: "leave", Usage: "do not follow it"})
}

// given reads the values of parameters from --set and --ask.
func given(c *cli.Command, parameters []script.Parameter) (map[string]string, error) {
	values := map[string]string{}
	for _, pair := range c.StringSlice("set") {
		name, value, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, fmt.Errorf("--set %s has no value: write NAME=VALUE", pair)
		}
		if slices.ContainsFunc(parameters, func(p script.Parameter) bool { return p.Name == name && p.Kind == script.Secret }) {
			return nil, fmt.Errorf("%s is a secret, and would stand in your shell's history: give it with --ask %s", name, name)
		}
		values[name] = value
	}
	input := bufio.NewReader(os.Stdin)
	for _, name := range c.StringSlice("ask") {
		fmt.Fprintf(os.Stderr, "%s. ", name)
		var err error
		if values[name], err = askSecret(input); err != nil {
			return nil, err
		}
	}
	return values, nil
}

// begin begins a job as a command's options say, and follows it.
func begin(ctx context.Context, c *cli.Command, k *client.Client, in api.NewJob, parameters []script.Parameter) error {
	values, err := given(c, parameters)
	if err != nil {
		return err
	}
	in.Values = &values
	hours := func(d time.Duration) int { return int((d + time.Hour - 1) / time.Hour) }
	in.Limits = &job.Limits{AtOnce: c.Int("at-once"), PerSite: c.Int("per-site"), PerSecond: c.Int("per-second"),
		StopAfter: c.Int("stop-after"),
		StopShare: c.Int("stop-share"), Spread: int(c.Duration("spread").Seconds()), WaitHours: hours(c.Duration("wait"))}
	in.When = &job.When{Rule: c.String("every"), Start: c.String("from"), Event: c.String("on"), Check: c.String("check"),
		Follow:  c.Bool("follow"),
		Windows: c.Bool("in-windows"), Needs: c.String("needs"), Until: c.Timestamp("until")}
	if in.When.Rule != "" && in.When.Start == "" {
		return errors.New("--every needs a first time, by each device's own clock: --from 2026-11-24T22:00")
	}
	if name := c.String("name"); name != "" {
		in.Name = &name
	}
	if in.Where, in.Group, err = mustPick(ctx, c, k); err != nil {
		return err
	}
	if at := c.String("at"); at != "" {
		t, err := time.Parse(time.RFC3339, at)
		if err != nil {
			return fmt.Errorf("--at %s is no time: write it as 2026-11-24T22:00:00Z", at)
		}
		in.BeginAt = &t
	}
	in.Plan = new(c.Bool("plan"))
	j, err := client.Made(k.AddJobWithResponse(ctx, in))
	if err != nil {
		return err
	}
	switch {
	case c.Bool("json"):
		return printJSON(j)
	case c.Bool("plan"):
		return printPlan(j)
	case j.When.Standing():
		fmt.Printf("Job %s stands. See it with: moor jobs show %s; end it with: moor jobs cancel %s\n", j.ID, j.ID.String()[:8],
			j.ID.String()[:8])
		return nil
	case c.Bool("leave"):
		fmt.Printf("Job %s has begun. See it with: moor jobs show %s\n", j.ID, j.ID.String()[:8])
		return nil
	}
	return followJob(ctx, k, j.ID)
}

func printPlan(j *api.Job) error {
	n := j.Counts[string(job.Waiting)]
	verb := "would be done on"
	if j.When.Standing() {
		verb = "would stand, and is meant for"
	}
	fmt.Printf("%s %s %s, %d online now: %s\n", j.Work, verb, counted(n, "device"), *j.Online, strings.Join(*j.Sample, ", "))
	if n := j.Counts[string(job.Unfit)]; n > 0 {
		fmt.Printf("It leaves out %d more, of another system or without what it needs: %s\n", n, strings.Join(*j.Unfit, ", "))
	}
	if j.Limits.WaitHours == 0 && *j.Online < n && !j.When.Standing() {
		fmt.Printf("Away now, and missed: %s. --wait 24h would wait for them.\n", counted(n-*j.Online, "device"))
	}
	if j.NextAt != nil {
		fmt.Printf("The first time is %s.\n", minute(*j.NextAt))
	}
	if j.Opens != nil {
		fmt.Printf("The first maintenance window opens at %s.\n", minute(*j.Opens))
	}
	if j.ShutCount != nil && *j.ShutCount > 0 {
		fmt.Printf("No maintenance window opens before the deadline at %s, which would be missed: %s\n", counted(*j.ShutCount, "device"),
			strings.Join(*j.Shut, ", "))
	}
	if j.Busy != nil && *j.Busy > 0 {
		fmt.Printf("At %d of them runs of other jobs are under way or waiting, which come first where they were begun before.\n", *j.Busy)
	}
	return nil
}
