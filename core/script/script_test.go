package script

import (
	"reflect"
	"strings"
	"testing"
)

const sample = `#!/bin/sh
# --- moorwatch
# name: Free space
# description: |
#   How much is left,
#   and where.
# interpreter: sh
# systems: [linux]
# parameters:
#   - {name: FOLDER, title: Folder, kind: text, default: /}
#   - {name: DEPTH, kind: number, default: "1"}
#   - {name: TOKEN, kind: secret, required: true}
# seconds: 30
# repeatable: true
# ---
df -h "$FOLDER"
`

// TestFile reads a file, writes it, and reads the same again.
func TestFile(t *testing.T) {
	s, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	if s.Name != "Free space" || s.Description != "How much is left,\nand where.\n" || len(s.Parameters) != 3 || !s.Repeatable ||
		s.Body != "#!/bin/sh\ndf -h \"$FOLDER\"\n" {
		t.Fatalf("%+v", s)
	}
	file, err := s.File()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse(file)
	if err != nil || !reflect.DeepEqual(s, again) {
		t.Fatalf("%v\n%s\n%+v", err, file, again)
	}
	crlf, err := Parse([]byte("\ufeff" + strings.ReplaceAll(sample, "\n", "\r\n")))
	if err != nil || !reflect.DeepEqual(s.Body, crlf.Body) {
		t.Errorf("with carriage returns and a byte order mark: %v, %q", err, crlf.Body)
	}
	batch := Script{Name: "x", Interpreter: "batch", Body: Clean("batch", "echo a\necho b\r\n")}
	if batch.Body != "echo a\r\necho b\r\n" {
		t.Errorf("%q", batch.Body)
	}
	if file, err := batch.File(); err != nil || !strings.HasPrefix(string(file), "rem --- moorwatch\nrem name: x\n") {
		t.Errorf("%q, %v", file, err)
	}
}

// TestRefused refuses files and scripts that cannot be, each with what to do.
func TestRefused(t *testing.T) {
	for name, one := range map[string]struct{ file, words string }{
		"no header":      {"echo hello\n", "no header"},
		"no end":         {"# --- moorwatch\n# name: x\n", "no header"},
		"a line without": {"# --- moorwatch\nname: x\n# ---\nls\n", "line 2"},
		"no YAML":        {"# --- moorwatch\n# name: [\n# ---\nls\n", "cannot be read"},
		"unknown field":  {"# --- moorwatch\n# name: x\n# interpreter: sh\n# root: yes\n# ---\nls\n", "cannot be read"},
		"NUL":            {"# --- moorwatch\n# name: x\x00\n# ---\nls\n", "UTF-8"},
		"UTF-16":         {"\xff\xfe#\x00", "UTF-8"},
		"large":          {strings.Repeat("# x\n", 1<<19), "1 MiB"},
		"no lines":       {"# --- moorwatch\n# name: x\n# interpreter: sh\n# ---\n\n", "no lines"},
		"no name":        {"# --- moorwatch\n# interpreter: sh\n# ---\nls\n", "name of"},
		"other system":   {"# --- moorwatch\n# name: x\n# interpreter: sh\n# systems: [windows]\n# ---\nls\n", "windows has no sh"},
		"no interpreter": {"# --- moorwatch\n# name: x\n# interpreter: perl\n# ---\nls\n", "no interpreter"},
		"lower parameter": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: a, kind: text}]\n# ---\nls\n",
			"environment variable"},
		"reserved": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: PATH, kind: text}]\n# ---\nls\n",
			"programs need"},
		"kind": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: A, kind: date}]\n# ---\nls\n",
			"of kind"},
		"secret default": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: A, kind: secret, default: b}]\n# " +
			"---\nls\n", "secret"},
		"twice": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: A, kind: text}, {name: A, kind: " +
			"text}]\n# ---\nls\n", "twice"},
		"choice of one": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: A, kind: choice, of: [b]}]\n# ---\nls\n",
			"choice"},
		"default not of": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# parameters: [{name: A, kind: choice, of: [b, c], " +
			"default: d}]\n# ---\nls\n", "one of"},
		"too long to wait": {"# --- moorwatch\n# name: x\n# interpreter: sh\n# seconds: 90000\n# ---\nls\n", "time limit"},
	} {
		if _, err := Parse([]byte(one.file)); err == nil || !strings.Contains(err.Error(), one.words) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestValues parts what is open from secrets, and refuses what does not fit.
func TestValues(t *testing.T) {
	s, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	open, secret, err := Values(s.Parameters, map[string]string{"TOKEN": "t", "DEPTH": "2"})
	if err != nil || !reflect.DeepEqual(open, map[string]string{"FOLDER": "/", "DEPTH": "2"}) ||
		!reflect.DeepEqual(secret, map[string]string{"TOKEN": "t"}) {
		t.Errorf("%v, %v, %v", open, secret, err)
	}
	for words, given := range map[string]map[string]string{
		"must be given": {},
		"is a number":   {"TOKEN": "t", "DEPTH": "deep"},
		"asks for no":   {"TOKEN": "t", "OTHER": "x"},
		"no text":       {"TOKEN": "a\x00b"},
	} {
		if _, _, err := Values(s.Parameters, given); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%v: %v", given, err)
		}
	}
	if !s.Runs("linux") || s.Runs("macos") || s.Runs("windows") {
		t.Error("it runs where it is not meant to")
	}
}

// FuzzParse reads any file; what it takes can be written and read again.
func FuzzParse(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("rem --- moorwatch\r\nrem name: x\r\nrem interpreter: batch\r\nrem ---\r\necho a\r\n"))
	f.Fuzz(func(t *testing.T, file []byte) {
		s, err := Parse(file)
		if err != nil {
			return
		}
		out, err := s.File()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Parse(out)
		if err != nil || again.Body != s.Body || again.Name != s.Name {
			t.Fatalf("%v\n%q", err, out)
		}
	})
}
