package main

import (
	"strings"
	"testing"
)

// Words and options that are misspelt are answered with the nearest, whatever follows them.
func TestMisspelt(t *testing.T) {
	for _, c := range []struct{ line, want string }{
		{"devices list --json", ""},
		{"devcies list --json", `there is no command "moor devcies": did you mean "moor devices"?`},
		{"groups lst", `there is no command "moor groups lst": did you mean "moor groups list"?`},
		{"xyzzy", `there is no command "moor xyzzy": moor help lists them`},
		{"groups xyzzy", `there is no command "moor groups xyzzy": moor groups help lists them`},
		{"device sal-xray", ""},
		{"help devices", ""},
		{"--version", ""},
		{"completion bash", ""},
		{"", ""},
	} {
		got := ""
		if err := misspelt(command(), strings.Fields(c.line)); err != nil {
			got = err.Error()
		}
		if got != c.want {
			t.Errorf("moor %s: %q, want %q", c.line, got, c.want)
		}
	}
	for _, c := range []struct{ line, want string }{
		{"moor devices --limt 3", "moor devices has no option --limt: did you mean --limit?"},
		{"moor devices --colour red", "moor devices has no option --colour: moor devices --help lists them"},
		{"moor groups set X --glbal", "moor groups set has no option --glbal: did you mean --global?"},
	} {
		if err := command().Run(t.Context(), strings.Fields(c.line)); err == nil || err.Error() != c.want {
			t.Errorf("%s: %v, want %s", c.line, err, c.want)
		}
	}
}
