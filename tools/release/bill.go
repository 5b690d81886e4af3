package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
)

// part is a component of a program, as CycloneDX 1.6 (ECMA-424) writes it.
type part struct {
	Type     string          `json:"type"`
	Ref      string          `json:"bom-ref"`
	Name     string          `json:"name"`
	Version  string          `json:"version"`
	PURL     string          `json:"purl,omitempty"`
	Licences []licenceChoice `json:"licenses,omitempty"`

	text string // of its licence
}

type licenceChoice struct {
	Licence struct {
		ID string `json:"id"`
	} `json:"license"`
}

// taken are the licences that what we ship may have.
var taken = []string{"MIT", "BSD-2-Clause", "BSD-3-Clause", "Apache-2.0", "MPL-2.0", "ISC", "0BSD", "OFL-1.1", "CC0-1.0"}

// licencesFile holds the licences of all that a release is made with.
const licencesFile = "LICENCES.txt"

// licensed gives a part its licence; one that we do not take is an error.
func (p *part) licensed(id, text string) error {
	if !slices.Contains(taken, id) {
		return fmt.Errorf("%s %s has the licence %q, which is none that we take: look at it, and add it to tools/release/bill.go or "+
			"do without", p.Name, p.Version, id)
	}
	choice := licenceChoice{}
	choice.Licence.ID = id
	p.Licences, p.text = []licenceChoice{choice}, strings.TrimSpace(text)
	return nil
}

// licenceOf knows a licence by its words; "" for one that it does not know.
func licenceOf(text string) string {
	plain := strings.Join(strings.Fields(strings.ToLower(text)), " ")
	has := func(words string) bool { return strings.Contains(plain, words) }
	switch {
	case has("apache license version 2.0"), has("apache license, version 2.0"), has("licensed under the apache license"):
		return "Apache-2.0"
	case has("mozilla public license version 2.0"), has("mozilla public license, version 2.0"):
		return "MPL-2.0"
	case has("redistribution and use in source and binary forms") &&
		(has("neither the name") || has("names of its contributors") || has("name of the copyright holder")):
		return "BSD-3-Clause"
	case has("redistribution and use in source and binary forms"):
		return "BSD-2-Clause"
	case has("permission is hereby granted, free of charge, to any person obtaining a copy"):
		return "MIT"
	case has("permission to use, copy, modify, and/or distribute this software for any purpose"),
		has("permission to use, copy, modify, and distribute this software for any purpose"):
		return "ISC"
	case has("affirmer offers the work as-is"), has("cc0 1.0 universal"):
		return "CC0-1.0"
	}
	return ""
}

// licenceIn finds the licence in a module's folder.
func licenceIn(dir string) (id, text string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return "", "", err
	}
	for _, e := range entries {
		name := strings.ToLower(e.Name())
		if e.IsDir() || !strings.HasPrefix(name, "licen") && !strings.HasPrefix(name, "copying") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return "", "", err
		}
		if id := licenceOf(string(text)); id != "" {
			return id, string(text), nil
		}
	}
	return "", "", nil
}

// modules are what a program was built from.
func modules(program string) (parts []part, err error) {
	out, err := exec.Command("go", "version", "-m", program).Output()
	if err != nil {
		return nil, err
	}
	first, text, _ := strings.Cut(string(out), "\n")
	_, compiler, _ := strings.Cut(first, ": go")
	info, err := debug.ParseBuildInfo(strings.ReplaceAll(text, "\n\t", "\n")[1:])
	if err != nil {
		return nil, fmt.Errorf("reading what %s is made of: %w", program, err)
	}
	root, err := exec.Command("go", "env", "GOROOT", "GOMODCACHE").Output()
	if err != nil {
		return nil, err
	}
	goRoot, cache, _ := strings.Cut(strings.TrimSpace(string(root)), "\n")
	std := part{Type: "library", Ref: "go", Name: "Go standard library", Version: compiler, PURL: "pkg:golang/std@" + compiler}
	goText, err := os.ReadFile(filepath.Join(goRoot, "LICENSE"))
	if err != nil && !errors.Is(err, os.ErrNotExist) { // some systems keep it elsewhere
		return nil, err
	}
	if err := std.licensed("BSD-3-Clause", string(goText)); err != nil {
		return nil, err
	}
	parts = append(parts, std)
	for _, d := range info.Deps {
		p := part{Type: "library", Ref: d.Path, Name: d.Path, Version: d.Version, PURL: "pkg:golang/" + d.Path + "@" + d.Version}
		id, text, err := licenceIn(filepath.Join(cache, escaped(d.Path)+"@"+escaped(d.Version)))
		if err == nil {
			err = p.licensed(id, text)
		}
		if err != nil {
			return nil, err
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// escaped is a module's path as its folder is named (golang.org/ref/mod, module cache).
func escaped(path string) string {
	var b strings.Builder
	for _, r := range path {
		if 'A' <= r && r <= 'Z' {
			b.WriteByte('!')
			r += 'a' - 'A'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// scripts are the packages from which the console is built.
func scripts(web string) (parts []part, err error) {
	text, err := os.ReadFile(filepath.Join(web, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version, License, Integrity string
			Dev, Optional, Peer         bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return nil, fmt.Errorf("reading what the console is made of: %w", err)
	}
	for _, path := range slices.Sorted(maps.Keys(lock.Packages)) {
		of := lock.Packages[path]
		i := strings.LastIndex(path, "node_modules/")
		if i < 0 || of.Dev || of.Optional {
			continue
		}
		name := path[i+len("node_modules/"):]
		p := part{Type: "library", Ref: "npm " + path, Name: name, Version: of.Version, PURL: "pkg:npm/" +
			strings.Replace(name, "@", "%40", 1) + "@" + of.Version}
		_, words, err := licenceIn(filepath.Join(web, path))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		if err := p.licensed(of.License, words); err != nil {
			return nil, err
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// bill writes of what a program is made.
func (r *making) bill(name string, parts []part) error {
	var list struct {
		Format   string `json:"bomFormat"`
		Spec     string `json:"specVersion"`
		Version  int    `json:"version"`
		Metadata struct {
			At        string `json:"timestamp"`
			Component part   `json:"component"`
		} `json:"metadata"`
		Parts []part `json:"components"`
	}
	list.Format, list.Spec, list.Version = "CycloneDX", "1.6", 1
	list.Metadata.At = r.at.Format("2006-01-02T15:04:05Z")
	list.Metadata.Component = part{Type: "application", Ref: name, Name: name, Version: r.version}
	if err := list.Metadata.Component.licensed("Apache-2.0", ""); err != nil {
		return err
	}
	list.Parts = parts
	b, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(r.dir, fmt.Sprintf("%s_%s.cdx.json", name, r.version)), append(b, '\n'), 0o644)
}

// bills writes of what each program is made, and the licences of all of it.
func (r *making) bills(archives bool) error {
	all := map[string]part{}
	one := func(name, program string, more ...part) error {
		parts, err := modules(program)
		if err != nil {
			return err
		}
		parts = append(parts, more...)
		for _, p := range parts {
			all[p.Name+" "+p.Version] = p
		}
		return r.bill(name, parts)
	}
	if err := one("moor-agent", filepath.Join(r.dir, r.manifest.Programs[0].File)); err != nil {
		return err
	}
	if archives {
		console, err := scripts("web")
		if err != nil {
			return err
		}
		dir, err := r.archived(targets[0])
		if err != nil {
			return err
		}
		if err := errors.Join(one("moorwatch", filepath.Join(dir, "moorwatch"), console...),
			one("moor", filepath.Join(dir, "moor"))); err != nil {
			return err
		}
	}
	var text bytes.Buffer
	text.WriteString("Moorwatch is made with what follows, each under its own licence.\n")
	for _, name := range slices.Sorted(maps.Keys(all)) {
		p := all[name]
		fmt.Fprintf(&text, "\n%s\n%s\n%s\n", strings.Repeat("=", 72), name, p.Licences[0].Licence.ID)
		if p.text != "" {
			fmt.Fprintf(&text, "\n%s\n", p.text)
		}
	}
	return os.WriteFile(filepath.Join(r.dir, licencesFile), text.Bytes(), 0o644)
}
