package patch

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/update"

	"moorwatch.example/core/work"
)

// Rollout is how approved updates reach devices.
type Rollout struct {
	Name  string `json:"name"`
	Rings []Ring `json:"rings"`
	Gate  Gate   `json:"gate"`

	// Which of the approved updates: all, or those of classes, or named ones; never those that are left out.
	Classes []update.Class `json:"classes,omitempty"`
	Names   []string       `json:"names,omitempty"`
	Without []string       `json:"without,omitempty"`

	Windows   bool `json:"windows,omitempty"`  // runs begin in the devices' maintenance windows alone
	Stage     bool `json:"stage,omitempty"`    // updates are fetched before the window
	PerSite   int  `json:"per_site,omitempty"` // devices at once at a site; 0 is without limit
	WaitHours int  `json:"wait_hours"`         // for how long devices that are away are caught up
	// Enough is the share of a ring, in percent, that must be through before it is watched; those that
	// are away are caught up meanwhile. 90 where it is 0.
	Enough  int    `json:"enough,omitempty"`
	Restart string `json:"restart"` // RestartNever, RestartNeeded or RestartAsked
	// Deferrals is how often the person at a device may put a restart off that is asked for, by Defer minutes each;
	// 3 times an hour where they are 0.
	Deferrals int `json:"deferrals,omitempty"`
	Defer     int `json:"defer,omitempty"`
	// Wake has devices that are off woken, within their window where there is one, and shut down afterwards.
	Wake   bool        `json:"wake,omitempty"`
	Before []work.Step `json:"before,omitempty"`
	After  []work.Step `json:"after,omitempty"`
	// Urgent has no ring watched, once a second person agreed.
	Urgent bool `json:"urgent,omitempty"`
}

// Rules of restarting.
const (
	RestartNever  = "never"
	RestartNeeded = "needed" // where an update asks for it, within the same run
	RestartAsked  = "asked"  // the same, and the person at the device may put it off a few times
)

const (
	usualEnough = 90
	maxWait     = 90 * 24
)

// Validate refuses a rollout that cannot be, and says what to write.
func (r Rollout) Validate() error {
	switch {
	case strings.TrimSpace(r.Name) == "" || len(r.Name) > maxText:
		return fmt.Errorf("give the rollout a name of 1 to %d bytes", maxText)
	case r.PerSite < 0 || r.PerSite > 100_000:
		return errors.New("how many at once at a site is 0 to 100000")
	case r.WaitHours < 0 || r.WaitHours > maxWait:
		return fmt.Errorf("devices are awaited for 0 to %d hours", maxWait)
	case r.Enough < 0 || r.Enough > 100:
		return errors.New("the share of a ring that must be through is 0 to 100 %")
	case r.Restart != RestartNever && r.Restart != RestartNeeded && r.Restart != RestartAsked:
		return fmt.Errorf("restart is never, needed or asked, and not %q", r.Restart)
	case r.Deferrals < 0 || r.Deferrals > work.MaxDeferrals || r.Defer < 0 || r.Defer > work.MaxDefer:
		return fmt.Errorf("a restart is put off at most %d times, by 1 to %d minutes each", work.MaxDeferrals, work.MaxDefer)
	}
	for _, c := range r.Classes {
		if !slices.Contains(update.Classes, c) {
			return fmt.Errorf("there is no class %q", c)
		}
	}
	for _, steps := range [][]work.Step{r.Before, r.After} {
		if len(steps) > 0 {
			if err := work.Validate(steps, nil); err != nil {
				return err
			}
		}
	}
	return errors.Join(validNames(r.Names), validNames(r.Without), ValidateRings(r.Rings), r.Gate.Validate())
}

// Takes tells whether an approved update is one of this rollout's, where the device does not block it.
func (r *Rollout) Takes(u *update.Update) bool {
	return !slices.Contains(r.Without, u.Name) && (len(r.Classes) == 0 || slices.Contains(r.Classes, u.Class)) &&
		(len(r.Names) == 0 || slices.Contains(r.Names, u.Name))
}

// PackageSource is the source of updates that are packages of our own library.
const PackageSource = "packages"

// Steps are what a device does to install updates of its own sources: before and after packages of the library.
func (r Rollout) Steps(updates []update.Ref) (first, last []work.Step) {
	first = slices.Clone(r.Before)
	if len(updates) > 0 {
		first = append(first, work.Step{Do: work.Update, Updates: refs(updates), Seconds: updateSeconds})
	}
	return first, slices.Concat(r.effect(), r.After)
}

// effect are the steps by which what was installed takes effect.
func (r Rollout) effect() []work.Step {
	if r.Restart == RestartNever {
		return nil
	}
	restart := work.Step{Do: work.Restart, If: []work.Condition{{Kind: work.OfRestart}}, Seconds: restartSeconds}
	if r.Restart == RestartAsked {
		restart.Deferrals, restart.Defer = cmp.Or(r.Deferrals, usualDeferrals), cmp.Or(r.Defer, usualDefer)
		restart.Seconds += (restart.Deferrals + 1) * (restart.Defer*60 + askSeconds)
	}
	return []work.Step{{Do: work.Refresh, OnError: work.OnContinue}, restart}
}

// Fetch are the steps of fetching updates before the window.
func Fetch(updates []update.Ref) []work.Step {
	return []work.Step{{Do: work.Fetch, Updates: refs(updates), Seconds: updateSeconds}}
}

// Back are the steps of going back to the versions before; the refs name those.
func (r Rollout) Back(before []update.Ref) []work.Step {
	steps := []work.Step{{Do: work.Back, Updates: refs(before), Seconds: updateSeconds}}
	if r.Restart == RestartNever { // services take up what they had all the same
		return append(steps, work.Step{Do: work.Refresh, OnError: work.OnContinue})
	}
	return append(steps, r.effect()...)
}

func refs(all []update.Ref) []work.Version {
	out := make([]work.Version, len(all))
	for i, r := range all {
		out[i] = work.Version{Source: r.Source, Name: r.Name, Version: r.To}
	}
	return out
}

// Time limits of steps, in seconds.
const (
	updateSeconds  = 2 * 3600
	restartSeconds = 1800
	askSeconds     = 600 // for which a question stands
	usualDeferrals = 3
	usualDefer     = 60 // minutes
)

// Phase is what a rollout is about.
type Phase string

// The phases.
const (
	Asking    Phase = "asking"    // a second person is to agree
	Patching  Phase = "patching"  // the devices of a ring are patched
	Soaking   Phase = "soaking"   // they are watched
	PhaseHeld Phase = "held"      // a person is to say how it goes on
	Reverting Phase = "reverting" // what was installed is taken back
	Paused    Phase = "paused"    // no ring begins
	Done      Phase = "done"
	Cancelled Phase = "cancelled"
)

// Over tells whether nothing more comes of a rollout.
func (p Phase) Over() bool { return p == Done || p == Cancelled }

// RingState is how far a ring has come.
type RingState struct {
	Devices  int       `json:"devices"` // that are in it
	Job      string    `json:"job,omitempty"`
	Staging  string    `json:"staging,omitempty"` // the job that fetches
	Back     string    `json:"back,omitempty"`    // the job that takes back
	Try      int       `json:"try,omitempty"`     // how often it was patched anew
	Without  []string  `json:"without,omitempty"` // what was left out
	BeganAt  time.Time `json:"began_at,omitzero"`
	Through  time.Time `json:"through_at,omitzero"` // when enough of its devices were through
	Until    time.Time `json:"until,omitzero"`      // when it is judged
	Verdict  *Verdict  `json:"verdict,omitempty"`
	Released string    `json:"released,omitempty"` // who had it go on though it was held
	Reverted bool      `json:"reverted,omitempty"`
	Past     []Past    `json:"past,omitempty"` // what came of earlier tries
}

// Past is how an earlier try of a ring ended.
type Past struct {
	At       time.Time `json:"at"` // when it was judged
	Verdict  *Verdict  `json:"verdict,omitempty"`
	Reverted bool      `json:"reverted,omitempty"`
	Without  []string  `json:"without,omitempty"` // what was left out then
}

// State is how far a rollout has come.
type State struct {
	Phase  Phase       `json:"phase"`
	Before Phase       `json:"before,omitempty"` // the phase that it was paused in
	At     int         `json:"at"`               // the ring
	Why    string      `json:"why,omitempty"`    // it is held, or ended as it did
	Agreed string      `json:"agreed,omitempty"` // the second person, of an urgent one
	Rings  []RingState `json:"rings"`
}

// Begun is the state of a rollout that begins.
func (r Rollout) Begun(devices []int) State {
	s := State{Phase: Patching, Rings: make([]RingState, len(r.Rings))}
	if r.Urgent {
		s.Phase = Asking
	}
	for i := range s.Rings {
		s.Rings[i].Devices = devices[i]
	}
	return s
}

// Runs are how the runs of a ring's job stand.
type Runs struct {
	All, Over int
	// Away are those that wait for devices that are not connected, or for their windows.
	Away int
}

// What is to be done next.
const (
	DoNothing = ""
	DoBegin   = "begin"  // ring At begins
	DoJudge   = "judge"  // ring At is to be judged: Judged takes the verdict
	DoRevert  = "revert" // what rings up to At installed is taken back
	DoFinish  = "finish" // it is over
)

// Next moves a rollout on, as far as that needs no action, and tells what is to be done, and whether the state has
// changed and is to be put on record. runs are those of the job of ring At, or of taking back; of a ring whose job was
// not begun they count for nothing.
func (r Rollout) Next(s *State, runs Runs, now time.Time) (do string, changed bool) {
	if s.At >= len(s.Rings) {
		if !s.Phase.Over() {
			s.Phase = Done
			return DoFinish, true
		}
		return DoNothing, false
	}
	ring := &s.Rings[s.At]
	switch s.Phase {
	case Patching:
		if ring.Job == "" {
			if ring.Devices == 0 {
				s.At++
				do, _ = r.Next(s, Runs{}, now)
				return do, true
			}
			return DoBegin, false
		}
		enough := r.Enough
		if enough == 0 {
			enough = usualEnough
		}
		// Those that are away are caught up; those under way are awaited.
		if runs.Over < runs.All && (100*runs.Over < enough*runs.All || runs.Over+runs.Away < runs.All) {
			return DoNothing, false
		}
		s.Phase, ring.Through, changed = Soaking, now, true
		soak := time.Duration(r.Rings[s.At].SoakMinutes) * time.Minute
		if r.Urgent && s.Agreed != "" {
			soak = 0
		}
		ring.Until = now.Add(soak)
		fallthrough
	case Soaking:
		if now.Before(ring.Until) {
			return DoNothing, changed
		}
		return DoJudge, changed
	case Reverting:
		if ring.Back == "" {
			return DoRevert, false
		}
		if runs.Over < runs.All {
			return DoNothing, false
		}
		ring.Reverted = true
		for i := s.At - 1; i >= 0; i-- { // the rings before it too
			if s.Rings[i].Job != "" && !s.Rings[i].Reverted {
				s.At = i
				do, _ = r.Next(s, Runs{}, now)
				return do, true
			}
		}
		s.Phase, changed = PhaseHeld, true
	}
	return DoNothing, changed
}

// Judged takes the verdict on ring At.
func (r Rollout) Judged(s *State, v Verdict) {
	ring := &s.Rings[s.At]
	ring.Verdict = &v
	switch {
	case v.Go:
		s.At++
		s.Phase, s.Why = Patching, ""
	case r.Gate.Rollback:
		s.Phase, s.Why = Reverting, v.Why
	default:
		s.Phase, s.Why = PhaseHeld, v.Why
	}
}

// What a person does to a rollout.
const (
	ActionAgree   = "agree"   // to an urgent one, as the second person
	ActionPause   = "pause"   // no ring begins
	ActionResume  = "resume"  // after a pause
	ActionRelease = "release" // it goes on though it was held
	ActionAgain   = "again"   // the ring is patched anew, after something was left out or mended
	ActionRevert  = "revert"  // what was installed is taken back
	ActionCancel  = "cancel"
)

// Do does an action of a person; by is who, and begun who began the rollout. An error says why it cannot be.
func (r Rollout) Do(s *State, action, by, begun string, now time.Time) error {
	if s.Phase.Over() {
		return errors.New("the rollout is over")
	}
	held := func() error {
		if s.Phase != PhaseHeld {
			return fmt.Errorf("the rollout is %s, and not held", s.Phase)
		}
		return nil
	}
	switch action {
	case ActionAgree:
		if s.Phase != Asking {
			return errors.New("it does not wait for a second person")
		}
		if by == begun {
			return errors.New("the second person is another than who began it")
		}
		s.Agreed, s.Phase = by, Patching
	case ActionPause:
		if s.Phase != Patching && s.Phase != Soaking {
			return fmt.Errorf("the rollout is %s: it is paused while it patches or watches", s.Phase)
		}
		s.Before, s.Phase = s.Phase, Paused
	case ActionResume:
		if s.Phase != Paused {
			return errors.New("it is not paused")
		}
		s.Phase, s.Before = s.Before, ""
	case ActionRelease:
		if err := held(); err != nil {
			return err
		}
		if s.Rings[s.At].Reverted {
			return errors.New("what this ring installed was taken back: patch it again")
		}
		s.Rings[s.At].Released = by
		s.At++
		s.Phase, s.Why = Patching, ""
	case ActionAgain:
		if err := held(); err != nil {
			return err
		}
		// Rings that were taken back begin anew, the first of them first.
		for s.At > 0 && s.Rings[s.At-1].Reverted {
			s.At--
		}
		for i := s.At; i < len(s.Rings); i++ {
			old := s.Rings[i]
			if old.Verdict != nil || old.Reverted {
				old.Past = append(old.Past, Past{At: old.Until, Verdict: old.Verdict, Reverted: old.Reverted, Without: old.Without})
			}
			s.Rings[i] = RingState{Devices: old.Devices, Try: old.Try, Past: old.Past}
		}
		s.Phase, s.Why = Patching, ""
	case ActionRevert:
		if s.Phase == Asking || s.Phase == Reverting {
			return fmt.Errorf("the rollout is %s", s.Phase)
		}
		for s.At > 0 && (s.At >= len(s.Rings) || s.Rings[s.At].Job == "") {
			s.At--
		}
		if s.Rings[s.At].Job == "" || s.Rings[s.At].Reverted {
			return errors.New("there is nothing to take back")
		}
		s.Phase, s.Why = Reverting, "Taken back by "+by+"."
	case ActionCancel:
		s.Phase, s.Why = Cancelled, "Cancelled by "+by+"."
	default:
		return fmt.Errorf("a rollout is told to agree, pause, resume, release, again, revert or cancel, and not to %q", action)
	}
	return nil
}

// Times after which a device is missed that went away in the middle of its run.
const (
	unknownStart = 10 * time.Minute // where it is not known how long it takes to start
	downTakes    = time.Minute      // to shut down
)

// Overdue says of a device that went away in the middle of its run, such as to restart, that it is not back when it
// should be: after three times what its starts take. It is "" before.
func Overdue(away time.Duration, startSeconds float64) string {
	usual, words := unknownStart, ""
	if startSeconds > 0 {
		usual = downTakes + time.Duration(3*startSeconds*float64(time.Second))
		words = fmt.Sprintf("; a start takes it %.0f s", startSeconds)
	}
	if away < usual {
		return ""
	}
	return fmt.Sprintf("It went away %.0f minutes ago in the middle of this, and has not come back%s.", away.Minutes(), words)
}
