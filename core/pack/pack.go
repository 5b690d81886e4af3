// Package pack is what a package consists of: which files it brings, the steps that install and remove
// it, how it is told whether a device has it, and what it needs and replaces. It installs none, and
// knows nothing of where files are kept.
//
// # The file
//
// A package is written as YAML:
//
//	package: Catalogue Screen
//	version: "2.1"
//	systems: [linux]
//	files:
//	  - {name: catalogue.deb, sha256: 9f86…, size: 104857}
//	there: {kind: software, of: catalogue-screen}
//	needs: [Catalogue Fonts]
//	replaces: [Catalogue Terminal]
//	install:
//	  - {do: install, file: catalogue.deb}
//	  - {do: service, name: catalogue-screen, action: restart, on_error: undo}
//	remove:
//	  - {do: uninstall, name: catalogue-screen}
package pack

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"moorwatch.example/core/script"
	"moorwatch.example/core/work"
)

// Limits of a package.
const (
	MaxBytes  = 1 << 20 // of its file
	MaxName   = 80
	MaxFiles  = 50
	MaxFile   = 16 << 30 // bytes of one file
	maxText   = 2000
	maxOthers = 30
)

// Package is a package of the library.
type Package struct {
	Name        string             `yaml:"package" json:"name"`
	Version     string             `yaml:"version" json:"version"`
	Description string             `yaml:"description,omitempty" json:"description,omitempty"`
	Systems     []string           `yaml:"systems,omitempty" json:"systems,omitempty"` // all where none is named
	Parameters  []script.Parameter `yaml:"parameters,omitempty" json:"parameters,omitempty"`
	Files       []File             `yaml:"files,omitempty" json:"files,omitempty"`
	There       There              `yaml:"there" json:"there"`
	Needs       []string           `yaml:"needs,omitempty" json:"needs,omitempty"`       // packages that are installed before
	Replaces    []string           `yaml:"replaces,omitempty" json:"replaces,omitempty"` // packages that are removed before
	Install     []work.Step        `yaml:"install" json:"install"`
	Remove      []work.Step        `yaml:"remove,omitempty" json:"remove,omitempty"`
}

// File is a file that a package brings, by the digest under which the content store keeps it.
type File struct {
	Name   string `yaml:"name" json:"name"`
	SHA256 string `yaml:"sha256" json:"sha256"` // hex
	Size   int64  `yaml:"size" json:"size"`     // bytes
}

// There is how it is told whether a device has a package, and in which version.
type There struct {
	work.Condition `yaml:",inline"`
	// Pattern, of a file, finds the version in its text: the first group of an expression (RE2).
	Pattern string `yaml:"pattern,omitempty" json:"pattern,omitempty"`
}

var (
	digest   = regexp.MustCompile(`^[0-9a-f]{64}$`)
	fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+~-]{0,120}$`)
	version  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9.+~:_-]{0,60}$`)
)

// Digest tells whether a text is a digest as files have them.
func Digest(s string) bool { return digest.MatchString(s) }

// Parse reads a package from its file.
func Parse(file []byte) (p Package, err error) {
	if len(file) > MaxBytes {
		return p, fmt.Errorf("the file has %d bytes, and 1 MiB may be: what is large belongs into the package's files", len(file))
	}
	if err := yaml.NewDecoder(strings.NewReader(strings.TrimPrefix(string(file), "\ufeff")), yaml.Strict()).Decode(&p); err != nil {
		return p, fmt.Errorf("the package cannot be read: %s", yaml.FormatError(err, false, false))
	}
	return p, p.Validate()
}

// File writes a package as its file.
func (p Package) File() ([]byte, error) {
	return yaml.MarshalWithOptions(p, yaml.UseLiteralStyleIfMultiline(true))
}

// Validate refuses a package that cannot be installed, and says what to write.
func (p Package) Validate() error {
	switch {
	case strings.TrimSpace(p.Name) == "" || len(p.Name) > MaxName:
		return fmt.Errorf("give the package a name of 1 to %d characters", MaxName)
	case !version.MatchString(p.Version):
		return fmt.Errorf("the version %q is none: write it as \"2.1\", in quotation marks", p.Version)
	case len(p.Description) > maxText:
		return fmt.Errorf("the description has more than %d characters", maxText)
	case len(p.Files) > MaxFiles:
		return fmt.Errorf("a package has at most %d files", MaxFiles)
	case len(p.Needs) > maxOthers || len(p.Replaces) > maxOthers:
		return fmt.Errorf("a package needs and replaces at most %d others", maxOthers)
	case slices.Contains(p.Needs, p.Name) || slices.Contains(p.Replaces, p.Name):
		return errors.New("a package neither needs nor replaces itself")
	}
	for _, s := range p.Systems {
		if !slices.Contains([]string{"windows", "macos", "linux"}, s) {
			return fmt.Errorf("a system is windows, macos or linux, and not %q", s)
		}
	}
	names := []string{}
	for _, f := range p.Files {
		switch {
		case !fileName.MatchString(f.Name):
			return fmt.Errorf("%q is no name of a file: letters, digits, and . _ + ~ -", f.Name)
		case slices.Contains(names, f.Name):
			return fmt.Errorf("the file %s is there twice", f.Name)
		case !Digest(f.SHA256):
			return fmt.Errorf("the file %s has no SHA-256: 64 hexadecimal digits", f.Name)
		case f.Size < 0 || f.Size > MaxFile:
			return fmt.Errorf("the file %s has a size of 0 to %d bytes", f.Name, int64(MaxFile))
		}
		names = append(names, f.Name)
	}
	if err := p.There.Validate(); err != nil {
		return fmt.Errorf("there: %w", err)
	}
	if p.There.Not {
		return errors.New("there: it says how the package is known to be there, and not that it is not")
	}
	if r, err := regexp.Compile(p.There.Pattern); err != nil ||
		(p.There.Pattern != "" && (p.There.Kind != work.OfFile || r.NumSubexp() != 1)) {
		return errors.New("there: pattern is a regular expression (RE2) with one group, of a file")
	}
	if err := script.Check(p.Parameters); err != nil {
		return err
	}
	if err := work.Validate(p.Install, names); err != nil {
		return fmt.Errorf("install: %w", err)
	}
	if len(p.Remove) > 0 {
		if err := work.Validate(p.Remove, names); err != nil {
			return fmt.Errorf("remove: %w", err)
		}
	}
	return nil
}

// Fits tells whether a package is meant for a system.
func (p Package) Fits(system string) bool {
	return len(p.Systems) == 0 || slices.Contains(p.Systems, system)
}

// Part is one package of a plan, and whether it is removed.
type Part struct {
	Package Package
	Remove  bool
	// Having is what a device must have for the part to be done there; nil for every device.
	Having *There `json:",omitempty"`
}

// Plan tells what is done to install a package, in order: what it replaces is removed, what it needs is
// installed, each with what that needs in turn. find returns a package of the library by its name.
func Plan(p Package, find func(name string) (Package, bool)) ([]Part, error) {
	var out []Part
	state := map[string]int{} // 1 under way, 2 done
	var add func(p Package, trail []string) error
	add = func(p Package, trail []string) error {
		switch state[p.Name] {
		case 1:
			return fmt.Errorf("the packages need each other in a circle: %s", strings.Join(append(trail, p.Name), ", "))
		case 2:
			return nil
		}
		state[p.Name] = 1
		for _, name := range p.Replaces {
			if other, ok := find(name); ok && len(other.Remove) > 0 {
				out = append(out, Part{Package: other, Remove: true})
			} else if ok {
				return fmt.Errorf("%s replaces %s, which does not say how it is removed", p.Name, name)
			} else {
				return fmt.Errorf("%s replaces %s, which the library does not have", p.Name, name)
			}
		}
		for _, name := range p.Needs {
			other, ok := find(name)
			if !ok {
				return fmt.Errorf("%s needs %s, which the library does not have", p.Name, name)
			}
			if err := add(other, append(trail, p.Name)); err != nil {
				return err
			}
		}
		state[p.Name] = 2
		out = append(out, Part{Package: p})
		return nil
	}
	return out, add(p, nil)
}

// Steps are those of a part: of its installation, or of its removal.
func (p Part) Steps() []work.Step {
	if p.Remove {
		return p.Package.Remove
	}
	return p.Package.Install
}
