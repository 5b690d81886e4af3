package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
)

func jobsCommand() *cli.Command {
	steer := func(action, usage string) *cli.Command {
		return &cli.Command{Name: action, Usage: usage, ArgsUsage: "JOB", Action: func(ctx context.Context, c *cli.Command) error {
			k, j, err := jobOf(ctx, c)
			if err == nil {
				j, err = client.Result(k.SteerJobWithResponse(ctx, j.ID, api.JobAction{Action: api.JobActionAction(action)}))
			}
			if err != nil {
				return err
			}
			return printJob(j)
		}}
	}
	return &cli.Command{Name: "jobs", Usage: "run a script on many devices, now or when they are back, and see what came of it",
		Commands: []*cli.Command{{
			Name: "start", Usage: "run a script of the library on the chosen devices, and follow what comes of it", ArgsUsage: "SCRIPT",
			Description: "Devices are chosen by --where, --group or --device; each of them runs the script at most once.\nCtrl+C stops " +
				"following the job, and not the job: moor jobs cancel does.",
			Flags:  beginFlags(),
			Action: startJob,
		}, {
			Name: "list", Usage: "list jobs, the latest first",
			Flags: listFlags(&cli.StringFlag{Name: "by", Value: "person",
				Usage: "who begins them: person, response (of a policy), drift (what a policy " +
					"puts right), all"}),
			Action: func(ctx context.Context, c *cli.Command) error {
				k, err := dial()
				if err != nil {
					return err
				}
				rows := allJobs(ctx, k, c.String("by"))
				return list(c, rows, 30, []string{"JOB", "NAME", "STATE", "RUNS", "BEGUN", "BY"}, func(j api.Job) []string {
					return []string{j.ID.String()[:8], j.Name, j.State, countWords(j.Counts), minute(j.BeginAt), j.CreatedBy}
				})
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
			Name: "runs", Usage: "list the runs of a job, those that failed first", ArgsUsage: "JOB",
			Flags: listFlags(&cli.StringFlag{Name: "state", Usage: "only those in this `STATE`"},
				&cli.StringFlag{Name: "turn", Usage: "only those of a `TURN` of a job that has several"},
				&cli.BoolFlag{Name: "slowest", Usage: "those that took longest first"}),
			Action: func(ctx context.Context, c *cli.Command) error {
				k, j, err := jobOf(ctx, c)
				if err != nil {
					return err
				}
				rows := runsOf(ctx, k, j.ID, api.ListRunsParams{State: new(c.String("state")), Turn: new(c.String("turn")),
					Slowest: new(c.Bool("slowest"))})
				return list(c, rows, 0, []string{"DEVICE", "STATE", "EXIT", "TOOK", "OUTPUT"}, func(r api.Run) []string {
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
					return []string{r.DeviceName, r.State, exit, took, said[:min(len(said), 80)]}
				})
			},
		}, {
			Name: "output", Usage: "print what a run of a job printed", ArgsUsage: "JOB DEVICE",
			Action: func(ctx context.Context, c *cli.Command) error {
				k, j, err := jobOf(ctx, c)
				if err != nil {
					return err
				}
				for r, err := range runsOf(ctx, k, j.ID, api.ListRunsParams{}) {
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
			{
				Name: "compare", Usage: "show at which devices a job came out otherwise than another, or than its own turn before",
				ArgsUsage: "JOB [EARLIER]",
				Flags:     listFlags(&cli.BoolFlag{Name: "all", Usage: "devices without a difference too"}),
				Action:    compareJobs,
			}, {
				Name: "export", Usage: "print the runs of a job with all of their output that is kept", ArgsUsage: "JOB",
				Flags: []cli.Flag{&cli.StringFlag{Name: "format", Value: "csv", Usage: "csv or jsonl"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					k, j, err := jobOf(ctx, c)
					if err != nil {
						return err
					}
					answer, err := k.ExportRuns(ctx, j.ID, &api.ExportRunsParams{Format: api.ExportRunsParamsFormat(c.String("format"))})
					if err != nil {
						return err
					}
					defer answer.Body.Close()
					if answer.StatusCode != http.StatusOK {
						return client.Refusal(answer)
					}
					_, err = io.Copy(os.Stdout, answer.Body)
					return err
				},
			},
			steer("pause", "let what runs come to its end, and begin no more"), steer("resume", "have a job go on that is paused"),
			steer("cancel", "end what runs, and begin no more"),
			steer("adopt", "answer for a job whose owner may no longer do it, so that it goes on with your rights"),
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

func allJobs(ctx context.Context, k *client.Client, origin string) iter.Seq2[api.Job, error] {
	return client.Pages(func(cursor *string) (*api.JobPage, error) {
		return client.Result(k.ListJobsWithResponse(ctx,
			&api.ListJobsParams{Cursor: cursor, Origin: new(api.ListJobsParamsOrigin(origin))}))
	})
}

func runsOf(ctx context.Context, k *client.Client, id uuid.UUID, in api.ListRunsParams) iter.Seq2[api.Run, error] {
	in.Limit = new(500)
	return client.Pages(func(cursor *string) (*api.RunPage, error) {
		in.Cursor = cursor
		return client.Result(k.ListRunsWithResponse(ctx, id, &in))
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
	id, err := jobNamed(ctx, k, name)
	if err != nil {
		return nil, nil, err
	}
	j, err := client.Result(k.GetJobWithResponse(ctx, id))
	return k, j, err
}

// jobNamed finds a job by its identity, or the beginning of it.
func jobNamed(ctx context.Context, k *client.Client, name string) (uuid.UUID, error) {
	if id, err := uuid.Parse(name); err == nil {
		return id, nil
	}
	for j, err := range allJobs(ctx, k, "all") {
		if err != nil {
			return uuid.Nil, err
		}
		if strings.HasPrefix(j.ID.String(), strings.ToLower(name)) {
			return j.ID, nil
		}
	}
	return uuid.Nil, fmt.Errorf("there is no job %s; moor jobs list shows them", name)
}

func startJob(ctx context.Context, c *cli.Command) error {
	k, s, err := scripts.named(ctx, c)
	if err != nil {
		return err
	}
	return begin(ctx, c, k, api.NewJob{Script: &s.ID}, s.Content.Parameters)
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
			fmt.Fprintf(os.Stderr, "The job goes on. See it with: moor jobs show %s; end it with: moor jobs cancel %s\n", id.String()[:8],
				id.String()[:8])
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// countWords tells how many runs are in which state, those that matter first.
func countWords(counts map[string]int) string {
	var out []string
	for _, s := range []job.State{job.Failed, job.TimedOut, job.Interrupted, job.Sent, job.Waiting, job.Succeeded, job.Missed,
		job.Cancelled, job.Unfit} {
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
	fmt.Printf("Job %s, %s, is %s: %s.\n", j.ID.String()[:8], j.Name, j.State, cmp.Or(countWords(j.Counts), "no runs yet"))
	if j.Reason != nil {
		fmt.Printf("%s.\n", strings.ToUpper((*j.Reason)[:1])+(*j.Reason)[1:])
	}
	if j.Unowned != nil && *j.Unowned {
		fmt.Printf("Whoever began it may no longer do it at all of its devices: there it waits until somebody runs moor jobs adopt %s.\n",
			j.ID.String()[:8])
	}
	if j.When.Standing() && j.EndedAt == nil {
		fmt.Print("It stands")
		if j.NextAt != nil {
			fmt.Printf(", and falls due next at %s", minute(*j.NextAt))
		}
		fmt.Println(".")
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

func compareJobs(ctx context.Context, c *cli.Command) error {
	k, j, err := jobOf(ctx, c)
	if err != nil {
		return err
	}
	other := j.ID
	switch name := c.Args().Get(1); {
	case name != "":
		found, err := jobNamed(ctx, k, name)
		if err != nil {
			return err
		}
		other = found
	case j.Turns == nil || len(*j.Turns) < 2:
		for o, err := range allJobs(ctx, k, "all") {
			if err != nil {
				return err
			}
			if o.CreatedAt.Before(j.CreatedAt) && o.Work.String() == j.Work.String() {
				other = o.ID
				break
			}
		}
		if other == j.ID {
			return errors.New("there is no earlier job of the same work: name one to compare with")
		}
	}
	rows := client.Pages(func(cursor *string) (*api.ComparisonPage, error) {
		return client.Result(k.CompareJobsWithResponse(ctx, j.ID,
			&api.CompareJobsParams{With: other, Changed: new(!c.Bool("all")), Cursor: cursor}))
	})
	if c.Bool("json") || c.Bool("csv") {
		return list(c, rows, 0, nil, nil)
	}
	text := func(r *api.Run) (state, said string) {
		if r == nil {
			return "none", ""
		}
		if r.Output != nil {
			said = *r.Output
		}
		if r.Reason != nil {
			said = strings.TrimSuffix(said, "\n") + "\n" + *r.Reason + "\n"
		}
		return r.State, said
	}
	n := 0
	for r, err := range rows {
		if err != nil {
			return err
		}
		if c.IsSet("limit") && n == c.Int("limit") && n > 0 {
			break
		}
		n++
		before, old := text(r.Before)
		after, now := text(r.After)
		fmt.Printf("%s: %s before, %s after\n", r.DeviceName, before, after)
		for line := range strings.Lines(udiff.Unified("before", "after", old, now)) {
			fmt.Print("    " + line)
		}
	}
	if n == 0 {
		fmt.Println("They came out alike.")
	}
	return nil
}
