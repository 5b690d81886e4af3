//go:build linux

package setup

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

func TestReplace(t *testing.T) {
	place := filepath.Join(t.TempDir(), "moor-agent")
	write := func(path, text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	read := func(path string) string { b, _ := os.ReadFile(path); return string(b) }
	write(place+".new", "one")
	if err := Replace(place+".new", place); err != nil || read(place) != "one" {
		t.Fatalf("into an empty place: %v, %q", err, read(place))
	}
	write(place+".new", "two")
	if err := Replace(place+".new", place); err != nil || read(place) != "two" || read(Previous(place)) != "one" {
		t.Errorf("%v: %q, before it %q", err, read(place), read(Previous(place)))
	}
	if err := Replace(place+".none", place); err == nil || read(place) != "two" {
		t.Errorf("what is not there took its place: %v, %q", err, read(place))
	}
}

func TestTable(t *testing.T) {
	p := Place{Program: "/opt/moor-agent/moor-agent"}
	const others = "::sysinit:/etc/rc\ntty1::respawn:/sbin/getty\n# /opt/moor-agent run\n"
	for _, busybox := range []bool{false, true} {
		table := []byte(others + tableLine(busybox, p))
		if got := string(withoutLine(table)); got != others {
			t.Errorf("without the agent's line: %q", got)
		}
	}
}

func TestChoices(t *testing.T) {
	dir := t.TempDir()
	if c, err := Chosen(dir); err != nil || c.Proxy != "" || c.Without != nil {
		t.Errorf("nothing was chosen: %+v %v", c, err)
	}
	want := Choices{Proxy: "http://proxy:3128", Without: []string{"screen"}}
	if err := want.save(dir); err != nil {
		t.Fatal(err)
	}
	if c, err := Chosen(dir); err != nil || c.Proxy != want.Proxy || !slices.Equal(c.Without, want.Without) {
		t.Errorf("%+v %v", c, err)
	}
	if err := (Choices{Without: []string{"vitals"}}).Validate(); err == nil {
		t.Error("an agent may be without vitals")
	}
}

func TestAwaitConnected(t *testing.T) {
	dir, began := t.TempDir(), time.Now()
	if err := (Life{Version: "1.0.0", Started: began, Connected: began.Add(-time.Hour)}).Tell(dir); err != nil {
		t.Fatal(err)
	}
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := AwaitConnected(short, dir, began); err == nil {
		t.Error("an agent before this one counts")
	}
	if err := (Life{Version: "1.0.0", Started: began, Connected: began.Add(time.Second)}).Tell(dir); err != nil {
		t.Fatal(err)
	}
	if err := AwaitConnected(t.Context(), dir, began); err != nil {
		t.Error(err)
	}
}
