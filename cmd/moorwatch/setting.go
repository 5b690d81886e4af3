package main

import (
	"fmt"
	"os"

	"github.com/goccy/go-yaml"
)

// setting finds an option in the configuration file, once the option --config is known.
type setting struct {
	file *string
	name string
}

// Lookup implements cli.ValueSource. A file that cannot be read ends the program, as running with
// other settings than those meant would be worse.
func (s setting) Lookup() (string, bool) {
	if *s.file == "" {
		return "", false
	}
	var all map[string]any
	text, err := os.ReadFile(*s.file)
	if err == nil {
		err = yaml.Unmarshal(text, &all)
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "moorwatch: the configuration file %s cannot be read: %v\n", *s.file, err)
		os.Exit(1)
	}
	value, ok := all[s.name]
	return fmt.Sprint(value), ok
}

func (s setting) String() string   { return fmt.Sprintf("%q in the configuration file", s.name) }
func (s setting) GoString() string { return s.String() }
