package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// sums are the digests of a folder's files.
func sumsOf(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(text)
		all[e.Name()] = hex.EncodeToString(sum[:])
	}
	return all
}

// TestTheSameTwice makes a release twice, from copies of the sources in two places, and compares every byte; then it
// changes what was made in every way that somebody between us and a customer could.
func TestTheSameTwice(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds the programs twice")
	}
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(root, "web/dist/index.html")); err != nil {
		t.Skip("the console is not built")
	}
	t.Setenv("SOURCE_DATE_EPOCH", "1790000000")
	key := filepath.Join(t.TempDir(), "key")
	var made []string
	for _, place := range []string{"here", "elsewhere/in/another/folder"} {
		at := filepath.Join(t.TempDir(), place)
		copyTree(t, root, at)
		t.Chdir(at)
		out := filepath.Join(t.TempDir(), "dist")
		if err := run("1.2.3", out, key, "linux/amd64", true, ""); err != nil {
			t.Fatal(err)
		}
		made = append(made, filepath.Join(out, "1.2.3"))
	}
	first, second := sumsOf(t, made[0]), sumsOf(t, made[1])
	if !maps.Equal(first, second) {
		for name := range first {
			if first[name] != second[name] {
				t.Errorf("%s differs from build to build", name)
			}
		}
	}
	for _, name := range []string{"moor-agent_1.2.3_linux_amd64", "moorwatch_1.2.3_linux_amd64.tar.gz", "moor-agent_1.2.3.cdx.json",
		"moorwatch_1.2.3.cdx.json", licencesFile, provenanceFile, manifestFile} {
		if first[name] == "" {
			t.Errorf("there is no %s", name)
		}
	}
	bill(t, filepath.Join(made[0], "moorwatch_1.2.3.cdx.json"))

	public, err := os.ReadFile(filepath.Join(filepath.Dir(made[0]), "release.pub"))
	if err != nil {
		t.Fatal(err)
	}
	if err := verify(made[0], string(public)); err != nil {
		t.Fatalf("what was just made: %v", err)
	}
	if err := verify(made[0], "nobody's key"); err == nil {
		t.Error("it is verified without a key")
	}
	program := filepath.Join(made[0], "moor-agent_1.2.3_linux_amd64")
	for name, harm := range map[string]func(dir string){
		"a program changed": func(dir string) {
			flip(t, filepath.Join(dir, filepath.Base(program)))
		},
		"the provenance changed":     func(dir string) { flip(t, filepath.Join(dir, provenanceFile)) },
		"the checksums changed":      func(dir string) { flip(t, filepath.Join(dir, sumsFile)) },
		"a file is missing":          func(dir string) { os.Remove(filepath.Join(dir, licencesFile)) },
		"a file that nobody signed":  func(dir string) { os.WriteFile(filepath.Join(dir, "more"), []byte("x"), 0o644) },
		"a signature of another key": func(dir string) { os.WriteFile(filepath.Join(dir, signatureFile), []byte("bm8="), 0o644) },
	} {
		dir := t.TempDir()
		if err := os.CopyFS(filepath.Join(dir, "r"), os.DirFS(made[0])); err != nil {
			t.Fatal(err)
		}
		harm(filepath.Join(dir, "r"))
		if err := verify(filepath.Join(dir, "r"), string(public)); err == nil {
			t.Errorf("%s: nobody notices", name)
		}
	}
}

// bill holds a list of parts against what it must name.
func bill(t *testing.T, path string) {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var list struct {
		BomFormat  string
		Components []part
	}
	if err := json.Unmarshal(text, &list); err != nil || list.BomFormat != "CycloneDX" {
		t.Fatalf("%v: %.100s", err, text)
	}
	named := map[string]string{}
	for _, p := range list.Components {
		if len(p.Licences) != 1 || p.PURL == "" || p.Version == "" {
			t.Errorf("%+v", p)
			continue
		}
		named[p.Name] = p.Licences[0].Licence.ID
	}
	for name, want := range map[string]string{"github.com/jackc/pgx/v5": "MIT", "Go standard library": "BSD-3-Clause", "react": "MIT",
		"github.com/gin-gonic/gin": "MIT"} {
		if named[name] != want {
			t.Errorf("%s has the licence %q, want %q", name, named[name], want)
		}
	}
}

func flip(t *testing.T, path string) {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	text[len(text)/2] ^= 1
	if err := os.WriteFile(path, text, 0o644); err != nil {
		t.Fatal(err)
	}
}

// copyTree copies the sources, and what is built of the console.
func copyTree(t *testing.T, from, to string) {
	t.Helper()
	out, err := exec.Command("git", "-C", from, "ls-files", "-co", "--exclude-standard").Output()
	names := strings.Fields(string(out))
	if err != nil { // not a clone
		t.Skipf("which files are sources is not known: %v", err)
	}
	err = filepath.WalkDir(filepath.Join(from, "web/dist"), func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			name, _ := filepath.Rel(from, path)
			names = append(names, name)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		text, err := os.ReadFile(filepath.Join(from, name))
		if os.IsNotExist(err) { // removed, and not committed
			continue
		}
		path := filepath.Join(to, name)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(path), 0o755)
		}
		if err == nil {
			err = os.WriteFile(path, text, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(filepath.Join(from, "web/node_modules"), filepath.Join(to, "web/node_modules")); err != nil {
		t.Fatal(err)
	}
}

func TestLicences(t *testing.T) {
	for text, want := range map[string]string{
		"Apache License\n   Version 2.0, January 2004":                                     "Apache-2.0",
		"Permission is hereby granted, free of charge,\nto any person obtaining a copy of": "MIT",
		"Redistribution and use in source and binary forms, with or without":               "BSD-2-Clause",
		"Redistribution and use in source and binary forms ... Neither the name of":        "BSD-3-Clause",
		"Mozilla Public License Version 2.0":                                               "MPL-2.0",
		"GNU GENERAL PUBLIC LICENSE":                                                       "",
		"":                                                                                 "",
	} {
		if got := licenceOf(text); got != want {
			t.Errorf("%q is taken for %q", text, got)
		}
	}
	p := part{Name: "x", Version: "1"}
	if err := p.licensed("AGPL-3.0", ""); err == nil || !strings.Contains(err.Error(), "AGPL-3.0") {
		t.Errorf("a licence that we do not take: %v", err)
	}
	if !slices.IsSorted([]string{escaped("github.com/AlecAivazis"), "github.com/!zz"}) ||
		escaped("github.com/AlecAivazis") != "github.com/!alec!aivazis" {
		t.Errorf("%s", escaped("github.com/AlecAivazis"))
	}
}

// TestServiceUnit has systemd judge how much the service's unit leaves open.
func TestServiceUnit(t *testing.T) {
	unit, err := os.ReadFile("../../cmd/moorwatch/moorwatch.service")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"DynamicUser=yes", "NoNewPrivileges=yes", "CapabilityBoundingSet=\n", "ProtectSystem=strict"} {
		if !bytes.Contains(unit, []byte(want)) {
			t.Errorf("the unit lacks %q", want)
		}
	}
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("systemd is missing")
	}
	path := filepath.Join(t.TempDir(), "moorwatch.service")
	program, err := os.Executable() // its own is not installed here
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, bytes.ReplaceAll(unit, []byte("/usr/local/bin/moorwatch"), []byte(program)), 0o644); err != nil {
		t.Fatal(err)
	}
	if said, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=15", path).CombinedOutput(); err != nil {
		t.Errorf("it leaves more open than 1.5 of 10: %v\n%s", err, said)
	}
	if said, err := exec.Command("systemd-analyze", "verify", path).CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, said)
	}
}
