package release

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"
)

func made(version string) Manifest {
	return Manifest{Version: version, Made: time.Date(2026, 11, 27, 1, 0, 0, 0, time.UTC),
		Programs: []Program{{OS: "linux", Arch: "amd64", File: "moor-agent_" + version + "_linux_amd64", SHA256: strings.Repeat("ab", 32),
			Size: 9}}}
}

func key(n byte) ed25519.PrivateKey { return ed25519.NewKeyFromSeed(bytes.Repeat([]byte{n}, 32)) }

func public(k ed25519.PrivateKey) ed25519.PublicKey { return k.Public().(ed25519.PublicKey) }

func TestSignatures(t *testing.T) {
	signed, err := Sign(made("1.2.0"), key(1))
	if err != nil {
		t.Fatal(err)
	}
	keys := Keys(KeyText(public(key(2))) + ", " + KeyText(public(key(1))) + ",nothing")
	if len(keys) != 2 {
		t.Fatalf("%d keys are read", len(keys))
	}
	m, err := Open(signed, keys)
	if err != nil || m.Version != "1.2.0" {
		t.Fatalf("%+v %v", m, err)
	}
	if p, ok := m.For("linux", "amd64"); !ok || p.Size != 9 {
		t.Errorf("%+v %v", p, ok)
	}
	if _, ok := m.For("linux", "arm64"); ok {
		t.Error("there is a program for a system that has none")
	}
	if _, err := Open(signed, keys[:1]); !errors.Is(err, ErrSignature) {
		t.Errorf("with another key: %v", err)
	}
	if _, err := Open(signed, nil); !errors.Is(err, ErrSignature) {
		t.Errorf("without a key: %v", err)
	}
	for i := range signed { // whichever byte is changed, it is a release no more
		changed := bytes.Clone(signed)
		changed[i] ^= 1
		if m, err := Open(changed, keys); err == nil && !strings.Contains(string(signed[i:i+1]), "\"") {
			t.Fatalf("byte %d may be changed: %+v", i, m)
		}
	}
}

func TestUnsound(t *testing.T) {
	for name, spoil := range map[string]func(m *Manifest){
		"no version":     func(m *Manifest) { m.Version = "latest" },
		"no programs":    func(m *Manifest) { m.Programs = nil },
		"a path":         func(m *Manifest) { m.Programs[0].File = "../agent" },
		"no digest":      func(m *Manifest) { m.Programs[0].SHA256 = "ab" },
		"too large":      func(m *Manifest) { m.Programs[0].Size = MaxProgram + 1 },
		"no system":      func(m *Manifest) { m.Programs[0].OS = "" },
		"the same twice": func(m *Manifest) { m.Packages = m.Programs },
	} {
		m := made("1.2.0")
		spoil(&m)
		if _, err := Sign(m, key(1)); err == nil {
			t.Errorf("%s is signed", name)
		}
	}
}

func TestNewer(t *testing.T) {
	order := []string{"", "0.9.0", "1.0.0-rc.1", "1.0.0", "1.0.1", "1.10.0", "2.0.0"}
	for i, a := range order {
		for j, b := range order {
			if want := i > j && a != ""; Newer(a, b) != want {
				t.Errorf("%q newer than %q: not %v", a, b, want)
			}
		}
	}
}

func FuzzOpen(f *testing.F) {
	signed, _ := Sign(made("1.2.0"), key(1))
	f.Add(signed)
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := Open(b, []ed25519.PublicKey{public(key(1))}); err == nil && m.validate() != nil {
			t.Errorf("%+v", m)
		}
	})
}

// Releases are listed with the latest first, also those whose versions are none.
func TestCompare(t *testing.T) {
	all := []Manifest{{Version: "1.9.0"}, {Version: "odd"}, {Version: "1.10.0"}, {Version: "1.10.0-rc.1"}, {Version: "another"}}
	slices.SortStableFunc(all, Compare)
	var got []string
	for _, m := range all {
		got = append(got, m.Version)
	}
	if i := slices.Index(got, "1.10.0"); i > slices.Index(got, "1.10.0-rc.1") || i > slices.Index(got, "1.9.0") ||
		Compare(all[0], all[0]) != 0 {
		t.Errorf("%q", got)
	}
}

// What a program carries is found behind it, and what is damaged is told of.
func TestCarried(t *testing.T) {
	program := []byte("a program")
	for _, enrolment := range [][]byte{[]byte("e"), bytes.Repeat([]byte("x"), MaxCarried)} {
		more, err := Carry(enrolment)
		if err != nil {
			t.Fatal(err)
		}
		file := append(bytes.Clone(program), more...)
		got, size, err := Carried(bytes.NewReader(file), int64(len(file)))
		if err != nil || !bytes.Equal(got, enrolment) || size != int64(len(program)) {
			t.Errorf("%d bytes, %d of a program, %v", len(got), size, err)
		}
		damaged := bytes.Clone(file)
		damaged[len(damaged)-len(carriedMark)-3] = 0xff
		if _, _, err := Carried(bytes.NewReader(damaged), int64(len(damaged))); err == nil {
			t.Error("a damaged length was taken")
		}
	}
	for _, none := range [][]byte{nil, program, bytes.Repeat([]byte("y"), 100)} {
		if got, size, err := Carried(bytes.NewReader(none), int64(len(none))); got != nil || size != int64(len(none)) || err != nil {
			t.Errorf("%q carries %q, %v", none, got, err)
		}
	}
	if _, _, err := Carried(bytes.NewReader(program), 1000); err == nil {
		t.Error("a program that is shorter than it should be was read")
	}
	for _, odd := range [][]byte{nil, make([]byte, MaxCarried+1)} {
		if _, err := Carry(odd); err == nil {
			t.Errorf("%d bytes are carried", len(odd))
		}
	}
}
