package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A misspelt name in the configuration is refused with the nearest, and not passed over.
func TestSettings(t *testing.T) {
	command() // makes the options
	for _, c := range []struct{ text, want, listen string }{
		{"listen: 127.0.0.1:9000\nlog: debug\n", "", "127.0.0.1:9000"},
		{"", "", "<nil>"},
		{"lisetn: 127.0.0.1:9000\n", `there is no setting "lisetn": did you mean "listen"?`, ""},
		{"colour: red\n", `there is no setting "colour": moorwatch serve --help lists them`, ""},
		{"listen: [\n", "[1:9]", ""},
	} {
		file := filepath.Join(t.TempDir(), "moorwatch.yaml")
		if err := os.WriteFile(file, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		all, err := readSettings(file)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v, want %s", c.text, err, c.want)
		}
		if err == nil {
			if got, ok := settingOf(&file, "listen").Lookup(); ok != (c.listen != "<nil>") || got != c.listen {
				t.Errorf("%q: listen is %s in %v", c.text, got, all)
			}
		}
	}
	if _, err := readSettings(filepath.Join(t.TempDir(), "none")); err == nil {
		t.Error("a file that is not there is read")
	}
}
