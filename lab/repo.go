package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// piece is one version of a made-up package.
type piece struct {
	name, version, about string
	depends              string
	service              string // what its service runs; "" for no service
	program              bool   // it brings a program of its own, /usr/lib/NAME/program
	postinst             string // beside what a service needs
	security             bool   // it is in the security suite
}

// before are the versions that machines have when they are made, after those that are published later.
var before = []piece{
	{name: "tarnlib", version: "1.0", about: "A library that programs use", program: true},
	{name: "heathd", version: "2.0", about: "A service that uses the library", depends: "tarnlib",
		service: "/usr/lib/tarnlib/program infinity"},
	{name: "kiosk-screen", version: "3.2", about: "The catalogue on a screen", service: "/bin/sleep infinity"},
	{name: "fell-kernel", version: "6.1", about: "What takes effect after a restart"},
	{name: "bracken", version: "1", about: "What cannot be updated"},
	{name: "peat", version: "1", about: "What takes its time"},
	{name: "sedge", version: "1", about: "What waits for something else"},
}

var after = []piece{
	{name: "tarnlib", version: "1.1", about: "A library that programs use", program: true, security: true},
	{name: "kiosk-screen", version: "3.3", about: "The catalogue on a screen", service: "/bin/false", security: true},
	{name: "fell-kernel", version: "6.2", about: "What takes effect after a restart", postinst: "touch /run/reboot-required\n",
		security: true},
	{name: "bracken", version: "2", about: "What cannot be updated", postinst: "echo 'bracken does not find its field' >&2\nexit 1\n"},
	{name: "peat", version: "2", about: "What takes its time", postinst: "sleep 4\n"},
	{name: "sedge", version: "2", about: "What waits for something else", depends: "no-such-marsh (>= 9)"},
}

// The suites of the repository.
const (
	mainSuite     = "lab"
	securitySuite = "lab-security"
)

// build makes the package's file in a folder.
func (p piece) build(ctx context.Context, scratch, into string) (path string, err error) {
	root := filepath.Join(scratch, p.name+"-"+p.version)
	write := func(name, text string, mode os.FileMode) {
		if err == nil {
			if err = os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755); err == nil {
				err = os.WriteFile(filepath.Join(root, name), []byte(text), mode)
			}
		}
	}
	control := fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: all\nMaintainer: Curlew & Sedge "+
		"<lab@curlew-sedge.example>\nDescription: %s\n", p.name, p.version, p.about)
	if p.depends != "" {
		control += "Depends: " + p.depends + "\n"
	}
	write("DEBIAN/control", control, 0o644)
	write("usr/share/"+p.name+"/version", p.version+"\n", 0o644)
	if p.program {
		program, bad := os.ReadFile("/bin/sleep")
		if bad != nil {
			return "", bad
		}
		write("usr/lib/"+p.name+"/program", string(program)+p.version, 0o755) // which the loader passes over
	}
	post := p.postinst
	if p.service != "" {
		write("lib/systemd/system/"+p.name+".service",
			fmt.Sprintf("[Unit]\nDescription=%s\n[Service]\nExecStart=%s\n[Install]\nWantedBy=multi-user.target\n", p.about, p.service),
			0o644)
		post += fmt.Sprintf("if [ -d /run/systemd/system ]; then systemctl daemon-reload; systemctl enable -q %s.service; systemctl "+
			"restart %s.service || true; fi\n", p.name, p.name)
	}
	if post != "" {
		write("DEBIAN/postinst", "#!/bin/sh\nset -e\n[ \"$1\" = configure ] || exit 0\n"+post, 0o755)
	}
	if err != nil {
		return "", err
	}
	path = filepath.Join(into, fmt.Sprintf("%s_%s_all.deb", p.name, p.version))
	return path, run(ctx, "dpkg-deb", "--root-owner-group", "-Znone", "-b", root, path)
}

func run(ctx context.Context, argv ...string) error {
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", strings.Join(argv, " "), err, bytes.TrimSpace(out[max(0, len(out)-600):]))
	}
	return nil
}

// index writes the lists of a suite that holds packages (deb(5), "The Format of Repositories").
func index(ctx context.Context, dir, suite, label string) error {
	cmd := exec.CommandContext(ctx, "dpkg-scanpackages", "-m", ".")
	cmd.Dir = filepath.Join(dir, suite)
	packages, err := cmd.Output()
	if err != nil {
		return fmt.Errorf("listing the packages of %s: %w", suite, err)
	}
	if err := os.WriteFile(filepath.Join(dir, suite, "Packages"), packages, 0o644); err != nil {
		return err
	}
	release := fmt.Sprintf("Origin: Larkmoor\nLabel: %s\nSuite: %s\nCodename: %s\nArchitectures: all amd64\nSHA256:\n %x %d Packages\n",
		label, suite, suite, sha256.Sum256(packages), len(packages))
	return os.WriteFile(filepath.Join(dir, suite, "Release"), []byte(release), 0o644)
}

// key is what the repository is signed with (gpg(1)).
type key struct{ home string }

// newKey makes a key of its own, in a folder.
func newKey(ctx context.Context, home string) (key, error) {
	k := key{home}
	if err := os.MkdirAll(home, 0o700); err != nil {
		return k, err
	}
	return k, k.gpg(ctx, "--passphrase", "", "--quick-gen-key", "Larkmoor lab <lab@curlew-sedge.example>", "ed25519", "sign", "never")
}

func (k key) gpg(ctx context.Context, argv ...string) error {
	return run(ctx, append([]string{"gpg", "--homedir", k.home, "--batch", "--yes", "--quiet"}, argv...)...)
}

// public is the file of the public key, by which machines know the repository.
func (k key) public(ctx context.Context) (path string, err error) {
	path = filepath.Join(k.home, "public.gpg")
	return path, k.gpg(ctx, "--output", path, "--export")
}

// sign signs the lists of a suite.
func (k key) sign(ctx context.Context, dir, suite string) error {
	return k.gpg(ctx, "--output", filepath.Join(dir, suite, "InRelease"), "--clearsign", filepath.Join(dir, suite, "Release"))
}

// end has the agent of gpg end, which holds the key.
func (k key) end() { run(context.Background(), "gpgconf", "--homedir", k.home, "--kill", "all") }
