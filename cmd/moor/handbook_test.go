package main

import (
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// block is a block of commands in a page of the handbook, and word a word of a command line, in quotes or not.
var (
	block = regexp.MustCompile("(?s)```sh\n(.*?)```")
	word  = regexp.MustCompile(`'([^']*)'|"([^"]*)"|(\S+)`)
)

// Every command of the handbook is one that moor has, with the options that it has.
func TestHandbook(t *testing.T) {
	s := newSampler(t)
	service := httptest.NewServer(s)
	defer service.Close()
	t.Setenv("MOOR_URL", service.URL)
	t.Setenv("MOOR_TOKEN", "mw-token")
	pages, err := filepath.Glob("../../docs/handbook/*.md")
	for i := range pages {
		pages[i], _ = filepath.Abs(pages[i])
	}
	t.Chdir(t.TempDir()) // some write files
	if err != nil || len(pages) < 12 {
		t.Fatal(pages, err)
	}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, b := range block.FindAllStringSubmatch(string(text), -1) {
			for line := range strings.Lines(b[1]) {
				var args []string
				for _, m := range word.FindAllStringSubmatch(strings.TrimSpace(line), -1) {
					args = append(args, m[1]+m[2]+m[3])
				}
				if len(args) == 0 || args[0] != "moor" {
					t.Errorf("%s: %q is no command of moor", page, line)
					continue
				}
				root := command()
				if err := misspelt(root, args[1:]); err != nil {
					t.Errorf("%s: %v", filepath.Base(page), err)
				}
				if args[1] == "screen" { // the stand-in for the service has no pictures
					args = append(args[:3], "--help")
				}
				s.asked = nil
				// The stand-in has none of the demo's names: what matters is that the service was asked.
				if _, err := printed(t, root, args[1:]...); err != nil && len(s.asked) == 0 {
					t.Errorf("%s: %s: %v", filepath.Base(page), strings.TrimSpace(line), err)
				}
			}
		}
	}
}
