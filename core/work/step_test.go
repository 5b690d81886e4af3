package work

import (
	"slices"
	"strings"
	"testing"
)

// Each kind of step has a heading, a time limit, and a rule whether it may be done again.
func TestSteps(t *testing.T) {
	for _, kind := range Kinds {
		s := Step{Do: kind, Argv: []string{"true", "1"}, File: "a.deb", To: "/etc/a", Name: "cron", Path: "/etc/a", Action: "restart"}
		if h := s.Heading(); h == kind && kind != Wait || h == "" {
			t.Errorf("%s is called %q", kind, h)
		}
		if got := (Step{Do: kind, Title: "Tidy up"}).Heading(); got != "Tidy up" {
			t.Errorf("%s with a title is called %q", kind, got)
		}
		if s.Limit() != usualSeconds || (Step{Do: kind, Seconds: 7}).Limit() != 7 {
			t.Errorf("%s: %d s", kind, s.Limit())
		}
		again := !slices.Contains([]string{Run, Script, Install, Uninstall}, kind)
		if s.Again() != again || !(Step{Do: kind, Repeatable: true}).Again() {
			t.Errorf("%s may be done again: %v", kind, s.Again())
		}
	}
	for _, s := range []Step{{Do: Service}, {Do: "unknown"}, {}} { // as an older agent may have kept them
		s.Heading()
	}
	if !(Step{}).Well(0) || (Step{}).Well(1) || !(Step{Exits: []int{0, 3010}}).Well(3010) || (Step{Exits: []int{3010}}).Well(0) {
		t.Error("an exit status is well, or not")
	}
}

func TestConditions(t *testing.T) {
	for want, c := range map[string]Condition{
		"heathssl is installed":                             {Kind: OfSoftware, Of: "heathssl"},
		"heathssl is not installed in version 1.2 or later": {Kind: OfSoftware, Of: "heathssl", Is: "1.2", Not: true},
		"service cron is running":                           {Kind: OfService, Of: "cron"},
		"service cron is not stopped":                       {Kind: OfService, Of: "cron", Is: "stopped", Not: true},
		"kernel/vm/swappiness is 10":                        {Kind: OfSetting, Of: "kernel/vm/swappiness", Is: "10"},
		"the system is not windows":                         {Kind: OfSystem, Is: "windows", Not: true},
		"/srv has 500 MiB free":                             {Kind: OfSpace, Of: "/srv", Is: "500"},
		"/srv no longer has 500 MiB free":                   {Kind: OfSpace, Of: "/srv", Is: "500", Not: true},
		"somebody is signed in":                             {Kind: OfSignedIn},
		"somebody is not signed in":                         {Kind: OfSignedIn, Not: true},
	} {
		if err := c.Validate(); err != nil {
			t.Errorf("%+v: %v", c, err)
		}
		if got := c.String(); got != want {
			t.Errorf("%q, and not %q", got, want)
		}
	}
	for _, c := range []Condition{{Kind: OfRestart}, {Kind: OfFile, Of: "/etc/a"}, {Kind: OfFile, Of: "/etc/a", Not: true},
		{Kind: OfSetting, Of: "a"}} {
		no := c
		no.Not = !c.Not
		if c.Validate() != nil || c.String() == "" || c.String() == no.String() {
			t.Errorf("%+v says %q, and the opposite %q", c, c.String(), no.String())
		}
	}
	for want, c := range map[string]Condition{
		"of kind file, ":          {Kind: "feeling"},
		"does not say of what":    {Kind: OfFile},
		"texts are too long":      {Kind: OfFile, Of: strings.Repeat("x", maxText+1)},
		"a system is windows":     {Kind: OfSystem, Is: "beos"},
		"space is a number of Mi": {Kind: OfSpace, Of: "/", Is: "1 GB"},
	} {
		if err := c.Validate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", c, err)
		}
	}
}

// What could not be undone is told beside what went wrong first.
func TestUndid(t *testing.T) {
	p := Progress{Ends: []State{Done, Failed}, Why: "it broke", At: 0, Undoing: true}
	p.Undid(0, "the disk is full")
	if p.Ends[0] != Failed || p.Why != "it broke; and undoing: the disk is full" || p.At != -1 {
		t.Errorf("%+v", p)
	}
	p = Progress{Ends: []State{Done}}
	if p.Undid(0, ""); p.Ends[0] != Undone || p.Why != "" {
		t.Errorf("%+v", p)
	}
}
