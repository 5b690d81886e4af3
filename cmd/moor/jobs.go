package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
)

func jobsCommand() *cli.Command {
	steer := func(deed, usage string) *cli.Command {
		return &cli.Command{Name: deed, Usage: usage, ArgsUsage: "JOB", Action: func(ctx context.Context, c *cli.Command) error {
			k, j, err := jobOf(ctx, c)
			if err == nil {
				j, err = client.Result(k.SteerJobWithResponse(ctx, j.ID, api.JobDeed{Deed: api.JobDeedDeed(deed)}))
			}
			if err != nil {
				return err
			}
			return printJob(j)
		}}
	}
	return &cli.Command{Name: "jobs", Usage: "run a script on many devices, now or when they are back, and see what came of it", Commands: []*cli.Command{{
		Name: "start", Usage: "run a script of the library on the chosen devices, and follow what comes of it", ArgsUsage: "SCRIPT",
		Description: "Devices are chosen by --where, --group or --device; each of them runs the script at most once.\nCtrl+C stops following the job, and not the job: moor jobs cancel does.",
		Flags: []cli.Flag{jsonFlag,
			&cli.StringSliceFlag{Name: "set", Usage: "a parameter, as `NAME=VALUE`"},
			&cli.StringSliceFlag{Name: "ask", Usage: "ask for the secret parameter of this `NAME`, or read it from a line of standard input"},
			&cli.StringFlag{Name: "where", Usage: "devices for which this `EXPRESSION` holds; '' is all"},
			&cli.StringFlag{Name: "group", Usage: "the devices of a `GROUP`"},
			&cli.StringSliceFlag{Name: "device", Usage: "the device of this `NAME`, and others that are named so"},
			&cli.StringFlag{Name: "name", Usage: "what the job is called"},
			&cli.StringFlag{Name: "at", Usage: "when it begins, such as 2026-11-24T22:00:00Z"},
			&cli.IntFlag{Name: "at-once", Usage: "how many runs go on at once"},
			&cli.IntFlag{Name: "per-site", Usage: "how many at once at a site"},
			&cli.IntFlag{Name: "per-second", Usage: "how many begin in a second"},
			&cli.DurationFlag{Name: "spread", Usage: "over how long the starts are spread"},
			&cli.DurationFlag{Name: "wait", Usage: "for how long devices that are away are awaited, such as 48h"},
			&cli.IntFlag{Name: "stop-after", Usage: "after so many failures no more begin"},
			&cli.IntFlag{Name: "stop-share", Usage: "at this percentage of failures no more begin"},
			&cli.BoolFlag{Name: "plan", Usage: "only tell what would be done"},
			&cli.BoolFlag{Name: "leave", Usage: "do not follow it"},
		},
		Action: startJob,
	}, {
		Name: "list", Usage: "list jobs, the latest first", Flags: []cli.Flag{jsonFlag, &cli.IntFlag{Name: "limit", Value: 30, Usage: "how many at most"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			rows := firstOf(c.Int("limit"), allJobs(ctx, k))
			if c.Bool("json") {
				return jsonList(rows)
			}
			t := newTable("JOB", "NAME", "STATE", "RUNS", "BEGUN", "BY")
			for j, err := range rows {
				if err != nil {
					return err
				}
				t.row(j.ID.String()[:8], j.Name, j.State, countWords(j.Counts), j.BeginAt.Local().Format("2006-01-02 15:04"), j.CreatedBy)
			}
			return t.flush()
		},
	}, {
		Name: "show", Usage: "show a job, and its outputs together", ArgsUsage: "JOB", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			_, j, err := jobOf(ctx, c)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(j)
			}
			return printJob(j)
		},
	}, {
		Name: "runs", Usage: "list the runs of a job, those that failed first", ArgsUsage: "JOB", Flags: []cli.Flag{jsonFlag, &cli.StringFlag{Name: "state", Usage: "only those in this `STATE`"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, j, err := jobOf(ctx, c)
			if err != nil {
				return err
			}
			rows := runsOf(ctx, k, j.ID, c.String("state"))
			if c.Bool("json") {
				return jsonList(rows)
			}
			t := newTable("DEVICE", "STATE", "EXIT", "TOOK", "OUTPUT")
			for r, err := range rows {
				if err != nil {
					return err
				}
				exit, took, said := "", "", ""
				if r.Exit != nil {
					exit = fmt.Sprint(*r.Exit)
				}
				if r.BeganAt != nil && r.EndedAt != nil {
					took = r.EndedAt.Sub(*r.BeganAt).Round(100 * time.Millisecond).String()
				}
				if r.Output != nil {
					said, _, _ = strings.Cut(*r.Output, "\n")
				}
				if r.Reason != nil {
					said = *r.Reason
				}
				t.row(r.DeviceName, r.State, exit, took, said[:min(len(said), 80)])
			}
			return t.flush()
		},
	}, {
		Name: "output", Usage: "print what a run of a job printed", ArgsUsage: "JOB DEVICE",
		Action: func(ctx context.Context, c *cli.Command) error {
			k, j, err := jobOf(ctx, c)
			if err != nil {
				return err
			}
			for r, err := range runsOf(ctx, k, j.ID, "") {
				if err != nil {
					return err
				}
				if !strings.EqualFold(r.DeviceName, c.Args().Get(1)) {
					continue
				}
				run, err := client.Result(k.GetRunWithResponse(ctx, j.ID, r.ID))
				if err != nil {
					return err
				}
				fmt.Print(*run.Output)
				if run.Dropped != nil {
					fmt.Printf("\n[%d bytes were not kept]\n", *run.Dropped)
				}
				if run.Tail != nil {
					fmt.Print(*run.Tail)
				}
				if run.Reason != nil {
					fmt.Fprintln(os.Stderr, *run.Reason)
				}
				return nil
			}
			return fmt.Errorf("the job has no run at %q", c.Args().Get(1))
		},
	},
		steer("pause", "let what runs come to its end, and begin no more"), steer("resume", "have a job go on that is paused"), steer("cancel", "end what runs, and begin no more"),
		{
			Name: "retry", Usage: "begin a job anew where it failed, was interrupted or was missed", ArgsUsage: "JOB",
			Action: func(ctx context.Context, c *cli.Command) error {
				k, j, err := jobOf(ctx, c)
				if err == nil {
					j, err = client.Made(k.RetryJobWithResponse(ctx, j.ID))
				}
				if err != nil {
					return err
				}
				return followJob(ctx, k, j.ID)
			},
		}}}
}

func allJobs(ctx context.Context, k *client.Client) iter.Seq2[api.Job, error] {
	return client.Pages(func(cursor *string) ([]api.Job, *string, error) {
		page, err := client.Result(k.ListJobsWithResponse(ctx, &api.ListJobsParams{Cursor: cursor}))
		if err != nil {
			return nil, nil, err
		}
		return page.Items, page.Next, nil
	})
}

func runsOf(ctx context.Context, k *client.Client, id uuid.UUID, state string) iter.Seq2[api.Run, error] {
	return client.Pages(func(cursor *string) ([]api.Run, *string, error) {
		page, err := client.Result(k.ListRunsWithResponse(ctx, id, &api.ListRunsParams{Cursor: cursor, State: &state, Limit: new(500)}))
		if err != nil {
			return nil, nil, err
		}
		return page.Items, page.Next, nil
	})
}

// jobOf finds the job that a command names first: by its identity, or the beginning of it.
func jobOf(ctx context.Context, c *cli.Command) (*client.Client, *api.Job, error) {
	name := c.Args().First()
	if len(name) < 4 {
		return nil, nil, errors.New("name a job by its identity, or at least the first four digits of it; moor jobs list shows them")
	}
	k, err := dial()
	if err != nil {
		return nil, nil, err
	}
	id, err := uuid.Parse(name)
	if err != nil {
		for j, err := range allJobs(ctx, k) {
			if err != nil {
				return nil, nil, err
			}
			if strings.HasPrefix(j.ID.String(), strings.ToLower(name)) {
				id = j.ID
				break
			}
		}
		if id == uuid.Nil {
			return nil, nil, fmt.Errorf("there is no job %s; moor jobs list shows them", name)
		}
	}
	j, err := client.Result(k.GetJobWithResponse(ctx, id))
	return k, j, err
}

func startJob(ctx context.Context, c *cli.Command) error {
	k, s, err := scriptOf(ctx, c)
	if err != nil {
		return err
	}
	hours := func(d time.Duration) int { return int((d + time.Hour - 1) / time.Hour) }
	in := api.NewJob{Script: s.ID, Values: &map[string]string{}, Limits: &job.Limits{AtOnce: c.Int("at-once"), PerSite: c.Int("per-site"), PerSecond: c.Int("per-second"), StopAfter: c.Int("stop-after"),
		StopShare: c.Int("stop-share"), Spread: int(c.Duration("spread").Seconds()), WaitHours: hours(c.Duration("wait"))}}
	if name := c.String("name"); name != "" {
		in.Name = &name
	}
	for _, pair := range c.StringSlice("set") {
		name, value, ok := strings.Cut(pair, "=")
		if !ok {
			return fmt.Errorf("--set %s has no value: write NAME=VALUE", pair)
		}
		if slices.ContainsFunc(s.Content.Parameters, func(p script.Parameter) bool { return p.Name == name && p.Kind == script.Secret }) {
			return fmt.Errorf("%s is a secret, and would stand in your shell's history: give it with --ask %s", name, name)
		}
		(*in.Values)[name] = value
	}
	input := bufio.NewReader(os.Stdin)
	for _, name := range c.StringSlice("ask") {
		fmt.Fprintf(os.Stderr, "%s. ", name)
		if (*in.Values)[name], err = askSecret(input); err != nil {
			return err
		}
	}
	if c.IsSet("where") {
		in.Where = new(c.String("where"))
	}
	if name := c.String("group"); name != "" {
		g, err := findGroup(ctx, k, name)
		if err != nil {
			return err
		}
		in.Group = &g.ID
	}
	for _, name := range c.StringSlice("device") {
		d, err := k.Find(ctx, name)
		if err != nil {
			return err
		}
		if in.Devices == nil {
			in.Devices = &[]uuid.UUID{}
		}
		*in.Devices = append(*in.Devices, d.ID)
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
	case c.Bool("leave"):
		fmt.Printf("Job %s has begun. See it with: moor jobs show %s\n", j.ID, j.ID.String()[:8])
		return nil
	}
	return followJob(ctx, k, j.ID)
}

func printPlan(j *api.Job) error {
	fmt.Printf("%s would run on %d devices, of which %d are online: %s\n", j.Script.Name, j.Counts[string(job.Waiting)], *j.Online, strings.Join(*j.Sample, ", "))
	if n := j.Counts[string(job.Unfit)]; n > 0 {
		fmt.Printf("It does not run on %d more: %s\n", n, strings.Join(*j.Unfit, ", "))
	}
	if j.Limits.WaitHours == 0 && *j.Online < j.Counts[string(job.Waiting)] {
		fmt.Printf("%d are away now, and would be missed: --wait 24h would wait for them.\n", j.Counts[string(job.Waiting)]-*j.Online)
	}
	return nil
}

// followEvery is how often a job that is followed is looked at.
const followEvery = 500 * time.Millisecond

// followJob shows how a job goes on until it is over, and what came of it.
func followJob(ctx context.Context, k *client.Client, id uuid.UUID) error {
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for last := ""; ; {
		j, err := client.Result(k.GetJobWithResponse(ctx, id))
		if err != nil {
			return err
		}
		if now := countWords(j.Counts); now != last && j.EndedAt == nil {
			fmt.Fprintln(os.Stderr, now)
			last = now
		}
		if j.EndedAt != nil {
			if err := printJob(j); err != nil {
				return err
			}
			if n := j.Counts[string(job.Failed)] + j.Counts[string(job.TimedOut)] + j.Counts[string(job.Interrupted)]; n > 0 {
				return fmt.Errorf("%d of its runs failed; moor jobs runs %s shows them", n, j.ID.String()[:8])
			}
			return nil
		}
		select {
		case <-ctx.Done():
			fmt.Fprintf(os.Stderr, "The job goes on. See it with: moor jobs show %s; end it with: moor jobs cancel %s\n", id.String()[:8], id.String()[:8])
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// countWords tells how many runs are in which state, those that matter first.
func countWords(counts map[string]int) string {
	var out []string
	for _, s := range []job.State{job.Failed, job.TimedOut, job.Interrupted, job.Sent, job.Waiting, job.Succeeded, job.Missed, job.Cancelled, job.Unfit} {
		if n := counts[string(s)]; n > 0 {
			name := string(s)
			if s == job.Sent {
				name = "running"
			}
			out = append(out, fmt.Sprintf("%d %s", n, name))
		}
	}
	return strings.Join(out, ", ")
}

func printJob(j *api.Job) error {
	fmt.Printf("Job %s, %s, is %s: %s.\n", j.ID.String()[:8], j.Name, j.State, countWords(j.Counts))
	if j.Reason != nil {
		fmt.Printf("%s.\n", strings.ToUpper((*j.Reason)[:1])+(*j.Reason)[1:])
	}
	if j.Groups == nil {
		return nil
	}
	for _, g := range *j.Groups {
		fmt.Printf("\n%d %s:\n", g.Runs, g.State)
		for line := range strings.Lines(strings.TrimRight(g.Output, "\n") + "\n") {
			fmt.Print("    " + line)
		}
	}
	return nil
}
