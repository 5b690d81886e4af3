package settings

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

const sample = "# the records\n[copy]\ninterval = 60\nto = sal-one\nto = sal-two\n\n[log]\n; quiet\nlevel = warn  \n"

func TestDocuments(t *testing.T) {
	d, err := Parse("a.conf", []byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Parse("notes.txt", []byte("Port 22\n")); err == nil {
		t.Error("prose is taken for settings")
	}
	if got := d.Sections(); !slices.Equal(got, []string{"copy", "log"}) {
		t.Errorf("sections %q", got)
	}
	if got := d.Get("copy", "to"); !slices.Equal(got, []string{"sal-one", "sal-two"}) {
		t.Errorf("to is %q", got)
	}
	for _, c := range []struct {
		section, key string
		values       []string
		want         string
	}{
		{"copy", "interval", []string{"300"}, strings.Replace(sample, "interval = 60", "interval = 300", 1)},
		{"log", "level", []string{"info"}, strings.Replace(sample, "level = warn", "level = info", 1)},
		{"copy", "to", []string{"a", "b", "c"}, strings.Replace(sample, "to = sal-one\nto = sal-two\n", "to = a\nto = b\nto = c\n", 1)},
		{"copy", "to", nil, strings.Replace(sample, "to = sal-one\nto = sal-two\n", "", 1)},
		{"copy", "retry", []string{"3"}, strings.Replace(sample, "sal-two\n", "sal-two\nretry = 3\n", 1)},
		{"new", "a", []string{"1"}, sample + "[new]\na = 1\n"},
	} {
		d, _ := Parse("a.conf", []byte(sample))
		if err := d.Set(c.section, c.key, c.values...); err != nil || string(d.Bytes()) != c.want {
			t.Errorf("%s.%s = %q gives\n%s%v", c.section, c.key, c.values, d.Bytes(), err)
		}
	}
}

func TestStyles(t *testing.T) {
	for text, want := range map[string]string{
		"PermitRootLogin no\nPort 22\n":          "22",
		"Port=22":                                "22",
		"Port: 22\r\n":                           "22",
		"\tPort\t22\n":                           "22",
		"#!/bin/sh\nPort=22\n":                   "",
		"if true\nPort 22\n":                     "",
		"<xml>\n":                                "",
		"Port = 22\nthis is prose, not a line\n": "",
		"\x00Port=22":                            "",
		"# only words\n":                         "",
	} {
		d, err := Parse("a.conf", []byte(text))
		if (err == nil) != (want != "") {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if err != nil {
			continue
		}
		if got := d.Get("", "Port"); len(got) != 1 || got[0] != want {
			t.Errorf("%q has %q", text, got)
		}
		if err := d.Set("", "Port", "2222"); err != nil || string(d.Bytes()) != strings.Replace(text, "22", "2222", 1) {
			t.Errorf("%q becomes %q, %v", text, d.Bytes(), err)
		}
		for _, bad := range []string{"a\nb", " b", "b ", "\r"} {
			if before := string(d.Bytes()); d.Set("", "Port", bad) == nil || string(d.Bytes()) != before {
				t.Errorf("%q takes %q and becomes %q", text, bad, d.Bytes())
			}
		}
		if d.Set("", "#a", "1") == nil || d.Set("a]\n[b", "c", "1") == nil {
			t.Errorf("%q takes a key or section that is none", text)
		}
	}
}

// What is set is read back, and nothing else changes.
func FuzzSet(f *testing.F) {
	for _, seed := range []string{sample, "Port 22\n", "a=1", "a: b\r\n[c]\r\n"} {
		f.Add(seed, "copy", "interval", "5")
	}
	f.Fuzz(func(t *testing.T, text, section, key, value string) {
		d, err := Parse("a.conf", []byte(text))
		if err != nil {
			return
		}
		if string(d.Bytes()) != text {
			t.Fatalf("%q is written as %q", text, d.Bytes())
		}
		before := d.Sections()
		if d.Set(section, key, value) != nil {
			if string(d.Bytes()) != text {
				t.Fatalf("a refused value changed %q to %q", text, d.Bytes())
			}
			return
		}
		again, n := parse(string(d.Bytes()), d.style)
		if n == 0 || !slices.Equal(again.Get(section, key), []string{value}) {
			t.Fatalf("%q.%q = %q is read from %q as %q", section, key, value, d.Bytes(), again.Get(section, key))
		}
		old, _ := Parse("a.conf", []byte(text))
		for _, s := range before[:min(len(before), 20)] {
			others := func(d *Document) []Entry {
				return slices.DeleteFunc(d.Entries(s), func(e Entry) bool { return s == section && e.Key == key })
			}
			if was, is := others(old), others(again); fmt.Sprintf("%q", was) != fmt.Sprintf("%q", is) {
				t.Fatalf("the section %q changed from %q to %q", s, was, is)
			}
		}
	})
}
