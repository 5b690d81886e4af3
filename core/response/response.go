// Package response is what a policy does by itself when a check fails: steps with waits between them,
// how often they may be tried, and when a person is told. It begins no job and has no clock.
package response

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
)

// Response is what is done when a check fails at a device.
type Response struct {
	Name  string `json:"name"`
	Check string `json:"check"`
	// Subject is of what: a service, disk or piece of software; "" for any, * stands for any run of
	// characters.
	Subject string `json:"subject,omitempty"`
	Steps   []Step `json:"steps"`
	// Attempts is how often it may begin at a device within Hours; then a person is told at once.
	Attempts int `json:"attempts,omitempty"` // usualAttempts when 0
	Hours    int `json:"hours,omitempty"`    // usualHours when 0
	// AtOnce has it be healed as soon as the check is seen not to fail: what is put in place stays.
	AtOnce bool `json:"at_once,omitempty"`
}

// Step is one thing that a response tries.
type Step struct {
	Do      string            `json:"do"`
	Script  string            `json:"script,omitempty"`  // the id of a script of the library
	Package string            `json:"package,omitempty"` // the id of a package: install, remove
	Values  map[string]string `json:"values,omitempty"`  // of parameters
	Service string            `json:"service,omitempty"` // the failing one where it is empty
	Path    string            `json:"path,omitempty"`    // set: of the setting; the failing one where it is empty
	Value   string            `json:"value,omitempty"`   // set
	// Windows has it wait for a maintenance window of the device.
	Windows bool `json:"windows,omitempty"`
	// Watch is for how long the check must not fail afterwards, in seconds, before it is taken for
	// healed: where it fails then or again, the next step is done.
	Watch int `json:"watch,omitempty"` // usualWatch when 0
}

// What a step does.
const (
	Script         = "script"
	RestartService = "restart-service"
	StartService   = "start-service"
	Install        = "install"
	Remove         = "remove"
	Set            = "set"
	RestartDevice  = "restart-device"
	Wait           = "wait" // for the check to recover by itself
)

var actions = []string{Script, RestartService, StartService, Install, Remove, Set, RestartDevice, Wait}

// Bounds.
const (
	usualAttempts = 3
	usualHours    = 24
	usualWatch    = 120
	mostSteps     = 10
	mostAttempts  = 50
	mostHours     = 30 * 24
	mostWatch     = 24 * 3600
	mostText      = 300
)

// Validate refuses a response that cannot be carried out, and says what to write.
func (r Response) Validate() error {
	switch {
	case strings.TrimSpace(r.Name) == "" || len(r.Name) > 80:
		return errors.New("give the response a name of 1 to 80 characters")
	case r.Check == "":
		return fmt.Errorf("%s: say to which check it responds", r.Name)
	case len(r.Steps) == 0 || len(r.Steps) > mostSteps:
		return fmt.Errorf("%s: it has 1 to %d steps", r.Name, mostSteps)
	case r.Attempts < 0 || r.Attempts > mostAttempts || r.Hours < 0 || r.Hours > mostHours:
		return fmt.Errorf("%s: it is tried up to %d times within 1 to %d hours", r.Name, mostAttempts, mostHours)
	}
	if _, err := path.Match(r.Subject, ""); err != nil || len(r.Subject) > mostText {
		return fmt.Errorf("%s: the subject %q cannot be read: * and ? stand for any characters", r.Name, r.Subject)
	}
	for i, s := range r.Steps {
		if err := s.validate(); err != nil {
			return fmt.Errorf("%s: step %d: %w", r.Name, i+1, err)
		}
	}
	return nil
}

func (s Step) validate() error {
	switch {
	case !slices.Contains(actions, s.Do):
		return fmt.Errorf("it does one of %s, and not %q", strings.Join(actions, ", "), s.Do)
	case s.Do == Script && s.Script == "":
		return errors.New("say which script")
	case (s.Do == Install || s.Do == Remove) && s.Package == "":
		return errors.New("say which package")
	case s.Watch < 0 || s.Watch > mostWatch:
		return fmt.Errorf("it is watched for 1 to %d seconds", mostWatch)
	case len(s.Service) > mostText || len(s.Path) > mostText || len(s.Value) > 8<<10:
		return errors.New("a text of it is too long")
	}
	return nil
}

// Matches tells whether it responds to a check of a subject.
func (r Response) Matches(check, subject string) bool {
	if r.Check != check {
		return false
	}
	if r.Subject == "" || r.Subject == subject {
		return true
	}
	ok, _ := path.Match(r.Subject, subject)
	return ok
}

// Limit is how often it may begin at a device, and within what time.
func (r Response) Limit() (attempts int, within time.Duration) {
	attempts, hours := r.Attempts, r.Hours
	if attempts == 0 {
		attempts = usualAttempts
	}
	if hours == 0 {
		hours = usualHours
	}
	return attempts, time.Duration(hours) * time.Hour
}

func (s Step) watch() time.Duration {
	if s.Watch == 0 {
		return usualWatch * time.Second
	}
	return time.Duration(s.Watch) * time.Second
}

// String says what a step does.
func (s Step) String() string {
	switch s.Do {
	case RestartService:
		return strings.TrimSpace("restart the service " + s.Service)
	case StartService:
		return strings.TrimSpace("start the service " + s.Service)
	case Set:
		return strings.TrimSpace("set " + s.Path)
	case RestartDevice:
		if s.Windows {
			return "restart the device in its window"
		}
		return "restart the device"
	case Install:
		return "install a package"
	case Remove:
		return "remove a package"
	case Wait:
		return "wait"
	}
	return "run a script"
}

// State is how far a response has come at a device.
type State string

// The states of a response; the last three are its ends.
const (
	Due      State = "due"      // its step is to be done
	Doing    State = "doing"    // its step is done by a job
	Watching State = "watching" // whether its step helped
	Healed   State = "healed"
	GaveUp   State = "gave up"
	Held     State = "held" // it had been tried too often
)

// Over tells whether nothing more comes of it.
func (s State) Over() bool { return s == Healed || s == GaveUp || s == Held }

// Progress is a response under way at a device.
type Progress struct {
	Response Response  `json:"response"` // as it was when it began
	Step     int       `json:"step"`
	State    State     `json:"state"`
	Since    time.Time `json:"since"`          // of the state
	Fine     bool      `json:"fine,omitempty"` // while it is watched, the check did not fail at some time
	// Said is what is known of how its steps went, a sentence each.
	Said []string `json:"said,omitempty"`
}

// Begin begins a response, or holds it where it began often enough.
func Begin(r Response, begun int, now time.Time) Progress {
	c := Progress{Response: r, State: Due, Since: now}
	if most, within := r.Limit(); begun >= most {
		c.State = Held
		c.Said = append(c.Said, fmt.Sprintf("It was tried %d times within %d hours, and is not tried again before that is over.", begun,
			int(within.Hours())))
	}
	return c
}

// Did notes that the job of its step is over.
func (c *Progress) Did(succeeded bool, reason string, now time.Time) {
	if c.State != Doing {
		return
	}
	step := c.Response.Steps[c.Step]
	if succeeded {
		c.Said = append(c.Said, fmt.Sprintf("Step %d, %s: done.", c.Step+1, step))
	} else {
		c.Said = append(c.Said, strings.TrimSuffix(fmt.Sprintf("Step %d, %s: failed: %s", c.Step+1, step, reason), ": "))
	}
	c.State, c.Since, c.Fine = Watching, now, false
}

// Check brings a progress up to date: failing tells whether the check fails now. It returns true when
// something changed.
func (c *Progress) Check(failing bool, now time.Time) (changed bool) {
	switch c.State {
	case Due:
		if !failing {
			c.Said = append(c.Said, "It recovered by itself.")
			c.set(Healed, now)
			return true
		}
	case Watching:
		step := c.Response.Steps[c.Step]
		over := !now.Before(c.Since.Add(step.watch()))
		switch {
		case !failing && (over || c.Response.AtOnce):
			c.set(Healed, now)
			return true
		case !failing && !c.Fine:
			c.Fine = true
			return true
		case failing && (c.Fine || over):
			c.next(now)
			return true
		}
	}
	return false
}

// next goes on to the next step, or gives up.
func (c *Progress) next(now time.Time) {
	if c.Step+1 < len(c.Response.Steps) {
		c.Step++
		c.set(Due, now)
		return
	}
	c.Said = append(c.Said, "None of it helped.")
	c.set(GaveUp, now)
}

func (c *Progress) set(s State, now time.Time) { c.State, c.Since, c.Fine = s, now, false }

// Due is when the passing of time alone changes a progress; zero for never.
func (c *Progress) Due() time.Time {
	if c.State == Watching {
		return c.Since.Add(c.Response.Steps[c.Step].watch())
	}
	return time.Time{}
}
