package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/script"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

func rollouts(ctx context.Context, k *client.Client) iter.Seq2[api.Rollout, error] {
	return client.Pages(func(cursor *string) (*api.RolloutPage, error) {
		return client.Result(k.ListRolloutsWithResponse(ctx, &api.ListRolloutsParams{Cursor: cursor}))
	})
}

// rolloutOf finds the rollout that a command names: by the beginning of its identity, or by its name, of which
// the latest is meant.
func rolloutOf(ctx context.Context, c *cli.Command) (*client.Client, *api.Rollout, error) {
	name := c.Args().First()
	if name == "" {
		return nil, nil, errors.New("name a rollout, or the beginning of its identity; moor rollouts list shows them")
	}
	k, err := dial()
	if err != nil {
		return nil, nil, err
	}
	for r, err := range rollouts(ctx, k) {
		if err != nil {
			return nil, nil, err
		}
		if strings.EqualFold(r.Spec.Name, name) || len(name) >= 4 && strings.HasPrefix(r.ID.String(), strings.ToLower(name)) {
			whole, err := client.Result(k.GetRolloutWithResponse(ctx, r.ID))
			return k, whole, err
		}
	}
	return nil, nil, fmt.Errorf("there is no rollout %q; moor rollouts list shows them", name)
}

func rolloutsCommand() *cli.Command {
	action := func(action, usage string) *cli.Command {
		return &cli.Command{Name: action, Usage: usage, ArgsUsage: "ROLLOUT",
			Flags: []cli.Flag{&cli.StringSliceFlag{Name: "without",
				Usage: "leave out the update of this `NAME`, beside those that are left out"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, r, err := rolloutOf(ctx, c)
				if err != nil {
					return err
				}
				in := api.RolloutAction{}
				if action != "leave-out" {
					in.Action = &action
				} else if len(c.StringSlice("without")) == 0 {
					return errors.New("say what is left out: --without NAME")
				}
				if more := c.StringSlice("without"); len(more) > 0 {
					without := append(r.Spec.Without, more...)
					in.Without = &without
				}
				r, err = client.Result(k.SteerRolloutWithResponse(ctx, r.ID, in))
				if err != nil {
					return err
				}
				return printRollout(r)
			}}
	}
	return &cli.Command{Name: "rollouts", Usage: "bring approved updates to devices, ring by ring", Commands: []*cli.Command{{
		Name: "list", Usage: "list rollouts, the latest first", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := dial()
			if err != nil {
				return err
			}
			return list(c, rollouts(ctx, k), 0, []string{"ROLLOUT", "NAME", "STATE", "RING", "DEVICES", "BEGUN", "BY"},
				func(r api.Rollout) []string {
					all := map[string]int{}
					for _, ring := range r.Rings {
						for s, n := range ring.States {
							all[s] += n
						}
					}
					return []string{r.ID.String()[:8], r.Spec.Name, r.Phase,
						fmt.Sprintf("%d of %d", min(r.At+1, len(r.Rings)), len(r.Rings)),
						statesOf(all), minute(r.BegunAt), r.BegunBy}
				})
		},
	}, {
		Name: "start", Usage: "begin a rollout, and follow it", ArgsUsage: "NAME",
		Description: "A ring is written as NAME: WHO for TIME, in the order in which they come. WHO is a share such as 10%, names of\n" +
			"devices parted by commas, or where EXPRESSION; a ring of a name alone takes all that are left. TIME is how\n" +
			"long those that were patched are watched before the next ring begins:\n\n" +
			"  moor rollouts start \"November\" --ring 'first: hay-kiosk, low-kiosk for 1h' --ring 'tenth: 10% for 24h' --ring 'the rest'",
		Flags: append(pickFlags(), jsonFlag, &cli.StringSliceFlag{Name: "ring", Usage: "a `RING`, as below"},
			&cli.StringSliceFlag{Name: "class", Usage: "only approved updates of this `CLASS`"},
			&cli.StringSliceFlag{Name: "update", Usage: "only the approved update of this `NAME`"},
			&cli.StringSliceFlag{Name: "without", Usage: "leave out the update of this `NAME`"},
			&cli.BoolFlag{Name: "in-windows", Usage: "install in the devices' maintenance windows alone"},
			&cli.BoolFlag{Name: "stage", Usage: "fetch what is to be installed before the windows"},
			&cli.IntFlag{Name: "per-site", Usage: "at most `N` devices at once at a site"},
			&cli.DurationFlag{Name: "wait", Value: 7 * 24 * time.Hour, Usage: "how long devices that are away are caught up"},
			&cli.StringFlag{Name: "restart", Value: patch.RestartNeeded,
				Usage: "never, needed: where an update asks for it, or asked: the person may put it off"},
			&cli.IntFlag{Name: "deferrals", Value: 3, Usage: "how `OFTEN` they may"},
			&cli.DurationFlag{Name: "defer", Value: time.Hour, Usage: "by how long each time"},
			&cli.BoolFlag{Name: "wake", Usage: "devices that are off are woken, and shut down afterwards"},
			&cli.BoolFlag{Name: "careful", Usage: "hold it where there are not enough devices to tell, too"},
			&cli.BoolFlag{Name: "take-back", Usage: "take back what was installed where it is held"},
			&cli.BoolFlag{Name: "urgent", Usage: "watch no ring, once a second person agrees"},
			&cli.StringFlag{Name: "before", Usage: "a script that devices run before, a `FILE` that ends in .sh, .py, .ps1 or .cmd; " +
				"where it fails nothing is installed"}, &cli.StringFlag{Name: "after",
				Usage: "a script that they run after, a `FILE` as before"},
			&cli.BoolFlag{Name: "plan", Usage: "only tell what would be done"}),
		Action: startRollout,
	}, {
		Name: "show", Usage: "show a rollout, with what its gates found", ArgsUsage: "ROLLOUT", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			_, r, err := rolloutOf(ctx, c)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(r)
			}
			return printRollout(r)
		},
	}, {
		Name: "devices", Usage: "list the devices of a rollout, by ring, those that failed first", ArgsUsage: "ROLLOUT",
		Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, r, err := rolloutOf(ctx, c)
			if err != nil {
				return err
			}
			rows := client.Pages(func(cursor *string) (*api.RolloutDevicePage, error) {
				return client.Result(k.ListRolloutDevicesWithResponse(ctx, r.ID, &api.ListRolloutDevicesParams{Cursor: cursor}))
			})
			return list(c, rows, 0, []string{"DEVICE", "RING", "STATE", "ALERTS", "UPDATES", "WHY"}, func(d api.RolloutDevice) []string {
				var updates []string
				for _, p := range d.Patched {
					updates = append(updates, p.Name+" "+p.State)
				}
				alerts, reason := "", ""
				if d.Alerts != nil {
					alerts = fmt.Sprint(*d.Alerts)
				}
				if d.Reason != nil {
					reason = *d.Reason
				}
				return []string{d.Device, r.Rings[d.Ring].Name, d.State, alerts, strings.Join(updates, ", "), reason}
			})
		},
	}, action(patch.ActionAgree, "agree to an urgent rollout, as the second person"),
		action("adopt", "answer for a rollout whose owner may no longer do it, so that it goes on with your rights"),
		action(patch.ActionPause, "have no further ring begin"), action(patch.ActionResume, "have a paused rollout go on"),
		action(patch.ActionRelease, "have a rollout go on though it was held"),
		action(patch.ActionAgain, "patch the ring anew, after something was mended or left out"),
		action(patch.ActionRevert, "take back what was installed"),
		action(patch.ActionCancel, "end a rollout; what was installed stays"), action("leave-out", "leave updates out from now on")}}
}

// ringOf reads a ring as it is written: NAME: WHO for TIME.
func ringOf(ctx context.Context, k *client.Client, text string) (r patch.Ring, err error) {
	name, who, _ := strings.Cut(text, ":")
	r.Name, who = strings.TrimSpace(name), strings.TrimSpace(who)
	if i := strings.LastIndex(" "+who, " for "); i >= 0 {
		d, err := time.ParseDuration(strings.TrimSpace(who[min(i+4, len(who)):]))
		if err != nil {
			return r, fmt.Errorf("ring %s: write how long it is watched as 90m or 24h", r.Name)
		}
		r.SoakMinutes, who = int(d.Minutes()), strings.TrimSpace(who[:max(i-1, 0)])
	}
	share, isShare := strings.CutSuffix(who, "%")
	where, isWhere := strings.CutPrefix(who, "where ")
	switch {
	case who == "":
	case isWhere:
		r.Where = where
	case isShare:
		if r.Share, err = strconv.ParseFloat(strings.TrimSpace(share), 64); err != nil {
			return r, fmt.Errorf("ring %s: %q is no share", r.Name, who)
		}
	default:
		for one := range strings.SplitSeq(who, ",") {
			d, err := k.Find(ctx, strings.TrimSpace(one))
			if err != nil {
				return r, fmt.Errorf("ring %s: %w", r.Name, err)
			}
			r.Devices = append(r.Devices, d.ID.String())
		}
	}
	return r, nil
}

func startRollout(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return errors.New("name the rollout: moor rollouts start \"November\" --ring 'tenth: 10% for 24h' --ring 'the rest' --where ''")
	}
	k, err := dial()
	if err != nil {
		return err
	}
	var in api.NewRollout
	if in.Where, in.Group, err = mustPick(ctx, c, k); err != nil {
		return err
	}
	spec := patch.Rollout{Name: c.Args().First(), Names: c.StringSlice("update"), Without: c.StringSlice("without"),
		Windows: c.Bool("in-windows"), Stage: c.Bool("stage"), PerSite: c.Int("per-site"), WaitHours: int(c.Duration("wait").Hours()),
		Restart: c.String("restart"), Wake: c.Bool("wake"), Urgent: c.Bool("urgent"),
		Gate: patch.Gate{Careful: c.Bool("careful"), Rollback: c.Bool("take-back")}, Rings: []patch.Ring{}}
	if spec.Restart == patch.RestartAsked {
		spec.Deferrals, spec.Defer = c.Int("deferrals"), int(c.Duration("defer").Minutes())
	}
	if spec.Before, err = scriptSteps(c.String("before")); err != nil {
		return err
	}
	if spec.After, err = scriptSteps(c.String("after")); err != nil {
		return err
	}
	for _, class := range c.StringSlice("class") {
		spec.Classes = append(spec.Classes, update.Class(class))
	}
	for _, text := range c.StringSlice("ring") {
		ring, err := ringOf(ctx, k, text)
		if err != nil {
			return err
		}
		spec.Rings = append(spec.Rings, ring)
	}
	in.Spec, in.Plan = spec, new(c.Bool("plan"))
	r, err := client.Made(k.AddRolloutWithResponse(ctx, in))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(r)
	}
	if c.Bool("plan") {
		return printRolloutPlan(r)
	}
	return followRollout(ctx, k, r)
}

// interpreters are those of scripts, by how their file ends.
var interpreters = map[string]string{".sh": "sh", ".py": "python", ".ps1": "powershell", ".cmd": "batch", ".applescript": "applescript"}

// scriptSteps is the step that runs a script of a file; none for "".
func scriptSteps(name string) ([]work.Step, error) {
	if name == "" {
		return nil, nil
	}
	by, ok := interpreters[filepath.Ext(name)]
	if !ok {
		return nil, fmt.Errorf("%s is no script by its name: it ends in .sh, .py, .ps1 or .cmd", name)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, script.MaxBytes+1)) // which the service refuses
	return []work.Step{{Do: work.Script, Interpreter: by, Body: string(text)}}, err
}

func printRolloutPlan(r *api.Rollout) error {
	t := newTable("RING", "DEVICES", "WATCHED", "TO PATCH", "NO WINDOW", "SUCH AS")
	for i, ring := range r.Rings {
		t.row(ring.Name, fmt.Sprint(ring.Devices), soak(r.Spec.Rings[i]), fmt.Sprint(ring.States["planned"]), fmt.Sprint(*ring.Shut),
			strings.Join(*ring.Sample, ", "))
	}
	if err := t.flush(); err != nil {
		return err
	}
	if r.Plan != nil && len(*r.Plan) > 0 {
		fmt.Println()
		t = newTable("AT THE EARLIEST", "RING", "DEVICE", "UPDATES")
		const shown = 40
		for _, d := range (*r.Plan)[:min(len(*r.Plan), shown)] {
			at := "never: no window in time"
			if d.At != nil {
				at = minute(*d.At)
			}
			t.row(at, r.Rings[d.Ring].Name, d.Device, fmt.Sprintf("%7d", d.Updates))
		}
		if err := t.flush(); err != nil {
			return err
		}
		if more := len(*r.Plan) - shown; more > 0 {
			fmt.Printf("and %s more; --json tells all\n", counted(more, "device"))
		}
	}
	fmt.Println()
	t = newTable("UPDATE", "TO", "CLASS", "SEVERITY", "DEVICES")
	for _, x := range r.Updates {
		t.row(x.Update.Name, x.Update.To, string(x.Update.Class), string(x.Update.Severity), fmt.Sprint(x.Devices))
	}
	if err := t.flush(); err != nil {
		return err
	}
	if len(r.Updates) == 0 {
		fmt.Println("Nothing that these devices miss is approved: moor updates list, moor updates approve.")
	}
	if *r.LeftOut > 0 {
		fmt.Printf("At %s nothing approved is missing.\n", counted(*r.LeftOut, "device"))
	}
	return nil
}

func soak(r patch.Ring) string { return lasted(time.Duration(r.SoakMinutes) * time.Minute) }

func printRollout(r *api.Rollout) error {
	fmt.Printf("%s is %s", device.CleanText(r.Spec.Name), r.Phase)
	if r.Why != nil {
		fmt.Printf(": %s", device.CleanText(*r.Why))
	}
	if r.Unowned != nil && *r.Unowned {
		fmt.Printf("\nWhoever began it may no longer go on with it: it waits until somebody runs moor rollouts adopt.")
	}
	fmt.Printf("\n\n")
	t := newTable("RING", "DEVICES", "WATCHED", "JUDGED", "VERDICT")
	for i, ring := range r.Rings {
		until, verdict := "", ""
		if ring.Until != nil {
			until = minute(*ring.Until)
		}
		switch {
		case ring.Verdict != nil:
			verdict = ring.Verdict.Why
		case i == r.At && r.EndedAt == nil:
			verdict = r.Phase
		}
		var past []patch.Past
		if ring.Past != nil {
			past = *ring.Past
		}
		for _, p := range past {
			ended := "held"
			if p.Reverted {
				ended = "taken back"
			}
			why := ""
			if p.Verdict != nil {
				why = p.Verdict.Why
			}
			t.row(ring.Name, ended, "", minute(p.At), why)
		}
		t.row(ring.Name, statesOf(ring.States), soak(r.Spec.Rings[i]), until, verdict)
	}
	if err := t.flush(); err != nil {
		return err
	}
	if len(r.Updates) > 0 {
		fmt.Println()
		t = newTable("UPDATE", "TO", "DEVICES", "STATE")
		for _, x := range r.Updates {
			t.row(x.Update.Name, x.Update.To, fmt.Sprint(x.Devices), statesOf(x.States))
		}
		if err := t.flush(); err != nil {
			return err
		}
	}
	if r.Phase == string(patch.PhaseHeld) {
		id := r.ID.String()[:8]
		fmt.Printf("\nSee the devices: moor rollouts devices %s. Take it back: moor rollouts revert %s. Leave an update out and patch "+
			"the ring again:\nmoor rollouts again %s --without NAME. Go on all the same: moor rollouts release %s.\n", id, id, id, id)
	}
	return nil
}

// followRollout tells how a rollout goes until it is over or needs a person.
func followRollout(ctx context.Context, k *client.Client, r *api.Rollout) error {
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for last := ""; ; {
		at := min(r.At, len(r.Rings)-1)
		if now := fmt.Sprintf("%s, ring %s: %s", r.Phase, device.CleanText(r.Rings[at].Name), statesOf(r.Rings[at].States)); now != last {
			fmt.Fprintln(os.Stderr, now)
			last = now
		}
		if r.EndedAt != nil || r.Phase == string(patch.PhaseHeld) || r.Phase == string(patch.Asking) {
			return printRollout(r)
		}
		select {
		case <-ctx.Done():
			fmt.Fprintf(os.Stderr, "The rollout goes on. See it with: moor rollouts show %s\n", r.ID.String()[:8])
			return ctx.Err()
		case <-tick.C:
		}
		var err error
		if r, err = client.Result(k.GetRolloutWithResponse(ctx, r.ID)); err != nil {
			return err
		}
	}
}
