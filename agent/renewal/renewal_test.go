package renewal

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"moorwatch.example/agent/setup"
	"moorwatch.example/core/release"
	"moorwatch.example/core/work"
)

var key = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, 32))

// shelf is a service that offers one release.
type shelf struct {
	signed  []byte
	program []byte
	cut     int // how many bytes go before it is cut once
}

func (s *shelf) Release(context.Context) ([]byte, error) { return s.signed, nil }
func (s *shelf) Program(_ context.Context, _ string, offset int64, w io.Writer) error {
	b := s.program[offset:]
	if s.cut > 0 && s.cut < len(b) {
		b, s.cut = b[:s.cut], 0
		w.Write(b)
		return errors.New("the link was cut")
	}
	_, err := w.Write(b)
	return err
}

func offer(t *testing.T, version string, program []byte, by ed25519.PrivateKey) *shelf {
	t.Helper()
	sum := sha256.Sum256(program)
	signed, err := release.Sign(release.Manifest{Version: version, Made: time.Now(),
		Programs: []release.Program{{OS: runtime.GOOS, Arch: Arch(), File: "moor-agent_" + version, SHA256: hex.EncodeToString(sum[:]),
			Size: int64(len(program))}}}, by)
	if err != nil {
		t.Fatal(err)
	}
	return &shelf{signed: signed, program: program}
}

func at(t *testing.T, version string, s Service) *Renewal {
	t.Helper()
	place := setup.Place{Program: filepath.Join(t.TempDir(), "moor-agent"), Dir: t.TempDir()}
	if err := os.WriteFile(place.Program, []byte("old"), 0o755); err != nil {
		t.Fatal(err)
	}
	return &Renewal{Service: s, Place: place, Version: version, Keys: []ed25519.PublicKey{key.Public().(ed25519.PublicKey)},
		Log: slog.New(slog.DiscardHandler), Connected: make(chan struct{}), Again: func() {}}
}

// says is a program that tells a version, and whether it reaches the service.
func says(version, reaches string) []byte {
	return []byte("#!/bin/sh\n[ \"$1\" = --version ] && echo moor-agent version " + version + " || " + reaches + "\n")
}

func TestRefused(t *testing.T) {
	other := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{8}, 32))
	good := says("1.1.0", "true")
	spoilt := offer(t, "1.1.0", good, key)
	spoilt.program = append(bytes.Clone(good[:len(good)-1]), 'x')
	long := offer(t, "1.1.0", good, key)
	long.program = append(bytes.Clone(good), "more"...)
	for name, c := range map[string]struct {
		has, asked string
		from       *shelf
		want       string
	}{
		"a downgrade":                   {"1.2.0", "1.1.0", offer(t, "1.1.0", good, key), "downgrade is refused"},
		"another key":                   {"1.0.0", "1.1.0", offer(t, "1.1.0", good, other), "not signed by a key"},
		"another version than offered":  {"1.0.0", "1.3.0", offer(t, "1.1.0", good, key), "offers 1.1.0 by now"},
		"another program than it says":  {"1.0.0", "1.1.0", spoilt, "not what the release says"},
		"more than it says":             {"1.0.0", "1.1.0", long, "more came"},
		"one that says another version": {"1.0.0", "1.1.0", offer(t, "1.1.0", says("9.9.9", "true"), key), "it says that it is"},
		"one that reaches nobody": {"1.0.0", "1.1.0", offer(t, "1.1.0", says("1.1.0", "{ echo no way >&2; exit 1; }"), key),
			"no way"},
	} {
		r := at(t, c.has, c.from)
		r.Again = func() { t.Errorf("%s: it is put in place", name) }
		err := r.Install(t.Context(), []work.Version{{Source: Source, Name: Name, Version: c.asked}}, io.Discard)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, without %q", name, err, c.want)
		}
		if b, _ := os.ReadFile(r.Place.Program); string(b) != "old" {
			t.Errorf("%s: %q stands in its place", name, b)
		}
	}
}

// A program that was fetched after a cut is put in place; the old one is kept, and comes back by itself.
func TestThereAndBack(t *testing.T) {
	s := offer(t, "1.1.0", says("1.1.0", "true"), key)
	s.cut = 10
	r := at(t, "1.0.0", s)
	all, err := r.Missing(t.Context(), false)
	if err != nil || len(all) != 1 || all[0].Source != Source || all[0].From != "1.0.0" || all[0].To != "1.1.0" {
		t.Fatalf("%+v %v", all, err)
	}
	wanted := []work.Version{{Source: Source, Name: Name, Version: "1.1.0"}}
	if err := r.Install(t.Context(), wanted, io.Discard); err == nil {
		t.Error("a cut was not noticed")
	}
	ctx, cancel := context.WithCancel(t.Context())
	r.Again = cancel
	if err := r.Install(ctx, wanted, io.Discard); !errors.Is(err, context.Canceled) {
		t.Fatal(err)
	}
	now := func() string { b, _ := os.ReadFile(r.Place.Program); return string(b) }
	if now() != string(s.program) {
		t.Fatalf("%q stands in its place", now())
	}
	// The new one is started, and connects: it is sure.
	sure, err := Watch(r.Place, "1.1.0", func() { t.Error("it went back though it was connected") })
	if err != nil {
		t.Fatal(err)
	}
	sure.Connected()
	if _, err := load(r.Place.Dir); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("it is not sure: %v", err)
	}
	// One that is started again and again without connecting is taken back.
	if err := (state{From: "1.0.0", To: "1.1.0", Until: time.Now().Add(time.Hour)}).save(r.Place.Dir); err != nil {
		t.Fatal(err)
	}
	for n := range mostStarts {
		if _, err := Watch(r.Place, "1.1.0", func() {}); err != nil {
			t.Fatalf("start %d: %v", n+1, err)
		}
	}
	if _, err := Watch(r.Place, "1.1.0", func() {}); !errors.Is(err, ErrBack) {
		t.Errorf("start %d: %v", mostStarts+1, err)
	}
	if now() != "old" {
		t.Errorf("%q stands in its place", now())
	}
	if _, err := Watch(r.Place, "1.0.0", func() {}); err != nil {
		t.Error(err)
	}
	if err := r.Install(t.Context(), wanted, io.Discard); err == nil || !strings.Contains(err.Error(), "taken back: it was started") {
		t.Errorf("the run is told: %v", err)
	}
}
