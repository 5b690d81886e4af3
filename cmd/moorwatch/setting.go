package main

import (
	"fmt"
	"maps"
	"os"
	"slices"

	"github.com/goccy/go-yaml"

	"moorwatch.example/core/nearest"
)

// setting finds an option in the configuration file, once the option --config is known.
type setting struct {
	file *string
	name string
}

// settings are the names that the file may hold, by which the options are made.
var settings []string

// settingOf is an option's place in the configuration file.
func settingOf(file *string, name string) setting {
	if !slices.Contains(settings, name) {
		settings = append(settings, name)
	}
	return setting{file, name}
}

// Lookup implements cli.ValueSource. A file that cannot be read ends the program, as running with
// other settings than those meant would be worse.
func (s setting) Lookup() (string, bool) {
	if *s.file == "" {
		return "", false
	}
	all, err := readSettings(*s.file)
	if err != nil {
		fmt.Fprintf(os.Stderr, "moorwatch: the configuration file %s cannot be read: %v\n", *s.file, err)
		os.Exit(1)
	}
	value, ok := all[s.name]
	return fmt.Sprint(value), ok
}

// readSettings reads a configuration file. A name that no option has is refused: it would be passed over.
func readSettings(file string) (all map[string]any, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if err := yaml.Unmarshal(text, &all); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if slices.Contains(settings, name) {
			continue
		}
		if near := nearest.Of(name, settings); near != "" {
			return nil, fmt.Errorf("there is no setting %q: did you mean %q?", name, near)
		}
		return nil, fmt.Errorf("there is no setting %q: moorwatch serve --help lists them", name)
	}
	return all, nil
}

func (s setting) String() string   { return fmt.Sprintf("%q in the configuration file", s.name) }
func (s setting) GoString() string { return s.String() }
