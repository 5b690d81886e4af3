package job

import (
	"fmt"
	"strings"

	"moorwatch.example/core/pack"
	"moorwatch.example/core/script"
	"moorwatch.example/core/work"
)

// Work is what a job does at a device: a script, or packages that are installed and removed.
type Work struct {
	Name    string         `json:"name"`
	Version string         `json:"version,omitempty"`
	Action  string         `json:"action"` // RunIt, Install or Remove
	Script  *script.Script `json:"script,omitempty"`
	// Parts are packages in the order in which they are done; the last is the one that is meant. A part
	// without a way to tell whether it is there is steps alone.
	Parts []pack.Part `json:"parts,omitempty"`
}

// What a job does.
const (
	RunIt   = "run"
	Install = "install"
	Remove  = "remove"
)

// OfScript is the work of running a script.
func OfScript(s script.Script, version int) Work {
	return Work{Name: s.Name, Version: fmt.Sprint(version), Action: RunIt, Script: &s}
}

// OfPackage is the work of installing a package with what that needs, or of removing it.
func OfPackage(p pack.Package, remove bool, find func(name string) (pack.Package, bool)) (Work, error) {
	if remove {
		if len(p.Remove) == 0 {
			return Work{}, fmt.Errorf("%s does not say how it is removed: add steps under remove", p.Name)
		}
		return Work{Name: p.Name, Version: p.Version, Action: Remove, Parts: []pack.Part{{Package: p, Remove: true}}}, nil
	}
	parts, err := pack.Plan(p, find)
	return Work{Name: p.Name, Version: p.Version, Action: Install, Parts: parts}, err
}

// OfSteps is the work of doing steps.
func OfSteps(name string, steps ...work.Step) Work {
	return Work{Name: name, Action: RunIt, Parts: []pack.Part{{Package: pack.Package{Name: name, Install: steps}}}}
}

// OfParts is the work of several parts.
func OfParts(name string, parts ...pack.Part) Work {
	return Work{Name: name, Action: RunIt, Parts: parts}
}

// Fits tells whether the work can be done on a system, and otherwise why not.
func (w Work) Fits(system string) (ok bool, why string) {
	if w.Script != nil {
		return w.Script.Runs(system), "the script is not for " + system
	}
	for _, p := range w.Parts {
		if p.Having == nil && !p.Package.Fits(system) {
			return false, fmt.Sprintf("the package %s is not for %s", p.Package.Name, system)
		}
	}
	return true, ""
}

// Seconds is the time limit of all of it.
func (w Work) Seconds() int {
	if w.Script != nil {
		return w.Script.Limit()
	}
	n := 0
	for _, p := range w.Parts {
		for _, s := range p.Steps() {
			n += s.Limit()
		}
	}
	return min(max(n, 60), mostSeconds)
}

// mostSeconds is the longest time limit.
const mostSeconds = 3 * 24 * 3600

// Files are the digests of all files that it brings.
func (w Work) Files() (digests []string) {
	for _, p := range w.Parts {
		for _, f := range p.Package.Files {
			digests = append(digests, f.SHA256)
		}
	}
	return digests
}

// Parameters are what it must be told.
func (w Work) Parameters() (all []script.Parameter) {
	if w.Script != nil {
		return w.Script.Parameters
	}
	seen := map[string]bool{}
	for _, p := range w.Parts {
		for _, one := range p.Package.Parameters {
			if !seen[one.Name] {
				seen[one.Name] = true
				all = append(all, one)
			}
		}
	}
	return all
}

// String says what it does.
func (w Work) String() string {
	switch w.Action {
	case Install:
		return strings.TrimSpace("install " + w.Name + " " + w.Version)
	case Remove:
		return "remove " + w.Name
	}
	return w.Name
}
