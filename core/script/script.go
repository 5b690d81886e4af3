// Package script is what a library of scripts consists of: what a script is called, what runs it, what
// it must be told, and the plain file in which it is kept. It runs none.
//
// # The file
//
// A script is kept as a file that its interpreter can run as it is. At its beginning, after a line that
// begins with #! where there is one, stand comments of the interpreter (# or rem or --) that hold YAML
// between two lines of their own:
//
//	#!/bin/sh
//	# --- moorwatch
//	# name: Free space on a disk
//	# interpreter: sh
//	# systems: [linux]
//	# parameters:
//	#   - {name: PATH_TO_LOOK_AT, title: Folder, kind: text, default: /}
//	# ---
//	df -h "$PATH_TO_LOOK_AT"
//
// What is asked for reaches the script as environment variables.
package script

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
)

// Limits of a script.
const (
	MaxBytes      = 1 << 20
	MaxName       = 80
	MaxText       = 2000 // of a description
	MaxParameters = 30
	MaxValue      = 8 << 10
	usualSeconds  = 600
	mostSeconds   = 24 * 3600
)

// Script is a script of the library.
type Script struct {
	Name        string      `yaml:"name" json:"name"`
	Description string      `yaml:"description,omitempty" json:"description,omitempty"`
	Interpreter string      `yaml:"interpreter" json:"interpreter"`
	Systems     []string    `yaml:"systems,omitempty" json:"systems,omitempty"` // all where none is named
	Parameters  []Parameter `yaml:"parameters,omitempty" json:"parameters,omitempty"`
	Seconds     int         `yaml:"seconds,omitempty" json:"seconds,omitempty"`       // its time limit; 600 where it is 0
	Repeatable  bool        `yaml:"repeatable,omitempty" json:"repeatable,omitempty"` // running it twice does no harm
	Body        string      `yaml:"-" json:"body"`
}

// Kinds of parameters.
const (
	Text   = "text"
	Number = "number"
	Choice = "choice"
	Switch = "switch" // "yes" or "no"
	Secret = "secret"
)

// Parameter is something that a script must be told.
type Parameter struct {
	Name     string   `yaml:"name" json:"name"` // of its environment variable
	Title    string   `yaml:"title,omitempty" json:"title,omitempty"`
	Kind     string   `yaml:"kind" json:"kind"`
	Of       []string `yaml:"of,omitempty" json:"of,omitempty"` // of a choice
	Default  string   `yaml:"default,omitempty" json:"default,omitempty"`
	Required bool     `yaml:"required,omitempty" json:"required,omitempty"`
}

// Interpreters are what scripts may be written for, each with what begins a comment and the systems that
// may have it.
var Interpreters = map[string]struct {
	Comment string
	Systems []string
}{
	"sh":          {"#", []string{"linux", "macos"}},
	"bash":        {"#", []string{"linux", "macos"}},
	"python":      {"#", []string{"linux", "macos", "windows"}},
	"powershell":  {"#", []string{"linux", "windows"}},
	"batch":       {"rem", []string{"windows"}},
	"applescript": {"--", []string{"macos"}},
}

var variable = regexp.MustCompile(`^[A-Z][A-Z0-9_]{0,62}$`)

// reserved are variables that programs need, and a script must not be given others of.
var reserved = []string{"PATH", "HOME", "USER", "SHELL", "IFS", "ENV", "BASH_ENV", "LD_PRELOAD", "LD_LIBRARY_PATH", "PYTHONPATH",
	"PYTHONSTARTUP", "PATHEXT", "COMSPEC", "SYSTEMROOT"}

// Limit is the script's time limit in seconds.
func (s Script) Limit() int {
	if s.Seconds == 0 {
		return usualSeconds
	}
	return s.Seconds
}

// Runs tells whether the script is meant for a system: linux, windows or macos.
func (s Script) Runs(system string) bool {
	return slices.Contains(Interpreters[s.Interpreter].Systems, system) && (len(s.Systems) == 0 || slices.Contains(s.Systems, system))
}

// Validate refuses a script that cannot be run, and says what to write.
func (s Script) Validate() error {
	i, known := Interpreters[s.Interpreter]
	switch {
	case strings.TrimSpace(s.Name) == "" || len(s.Name) > MaxName:
		return fmt.Errorf("give the script a name of 1 to %d characters", MaxName)
	case len(s.Description) > MaxText:
		return fmt.Errorf("the description has more than %d characters", MaxText)
	case !known:
		return fmt.Errorf("there is no interpreter %q: name one of sh, bash, python, powershell, batch, applescript", s.Interpreter)
	case strings.TrimSpace(s.Body) == "":
		return errors.New("the script has no lines to run")
	case len(s.Body) > MaxBytes:
		return fmt.Errorf("the script has %d bytes, and 1 MiB may be: send what it needs as a file, and let it read that", len(s.Body))
	case strings.ContainsRune(s.Body, 0):
		return errors.New("the script holds a NUL byte: it is no text, or one in UTF-16; save it as UTF-8")
	case !utf8.ValidString(s.Body):
		return errors.New("the script is no UTF-8: save it as such")
	case s.Seconds < 0 || s.Seconds > mostSeconds:
		return fmt.Errorf("its time limit is 1 to %d seconds", mostSeconds)
	}
	for _, system := range s.Systems {
		if !slices.Contains(i.Systems, system) {
			return fmt.Errorf("%s has no %s: of systems name some of %s", system, s.Interpreter, strings.Join(i.Systems, ", "))
		}
	}
	return Check(s.Parameters)
}

// Check refuses parameters that cannot be asked for.
func Check(parameters []Parameter) error {
	if len(parameters) > MaxParameters {
		return fmt.Errorf("there are at most %d parameters", MaxParameters)
	}
	seen := map[string]bool{}
	for _, p := range parameters {
		if err := p.validate(); err != nil {
			return err
		}
		if seen[p.Name] {
			return fmt.Errorf("the parameter %s is there twice", p.Name)
		}
		seen[p.Name] = true
	}
	return nil
}

func (p Parameter) validate() error {
	switch {
	case !variable.MatchString(p.Name):
		return fmt.Errorf("a parameter is named as an environment variable, such as FOLDER_2, and not %q", p.Name)
	case slices.Contains(reserved, p.Name):
		return fmt.Errorf("the parameter %s would take the place of a variable that programs need: call it otherwise", p.Name)
	case !slices.Contains([]string{Text, Number, Choice, Switch, Secret}, p.Kind):
		return fmt.Errorf("the parameter %s is of kind text, number, choice, switch or secret, and not %q", p.Name, p.Kind)
	case p.Kind == Choice && len(p.Of) < 2:
		return fmt.Errorf("the parameter %s is a choice: name what it is of", p.Name)
	case p.Kind == Secret && p.Default != "":
		return fmt.Errorf("the parameter %s is a secret, and a default of it could be read by all", p.Name)
	case p.Default != "":
		return p.fits(p.Default)
	}
	return nil
}

// fits refuses a value that a parameter cannot have.
func (p Parameter) fits(v string) error {
	if len(v) > MaxValue || strings.ContainsRune(v, 0) || !utf8.ValidString(v) {
		return fmt.Errorf("%s is longer than %d bytes, or no text", p.Name, MaxValue)
	}
	switch p.Kind {
	case Number:
		if _, err := strconv.ParseFloat(v, 64); err != nil {
			return fmt.Errorf("%s is a number, and not %q", p.Name, v)
		}
	case Choice:
		if !slices.Contains(p.Of, v) {
			return fmt.Errorf("%s is one of %s, and not %q", p.Name, strings.Join(p.Of, ", "), v)
		}
	case Switch:
		if v != "yes" && v != "no" {
			return fmt.Errorf("%s is yes or no, and not %q", p.Name, v)
		}
	}
	return nil
}

// Values are the values of all parameters, out of those that are given and the defaults, open and
// secret ones apart. It refuses what is missing, cannot be, or is not asked for.
func Values(parameters []Parameter, given map[string]string) (open, secret map[string]string, err error) {
	open, secret = map[string]string{}, map[string]string{}
	asked := map[string]bool{}
	for _, p := range parameters {
		asked[p.Name] = true
		v, there := given[p.Name]
		if !there || v == "" {
			v = p.Default
		}
		if v == "" && p.Required {
			return nil, nil, fmt.Errorf("%s must be given: %s", p.Name, p.Title)
		}
		if v != "" {
			if err := p.fits(v); err != nil {
				return nil, nil, err
			}
		}
		if p.Kind == Secret {
			secret[p.Name] = v
		} else {
			open[p.Name] = v
		}
	}
	for name := range given {
		if !asked[name] {
			return nil, nil, fmt.Errorf("it asks for no %s", name)
		}
	}
	return open, secret, nil
}

// begins and ends are the lines around a header, after the comment.
const (
	begins = "--- moorwatch"
	ends   = "---"
)

var errHeader = errors.New(`the file has no header: begin it with comments that hold YAML between "--- moorwatch" and "---"`)

// Parse reads a script from its file. A byte order mark is left out, and for interpreters that trip over
// them so are the carriage returns at the ends of lines.
func Parse(file []byte) (s Script, err error) {
	if len(file) > MaxBytes+64<<10 {
		return s, fmt.Errorf("the file has %d bytes, and 1 MiB may be", len(file))
	}
	file = bytes.TrimPrefix(file, []byte("\xef\xbb\xbf"))
	if bytes.HasPrefix(file, []byte{0xff, 0xfe}) || bytes.HasPrefix(file, []byte{0xfe, 0xff}) || bytes.IndexByte(file, 0) >= 0 {
		return s, errors.New("the file holds NUL bytes, or is UTF-16: save it as UTF-8")
	}
	var first, header string
	in, found, comment := false, false, ""
	body := string(file)
	for n := 0; body != "" && !found; n++ {
		text, rest, _ := strings.Cut(body, "\n")
		text = strings.TrimSuffix(text, "\r")
		switch {
		case n == 0 && strings.HasPrefix(text, "#!"):
			first = text + "\n"
		case !in:
			before, after, ok := strings.Cut(text, begins)
			if comment = strings.TrimSpace(before); !ok || strings.TrimSpace(after) != "" || !commented(comment) {
				return s, errHeader
			}
			in = true
		default:
			inner, ok := strings.CutPrefix(text, comment)
			if !ok {
				return s, fmt.Errorf("line %d of the header does not begin with %s", n+1, comment)
			}
			inner = strings.TrimPrefix(inner, " ")
			if strings.TrimSpace(inner) == ends {
				found = true
			} else {
				header += inner + "\n"
			}
		}
		body = rest
	}
	if !found {
		return s, errHeader
	}
	if err := yaml.NewDecoder(strings.NewReader(header), yaml.Strict()).Decode(&s); err != nil {
		return s, fmt.Errorf("the header cannot be read: %s", yaml.FormatError(err, false, false))
	}
	s.Body = Clean(s.Interpreter, first+body)
	return s, s.Validate()
}

func commented(comment string) bool {
	for _, i := range Interpreters {
		if i.Comment == comment {
			return true
		}
	}
	return false
}

// Clean returns a script's lines as its interpreter takes them.
func Clean(interpreter, body string) string {
	body = strings.TrimPrefix(body, "\ufeff")
	switch interpreter {
	case "sh", "bash", "python":
		return strings.ReplaceAll(body, "\r\n", "\n")
	case "batch":
		return strings.ReplaceAll(strings.ReplaceAll(body, "\r\n", "\n"), "\n", "\r\n")
	}
	return body
}

// File writes a script as its file.
func (s Script) File() ([]byte, error) {
	header, err := yaml.Marshal(s)
	if err != nil {
		return nil, err
	}
	comment := Interpreters[s.Interpreter].Comment
	var b strings.Builder
	body := s.Body
	if strings.HasPrefix(body, "#!") {
		first, rest, _ := strings.Cut(body, "\n")
		b.WriteString(first + "\n")
		body = rest
	}
	b.WriteString(comment + " " + begins + "\n")
	for line := range strings.Lines(string(header)) {
		b.WriteString(comment + " " + line)
	}
	b.WriteString(comment + " " + ends + "\n")
	b.WriteString(body)
	return []byte(b.String()), nil
}
