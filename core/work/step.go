// Package work is what a device may be told to do, step by step: what steps there are, on which
// conditions each is done, and what follows when one fails. It does none of them.
package work

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"moorwatch.example/core/script"
)

// Step is one thing that a device does. Which fields count depends on Do.
type Step struct {
	Title string      `yaml:"title,omitempty" json:"title,omitempty"`
	Do    string      `yaml:"do" json:"do"`
	If    []Condition `yaml:"if,omitempty" json:"if,omitempty"` // all must hold, or it is skipped
	// OnError is what follows when it fails: OnStop where it is empty.
	OnError string `yaml:"on_error,omitempty" json:"on_error,omitempty"`
	// Repeatable tells that it may be done again where the device died in the middle of it. Steps
	// that lead to a state, such as copying a file, always may.
	Repeatable bool `yaml:"repeatable,omitempty" json:"repeatable,omitempty"`
	Seconds    int  `yaml:"seconds,omitempty" json:"seconds,omitempty"` // its time limit; 600 where it is 0

	Argv []string `yaml:"argv,omitempty" json:"argv,omitempty"` // run
	// run, script: exit statuses that are well; 0 where none is named
	Exits       []int    `yaml:"exits,omitempty" json:"exits,omitempty"`
	Interpreter string   `yaml:"interpreter,omitempty" json:"interpreter,omitempty"` // script
	Body        string   `yaml:"body,omitempty" json:"body,omitempty"`               // script
	Undo        []string `yaml:"undo,omitempty" json:"undo,omitempty"`               // run, script: the command that undoes it
	File        string   `yaml:"file,omitempty" json:"file,omitempty"`               // copy, install: the name of a file of the package
	To          string   `yaml:"to,omitempty" json:"to,omitempty"`                   // copy: the whole path
	Bits        string   `yaml:"bits,omitempty" json:"bits,omitempty"`               // copy: permissions, such as 0644
	Name        string   `yaml:"name,omitempty" json:"name,omitempty"`               // service, uninstall
	Action      string   `yaml:"action,omitempty" json:"action,omitempty"`           // service: start, stop, restart
	Path        string   `yaml:"path,omitempty" json:"path,omitempty"`               // edit, delete; set: the place of the setting
	Find        string   `yaml:"find,omitempty" json:"find,omitempty"`               // edit: which lines (RE2)
	Line        string   `yaml:"line,omitempty" json:"line,omitempty"`               // edit: what stands in their place, or at the end
	Gone        bool     `yaml:"gone,omitempty" json:"gone,omitempty"`               // edit: the lines are removed; set: the setting is
	Value       string   `yaml:"value,omitempty" json:"value,omitempty"`             // set
	Type        string   `yaml:"type,omitempty" json:"type,omitempty"`               // set: of the value, where the store has types
	// Deferrals is, of restart, how often the person at the device may put it off, by Defer minutes each; 0
	// restarts without asking. Where nobody is signed in it does not wait.
	Deferrals int `yaml:"deferrals,omitempty" json:"deferrals,omitempty"`
	Defer     int `yaml:"defer,omitempty" json:"defer,omitempty"`
	// Updates are what update, fetch and back are about, of all devices: each does what concerns it.
	Updates []Version `yaml:"updates,omitempty" json:"updates,omitempty"`
}

// Version names a version of something that a source of updates offers.
type Version struct {
	Source  string `yaml:"source" json:"source"`
	Name    string `yaml:"name" json:"name"`
	Version string `yaml:"version" json:"version"`
}

// What a step does.
const (
	Run       = "run"       // a program with arguments
	Script    = "script"    // lines for an interpreter
	Copy      = "copy"      // a file of the package to a place
	Install   = "install"   // a file of the package, by the system's package manager
	Uninstall = "uninstall" // what the package manager installed, by its name
	Edit      = "edit"      // lines of a text file
	Set       = "set"       // a setting: registry, preferences, kernel parameters
	Service   = "service"   // start, stop or restart a service
	Delete    = "delete"    // a file, or a folder with all in it
	Restart   = "restart"   // the device; what follows goes on afterwards
	Wait      = "wait"      // for its conditions to hold, or for its time where it has none

	Fetch        = "fetch"         // updates, so that they can be installed later without the network
	Update       = "update"        // installs updates
	Back         = "back"          // what updates replaced, in the versions that are named
	CheckUpdates = "check-updates" // asks the sources of updates what there is
	Refresh      = "refresh"       // services that still use what an update replaced are restarted
)

// Bounds of putting a restart off.
const (
	MaxDeferrals = 10
	MaxDefer     = 240 // minutes
)

// Kinds lists what a step may do.
var Kinds = []string{Run, Script, Copy, Install, Uninstall, Edit, Set, Service, Delete, Restart, Wait, CheckUpdates, Fetch, Update, Back,
	Refresh}

// What follows a step that failed.
const (
	OnStop     = "stop"     // nothing more is done
	OnContinue = "continue" // the next step is done all the same
	OnUndo     = "undo"     // what was done is undone, the last first
)

// Limits of steps.
const (
	MaxSteps     = 100
	MaxUpdates   = 20_000
	maxText      = 4 << 10
	usualSeconds = 600
	mostSeconds  = 24 * 3600
)

// Limit is the step's time limit in seconds.
func (s Step) Limit() int {
	if s.Seconds == 0 {
		return usualSeconds
	}
	return s.Seconds
}

// Again tells whether a step may be done again that may have been done in part or whole.
func (s Step) Again() bool {
	switch s.Do {
	case Copy, Edit, Set, Delete, Wait, Restart:
		return true
	case CheckUpdates, Fetch, Update, Back, Refresh: // what was installed before is not installed again
		return true
	case Service:
		return true // restarted twice is restarted
	}
	return s.Repeatable
}

// Well tells whether an exit status is one that a step expects.
func (s Step) Well(exit int) bool {
	if len(s.Exits) == 0 {
		return exit == 0
	}
	return slices.Contains(s.Exits, exit)
}

// Heading is what a step is called where it has no title.
func (s Step) Heading() string {
	if s.Title != "" {
		return s.Title
	}
	switch s.Do {
	case Run:
		return "Run " + strings.Join(s.Argv, " ")
	case Script:
		return "Run a script"
	case Copy:
		return "Copy " + s.File + " to " + s.To
	case Install:
		return "Install " + s.File
	case Uninstall:
		return "Uninstall " + s.Name
	case Edit:
		return "Edit " + s.Path
	case Set:
		return "Set " + s.Path
	case Service:
		verb := s.Action
		if verb == "" { // which no valid step is
			verb = "change"
		}
		return strings.ToUpper(verb[:1]) + verb[1:] + " service " + s.Name
	case Delete:
		return "Delete " + s.Path
	case Restart:
		return "Restart the device"
	case Wait:
		return "Wait"
	case CheckUpdates:
		return "Ask the sources of updates"
	case Fetch:
		return "Fetch updates"
	case Update:
		return "Install updates"
	case Back:
		return "Go back to the versions before"
	case Refresh:
		return "Restart services that use what was replaced"
	}
	return s.Do
}

// Validate refuses steps that cannot be done, and says what to write. files are those that a package
// has; where it has none, no step may name one.
func Validate(steps []Step, files []string) error {
	if len(steps) == 0 {
		return errors.New("there are no steps")
	}
	if len(steps) > MaxSteps {
		return fmt.Errorf("there are %d steps, and at most %d may be", len(steps), MaxSteps)
	}
	for i, s := range steps {
		if err := s.validate(files); err != nil {
			return fmt.Errorf("step %d (%s): %w", i+1, s.Do, err)
		}
	}
	return nil
}

func (s Step) validate(files []string) error {
	for _, text := range []string{s.Title, s.To, s.Name, s.Path, s.Find, s.Line, s.Value} {
		if len(text) > maxText || strings.ContainsRune(text, 0) {
			return fmt.Errorf("a text of it is longer than %d bytes, or holds a NUL byte", maxText)
		}
	}
	switch {
	case !slices.Contains(Kinds, s.Do):
		return fmt.Errorf("it does one of %s, and not %q", strings.Join(Kinds, ", "), s.Do)
	case !slices.Contains([]string{"", OnStop, OnContinue, OnUndo}, s.OnError):
		return fmt.Errorf("on_error is stop, continue or undo, and not %q", s.OnError)
	case s.Seconds < 0 || s.Seconds > mostSeconds:
		return fmt.Errorf("its time limit is 1 to %d seconds", mostSeconds)
	}
	for _, c := range s.If {
		if err := c.Validate(); err != nil {
			return err
		}
	}
	switch s.Do {
	case Run:
		if len(s.Argv) == 0 || s.Argv[0] == "" {
			return errors.New("argv names the program and its arguments, as a list")
		}
	case Script:
		if _, ok := script.Interpreters[s.Interpreter]; !ok {
			return fmt.Errorf("there is no interpreter %q", s.Interpreter)
		}
		if strings.TrimSpace(s.Body) == "" || len(s.Body) > script.MaxBytes || strings.ContainsRune(s.Body, 0) {
			return errors.New("body holds the script's lines, as UTF-8, 1 MiB at most")
		}
	case Copy, Install:
		if !slices.Contains(files, s.File) {
			return fmt.Errorf("file names a file of the package, and %q is none of %s", s.File, strings.Join(files, ", "))
		}
		if s.Do == Copy {
			return whole(s.To)
		}
	case Uninstall:
		if s.Name == "" {
			return errors.New("name says what the package manager is to remove")
		}
	case Edit:
		if _, err := regexp.Compile(s.Find); err != nil || s.Find == "" {
			return fmt.Errorf("find says which lines, as a regular expression (RE2), and %q is none", s.Find)
		}
		if strings.ContainsAny(s.Line, "\r\n") {
			return errors.New("line is one line")
		}
		return whole(s.Path)
	case Set:
		if s.Path == "" {
			return errors.New("path says which setting, such as kernel/vm/swappiness")
		}
	case Service:
		if s.Name == "" || !slices.Contains([]string{"start", "stop", "restart"}, s.Action) {
			return errors.New("name says which service, and action is start, stop or restart")
		}
	case Delete:
		if err := whole(s.Path); err != nil {
			return err
		}
		if rest := strings.Trim(s.Path, `/\`); !strings.ContainsAny(rest, `/\`) {
			return fmt.Errorf("%q lies at the top of a disk: name something below it", s.Path)
		}
	case Fetch, Update, Back:
		if len(s.Updates) == 0 || len(s.Updates) > MaxUpdates {
			return fmt.Errorf("updates names 1 to %d of them", MaxUpdates)
		}
		for _, u := range s.Updates {
			if u.Source == "" || u.Name == "" || u.Version == "" || strings.HasPrefix(u.Name, "-") ||
				strings.ContainsAny(u.Name+u.Version, " \t\r\n\x00") && u.Source != "windows" && u.Source != "macos" {
				return fmt.Errorf("%q is no update: it has a source, a name and a version", u.Name)
			}
		}
	case Restart:
		if s.Deferrals < 0 || s.Deferrals > MaxDeferrals || s.Deferrals > 0 && (s.Defer < 1 || s.Defer > MaxDefer) {
			return fmt.Errorf("a restart is put off at most %d times, by 1 to %d minutes each", MaxDeferrals, MaxDefer)
		}
	case Wait:
		if s.Seconds == 0 {
			return errors.New("seconds says for how long at most")
		}
	}
	return nil
}

var drive = regexp.MustCompile(`^([A-Za-z]:\\|/)`)

func whole(path string) error {
	if !drive.MatchString(path) || slices.ContainsFunc(strings.FieldsFunc(path, func(r rune) bool { return r == '/' || r == '\\' }),
		func(p string) bool { return p == ".." }) {
		return fmt.Errorf("%q is no whole path, such as /etc/example.conf", path)
	}
	return nil
}

// Condition is something about a device that holds or does not.
type Condition struct {
	Kind string `yaml:"kind" json:"kind"`
	Of   string `yaml:"of,omitempty" json:"of,omitempty"` // which file, piece of software, service, setting, or disk
	// Is is what it must be: a version at least, a service's state, a setting's value, a system, or MiB
	// of free space. Empty asks only whether it is there.
	Is  string `yaml:"is,omitempty" json:"is,omitempty"`
	Not bool   `yaml:"not,omitempty" json:"not,omitempty"`
}

// Kinds of conditions.
const (
	OfFile     = "file"      // a file or folder is there
	OfSoftware = "software"  // the package manager has it, in a version of at least Is
	OfService  = "service"   // it is in the state Is, or running
	OfSetting  = "setting"   // it is there, with the value Is
	OfSystem   = "system"    // windows, macos or linux
	OfSpace    = "space"     // the disk of a folder has Is MiB free
	OfSignedIn = "signed-in" // somebody is
	OfRestart  = "restart"   // the device asks to be restarted
)

var conditionKinds = []string{OfFile, OfSoftware, OfService, OfSetting, OfSystem, OfSpace, OfSignedIn, OfRestart}

var mib = regexp.MustCompile(`^[0-9]{1,9}$`)

// Validate refuses a condition that cannot be looked at.
func (c Condition) Validate() error {
	switch {
	case !slices.Contains(conditionKinds, c.Kind):
		return fmt.Errorf("a condition is of kind %s, and not %q", strings.Join(conditionKinds, ", "), c.Kind)
	case c.Of == "" && c.Kind != OfSystem && c.Kind != OfSignedIn && c.Kind != OfRestart:
		return fmt.Errorf("the condition of kind %s does not say of what", c.Kind)
	case len(c.Of) > maxText || len(c.Is) > maxText:
		return errors.New("a condition's texts are too long")
	case c.Kind == OfSystem && !slices.Contains([]string{"windows", "macos", "linux"}, c.Is):
		return fmt.Errorf("a system is windows, macos or linux, and not %q", c.Is)
	case c.Kind == OfSpace && !mib.MatchString(c.Is):
		return fmt.Errorf("space is a number of MiB, and not %q", c.Is)
	}
	return nil
}

// String says what a condition asks.
func (c Condition) String() string {
	is, not := "is", ""
	if c.Not {
		is, not = "is not", "not "
	}
	switch c.Kind {
	case OfSoftware:
		if c.Is != "" {
			return fmt.Sprintf("%s %s installed in version %s or later", c.Of, is, c.Is)
		}
		return fmt.Sprintf("%s %s installed", c.Of, is)
	case OfService:
		state := c.Is
		if state == "" {
			state = "running"
		}
		return fmt.Sprintf("service %s %s %s", c.Of, is, state)
	case OfSetting:
		if c.Is != "" {
			return fmt.Sprintf("%s %s %s", c.Of, is, c.Is)
		}
	case OfSystem:
		return fmt.Sprintf("the system %s %s", is, c.Is)
	case OfSpace:
		return fmt.Sprintf("%s %shas %s MiB free", c.Of, map[bool]string{true: "no longer "}[c.Not], c.Is)
	case OfSignedIn:
		return fmt.Sprintf("somebody is %ssigned in", not)
	case OfRestart:
		return fmt.Sprintf("the device %s to be restarted", is)
	}
	return fmt.Sprintf("%s %s there", c.Of, is)
}
