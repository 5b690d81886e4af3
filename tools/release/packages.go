package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // the formats
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// packages makes what installs the agent on a system by the system's own means.
func (r *making) packages(t target) error {
	program := fmt.Sprintf("moor-agent_%s_%s_%s%s", r.version, t.os, t.arch, t.ext())
	switch {
	case t.os == "linux":
		for _, format := range []string{"deb", "rpm"} {
			if err := r.linux(t, format, program); err != nil {
				return fmt.Errorf("making a %s: %w", format, err)
			}
		}
	case t.os == "windows" && t.arch == "amd64":
		if _, err := exec.LookPath("wixl"); err != nil {
			fmt.Fprintln(os.Stderr, "release: no .msi is made: wixl is missing")
			return nil
		}
		return r.msi(t, program)
	}
	return nil
}

// The scripts of packages. The packaged program puts itself in place, as it does without a package.
const (
	afterInstall = `#!/bin/sh
set -e
agent=/usr/lib/moor-agent/moor-agent
if [ -f /etc/moor-agent.enrolment ]; then
	"$agent" install --from /etc/moor-agent.enrolment
	rm -f /etc/moor-agent.enrolment
elif [ -f /var/lib/moor-agent/identity.json ]; then
	"$agent" install
else
	echo "moor-agent: to enrol this device: moor-agent install --from FILE, with the enrolment file from the console"
fi
`
	beforeRemove = `#!/bin/sh
set -e
case "${1:-}" in
remove|0) [ ! -d /var/lib/moor-agent ] || /usr/lib/moor-agent/moor-agent uninstall ;;
esac
`
)

func (r *making) linux(t target, format, program string) error {
	scratch, err := os.MkdirTemp("", "moor-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	after, before := filepath.Join(scratch, "after"), filepath.Join(scratch, "before")
	if err := errors.Join(os.WriteFile(after, []byte(afterInstall), 0o755), os.WriteFile(before, []byte(beforeRemove), 0o755)); err != nil {
		return err
	}
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "moor-agent", Arch: t.arch, Platform: "linux", Version: r.version, Release: "1", Section: "admin", Priority: "optional",
		Maintainer:  "Moorwatch <packages@moorwatch.example>",
		Description: "The Moorwatch agent: lets the technicians who look after this computer see how it fares and work on it.",
		License:     "see /usr/share/doc/moor-agent", MTime: r.at,
		Overridables: nfpm.Overridables{
			Scripts: nfpm.Scripts{PostInstall: after, PreRemove: before},
			RPM:     nfpm.RPM{BuildHost: "moorwatch.example"},
			Contents: files.Contents{
				{Source: filepath.Join(r.dir, program), Destination: "/usr/lib/moor-agent/moor-agent",
					FileInfo: &files.ContentFileInfo{Mode: 0o755, MTime: r.at}},
				{Source: "/usr/lib/moor-agent/moor-agent", Destination: "/usr/bin/moor-agent", Type: "symlink",
					FileInfo: &files.ContentFileInfo{MTime: r.at}},
				{Source: "LICENSE", Destination: "/usr/share/doc/moor-agent/copyright",
					FileInfo: &files.ContentFileInfo{Mode: 0o644, MTime: r.at}},
			},
		},
	})
	packager, err := nfpm.Get(format)
	if err != nil {
		return err
	}
	if err := nfpm.PrepareForPackager(info, format); err != nil {
		return err
	}
	name := packager.ConventionalFileName(info)
	f, err := os.Create(filepath.Join(r.dir, name))
	if err != nil {
		return err
	}
	if err := errors.Join(packager.Package(info, f), f.Close()); err != nil {
		return err
	}
	return r.addPackage(t, name)
}

func (r *making) addPackage(t target, name string) error {
	p, err := r.described(t, name)
	r.manifest.Packages = append(r.manifest.Packages, p)
	fmt.Println(name, p.Size)
	return err
}

// programsFor are the programs of a system's archive.
func programsFor(t target) []string {
	if t.os == "linux" && t.arch != "arm7" {
		return []string{"moor", "moorwatch"}
	}
	return []string{"moor"}
}

// archived builds the programs of a system's archive, once, and returns the folder that they are in.
func (r *making) archived(t target) (string, error) {
	dir := filepath.Join(r.scratch, t.os+"-"+t.arch)
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	return dir, r.build(t, dir+"/", programsFor(t)...)
}

// archive packs the client, and on Linux the service, for a system.
func (r *making) archive(t target) error {
	dir, err := r.archived(t)
	if err != nil {
		return err
	}
	programs := programsFor(t)
	name := fmt.Sprintf("moorwatch_%s_%s_%s", r.version, t.os, t.arch)
	paths := map[string]string{"LICENSE": "LICENSE", "README.md": "README.md", licencesFile: filepath.Join(r.dir, licencesFile)}
	if slices.Contains(programs, "moorwatch") {
		paths["moorwatch.service"] = "cmd/moorwatch/moorwatch.service"
	}
	for _, p := range programs {
		paths[p+t.ext()] = filepath.Join(dir, p+t.ext())
	}
	if t.os == "windows" {
		return r.zip(name, paths)
	}
	return r.tar(name, paths)
}

func (r *making) tar(name string, paths map[string]string) error {
	f, err := os.Create(filepath.Join(r.dir, name+".tar.gz"))
	if err != nil {
		return err
	}
	z := gzip.NewWriter(f)
	w := tar.NewWriter(z)
	for _, in := range sorted(paths) {
		err := open(paths[in], func(f io.Reader, size int64, mode int64) error {
			if err := w.WriteHeader(&tar.Header{Name: name + "/" + in, Size: size, Mode: mode, ModTime: r.at,
				Format: tar.FormatUSTAR}); err != nil {
				return err
			}
			_, err := io.Copy(w, f)
			return err
		})
		if err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), z.Close(), f.Close())
}

func (r *making) zip(name string, paths map[string]string) error {
	f, err := os.Create(filepath.Join(r.dir, name+".zip"))
	if err != nil {
		return err
	}
	w := zip.NewWriter(f)
	for _, in := range sorted(paths) {
		err := open(paths[in], func(f io.Reader, _, _ int64) error {
			part, err := w.CreateHeader(&zip.FileHeader{Name: name + "/" + in, Method: zip.Deflate, Modified: r.at})
			if err != nil {
				return err
			}
			_, err = io.Copy(part, f)
			return err
		})
		if err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), f.Close())
}

func sorted(paths map[string]string) (names []string) {
	for in := range paths {
		names = append(names, in)
	}
	slices.Sort(names)
	return names
}

// open gives a file with its size and the mode that it has in archives.
func open(path string, take func(f io.Reader, size, mode int64) error) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	mode := int64(0o644)
	if info.Mode()&0o100 != 0 {
		mode = 0o755
	}
	return take(f, info.Size(), mode)
}
