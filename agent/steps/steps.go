// Package steps carries out the steps of a run at a device, by what package host offers. Which step
// comes next, and what follows when one fails, is told by core/work; that a run is done once is seen to
// by agent/journal, which is told before each step and after it.
package steps

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/versions"
	"moorwatch.example/core/work"
)

// Progress is how far a device has come with a run. It is kept in the journal.
type Progress struct {
	Part  int           `json:"part"` // of the order
	Steps work.Progress `json:"steps"`
	// Checked tells that it was looked whether the device has the package of the part.
	Checked bool `json:"checked,omitempty"`
	// Output is what was printed before a restart of the agent.
	Output    []byte    `json:"output,omitempty"`
	Restarted time.Time `json:"restarted,omitzero"` // when it was started again, after such a step
	Deferred  int       `json:"deferred,omitempty"` // how often a restart was put off
	Booted    time.Time `json:"booted,omitzero"`    // when the device was last started, before a step that restarts it
}

// Doer carries out steps on one device.
type Doer struct {
	Host host.Host
	// Scratch is a folder of the agent's own, for scripts.
	Scratch string
	// Content returns where a file of a package lies, fetching it first.
	Content func(ctx context.Context, f pack.File, log io.Writer) (path string, err error)
}

// Errors that a run ends with beside that a step failed.
var (
	// ErrFailed is wrapped by the reason why a step failed.
	ErrFailed = errors.New("a step failed")
	// ErrMidway is returned where the device died in the middle of a step that must not be done twice.
	ErrMidway = errors.New("the device stopped in the middle of it")
	// ErrShut is returned where the maintenance window ended before anything was done.
	ErrShut = errors.New("its maintenance window ended before it could begin")
)

// Do carries out an order from where p stands until its end. save keeps p on disk: before a step is
// begun, and after it; where it fails, nothing more is done. exit is the status of the last program that
// a step ran, nil where none did.
func (d *Doer) Do(ctx context.Context, o link.RunOrder, p *Progress, save func() error, out io.Writer) (exit *int, err error) {
	for ; p.Part < len(o.Parts); p.Part++ {
		part := o.Parts[p.Part]
		r := &doing{Doer: d, order: o, part: part, p: p, save: save, out: out, single: Single(o)}
		if !p.Checked && part.Having != nil {
			there, _, err := r.there(ctx, *part.Having)
			if err != nil {
				return exit, fmt.Errorf("%w: whether %s is there cannot be told: %w", ErrFailed, part.Having.Of, err)
			}
			if !there {
				r.tell("== %s is not for this device, which has no %s", part.Name, part.Having.Of)
				p.Steps, p.Checked = work.Progress{}, false
				continue
			}
		}
		if !p.Checked && part.There != nil {
			skip, err := r.skip(ctx)
			if err != nil {
				return exit, err
			}
			if skip {
				p.Steps = work.Progress{At: len(part.Steps)}
			}
		}
		p.Checked = true
		exit, err = r.run(ctx)
		if err != nil {
			return exit, err
		}
		p.Steps, p.Checked = work.Progress{}, false
	}
	return exit, nil
}

// Single tells whether an order is one step: then the journal's note that it began is the step's too.
func Single(o link.RunOrder) bool { return len(o.Parts) == 1 && len(o.Parts[0].Steps) == 1 }

// Keep tells whether an order may be taken up again where the agent died, and must be kept for that.
func Keep(o link.RunOrder) bool {
	return !Single(o) || o.Parts[0].Steps[0].Again()
}

// Recover takes progress up again after the agent died.
func (p *Progress) Recover(ctx context.Context, h host.Host, o link.RunOrder) error {
	if p.Part >= len(o.Parts) {
		return nil
	}
	steps := o.Parts[p.Part].Steps
	if c := &p.Steps; c.Under && c.At < len(steps) && steps[c.At].Do == work.Restart {
		switch f, err := h.Informer.Facts(ctx); {
		case err != nil || p.Booted.IsZero():
		case f.BootedAt.Sub(p.Booted).Abs() < sameBoot:
			c.Under = false // the agent was restarted, and the device was not
		default:
			p.Restarted = f.BootedAt
		}
	}
	at := p.Steps.At
	if !p.Steps.Resume(steps) {
		return fmt.Errorf("%w: in step %d of %d, %s; whether that came to its end is not known", ErrMidway, at+1, len(steps),
			steps[at].Heading())
	}
	return nil
}

// sameBoot is how much two readings of one start of a device may differ.
const sameBoot = 5 * time.Second

// doing is one part while it is carried out.
type doing struct {
	*Doer
	order  link.RunOrder
	part   link.RunPart
	p      *Progress
	save   func() error
	out    io.Writer
	single bool
	exit   *int
}

func (r *doing) tell(format string, args ...any) { fmt.Fprintf(r.out, format+"\n", args...) }

// say tells how steps go, where there are several: what a single one prints speaks for itself.
func (r *doing) say(format string, args ...any) {
	if !r.single {
		r.tell(format, args...)
	}
}

// skip tells whether the device has already what the part leads to.
func (r *doing) skip(ctx context.Context) (bool, error) {
	there, version, err := r.there(ctx, *r.part.There)
	if err != nil {
		return false, fmt.Errorf("%w: whether %s is there cannot be told: %w", ErrFailed, r.part.Name, err)
	}
	switch {
	case r.part.Remove && !there:
		r.tell("== %s is not there", r.part.Name)
		return true, nil
	case !r.part.Remove && there && (version == "" || r.part.Version == "" || versions.Debian(version, r.part.Version) >= 0):
		r.tell("== %s is there already%s", r.part.Name, inVersion(version))
		return true, nil
	}
	return false, nil
}

func inVersion(v string) string {
	if v == "" {
		return ""
	}
	return ", in version " + v
}

// run carries out the steps of a part.
func (r *doing) run(ctx context.Context) (*int, error) {
	c := &r.p.Steps
	began := c.At < len(r.part.Steps)
	for {
		m, ok := c.Next(r.part.Steps)
		if !ok {
			break
		}
		if ctx.Err() != nil {
			return r.exit, context.Cause(ctx)
		}
		if m.Undo {
			if err := r.undo(ctx, m.Step); err != nil {
				return r.exit, err
			}
			continue
		}
		if r.shut() {
			return r.exit, r.left(m.Step)
		}
		if err := r.step(ctx, m.Step); err != nil {
			return r.exit, err
		}
	}
	if c.Bad > 0 {
		return r.exit, fmt.Errorf("%w: %s", ErrFailed, c.Why)
	}
	if began && r.part.There != nil {
		there, version, err := r.there(ctx, *r.part.There)
		switch {
		case err != nil:
			return r.exit, fmt.Errorf("%w: whether %s is there cannot be told: %w", ErrFailed, r.part.Name, err)
		case there == r.part.Remove:
			return r.exit, fmt.Errorf("%w: its steps came to their end, and %s is %s", ErrFailed, r.part.Name,
				map[bool]string{true: "there still", false: "not there"}[there])
		case !r.part.Remove:
			r.tell("== %s is there%s", r.part.Name, inVersion(version))
		}
	}
	return r.exit, nil
}

// shut tells whether the window has ended in which the order is to be done.
func (r *doing) shut() bool { return !r.order.Shut.IsZero() && !time.Now().Before(r.order.Shut) }

// left is what comes of a run whose window ended before a step was begun: nil where what is left only has what was
// installed take effect, which waits for a restart at another time.
func (r *doing) left(n int) error {
	steps := r.part.Steps
	if r.p.Part == 0 && n == 0 {
		return ErrShut
	}
	for _, s := range steps[n:] {
		if s.Do != work.Refresh && s.Do != work.Restart {
			return fmt.Errorf("%w: its maintenance window ended before step %d, %s", ErrFailed, n+1, s.Heading())
		}
	}
	r.say("== The maintenance window has ended: step %d, %s, is left out", n+1, steps[n].Heading())
	return nil
}

func (r *doing) step(ctx context.Context, n int) error {
	s, c := r.part.Steps[n], &r.p.Steps
	r.say("== %d/%d %s", n+1, len(r.part.Steps), s.Heading())
	if s.Do != work.Wait { // which waits for its conditions
		for _, condition := range s.If {
			holds, err := r.holds(ctx, condition)
			if err != nil || !holds {
				why := "skipped: it asks that " + condition.String()
				if err != nil {
					why = "whether " + condition.String() + " cannot be told: " + err.Error()
					c.End(r.part.Steps, work.Failed, "", fmt.Sprintf("step %d, %s: %s", n+1, s.Heading(), why))
				} else {
					c.End(r.part.Steps, work.Skipped, "", "")
					if s.Do == work.Restart && !r.p.Booted.IsZero() && r.p.Restarted.IsZero() {
						r.p.Restarted = time.Now() // it was begun, and is asked for no more; a container's start is its host's
					}
				}
				r.say("   %s", why)
				return r.save()
			}
		}
	}
	if s.Do == work.Restart {
		if f, err := r.Host.Informer.Facts(ctx); err == nil {
			r.p.Booted = f.BootedAt
		}
	}
	if !c.Under { // where it is a single step, the journal has it already
		c.Begin()
		if err := r.save(); err != nil {
			return fmt.Errorf("the journal takes nothing: %w", err)
		}
	}
	within, cancel := context.WithTimeoutCause(ctx, time.Duration(s.Limit())*time.Second, errLate)
	back, err := r.do(within, n, s)
	cancel()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, errLate) {
		err = &late{s.Limit()}
	}
	if errors.Is(err, ErrShut) {
		if n == 0 && r.p.Part == 0 {
			return err
		}
		err = errors.New("its maintenance window ended before it could begin")
	}
	end, why := work.Done, ""
	if err != nil {
		end, why = work.Failed, err.Error()
		if !r.single {
			why = fmt.Sprintf("step %d, %s: %s", n+1, s.Heading(), why)
			r.say("   failed: %s", err)
		}
	}
	c.End(r.part.Steps, end, back, why)
	if r.single {
		if err != nil {
			return fmt.Errorf("%w: %w", ErrFailed, err)
		}
		return nil // that it ended is the journal's next word
	}
	return r.save()
}

var errLate = errors.New("the time limit of the step")

// late is why a step failed that took too long.
type late struct{ seconds int }

func (l *late) Error() string {
	return fmt.Sprintf("it was ended after its time limit of %s", time.Duration(l.seconds)*time.Second)
}

// Late tells whether a run failed by the time limit of a step.
func Late(err error) bool {
	var l *late
	return errors.As(err, &l)
}

func (r *doing) undo(ctx context.Context, n int) error {
	r.say("== undo %d/%d %s", n+1, len(r.part.Steps), r.part.Steps[n].Heading())
	why := ""
	if err := r.back(ctx, r.p.Steps.Backs[n]); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		why = fmt.Sprintf("step %d: %s", n+1, err)
		r.say("   failed: %s", err)
	}
	r.p.Steps.Undid(n, why)
	return r.save()
}
