// Command release makes a release: the agent's programs for every system, packages that install them, the
// service and the client as archives, what each is made of (CycloneDX) and under which licences, from which
// sources it was made (SLSA provenance), checksums, and the manifest by whose signature agents believe it. Made
// twice from the same sources, every byte is the same but for signatures' keys.
//
//	go run ./tools/release -version 1.4.0
//	go run ./tools/release -verify dist/1.4.0 -key dist/release.pub
package main

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/core/release"
)

// target is a system that programs are built for.
type target struct {
	os, arch string
	env      []string // beside GOOS and GOARCH
}

// targets are all that a release is for.
var targets = []target{
	{"linux", "amd64", nil}, {"linux", "arm64", nil}, {"linux", "arm7", []string{"GOARM=7"}},
	{"windows", "amd64", nil}, {"windows", "arm64", nil},
	{"darwin", "amd64", nil}, {"darwin", "arm64", nil},
}

func (t target) name() string { return t.os + "/" + t.arch }

// goArch is the architecture as the compiler names it.
func (t target) goArch() string { return strings.TrimSuffix(t.arch, "7") }

func (t target) ext() string {
	if t.os == "windows" {
		return ".exe"
	}
	return ""
}

func main() {
	version := flag.String("version", "0.2.0", "`VERSION` of the release, as 1.4.0")
	out := flag.String("out", "dist", "`FOLDER` of releases; this one is a folder of it")
	key := flag.String("key", "release-key", "`FILE` of the private key that signs it; one is made where there is none")
	only := flag.String("targets", "", "systems, parted by commas, such as linux/amd64,windows/amd64; all where it is empty")
	more := flag.Bool("archives", true, "make archives of the service and the client too")
	check := flag.String("verify", "", "look whether the release in a `FOLDER` is what the public key in the file of -key signed, and "+
		"make none")
	flags := flag.String("ldflags", "", "more `FLAGS` for the linker, as tests need")
	flag.Parse()
	if *check != "" {
		text, err := os.ReadFile(*key)
		if err == nil {
			err = verify(*check, string(text))
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "release:", err)
			os.Exit(1)
		}
		fmt.Printf("%s is as it was signed.\n", *check)
		return
	}
	if err := run(*version, *out, *key, *only, *more, *flags); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func run(version, out, keyFile, only string, archives bool, flags string) error {
	key, err := loadKey(keyFile)
	if err != nil {
		return err
	}
	chosen := targets
	if only != "" {
		chosen = nil
		for name := range strings.SplitSeq(only, ",") {
			i := slices.IndexFunc(targets, func(t target) bool { return t.name() == name })
			if i < 0 {
				return fmt.Errorf("there is no target %q", name)
			}
			chosen = append(chosen, targets[i])
		}
	}
	r := &making{version: version, flags: flags, dir: filepath.Join(out, version), at: madeAt(),
		public: release.KeyText(key.Public().(ed25519.PublicKey))}
	r.manifest = release.Manifest{Version: version, Made: r.at}
	if err := errors.Join(os.RemoveAll(r.dir), os.MkdirAll(r.dir, 0o755)); err != nil {
		return err
	}
	if r.scratch, err = os.MkdirTemp("", "moor-release-"); err != nil {
		return err
	}
	defer os.RemoveAll(r.scratch)
	for _, t := range chosen {
		if err := r.agent(t); err != nil {
			return err
		}
	}
	if err := r.bills(archives); err != nil {
		return err
	}
	for _, t := range chosen {
		if err := r.packages(t); err != nil {
			return err
		}
		if archives {
			if err := r.archive(t); err != nil {
				return err
			}
		}
	}
	signed, err := release.Sign(r.manifest, key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(r.dir, manifestFile), signed, 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(out, "release.pub"), []byte(r.public+"\n"), 0o644); err != nil {
		return err
	}
	if err := r.provenance(key, only); err != nil {
		return err
	}
	return r.sums(key)
}

// loadKey reads the key, or makes one that its owner alone can read.
func loadKey(path string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		seed := make([]byte, ed25519.SeedSize)
		rand.Read(seed)
		fmt.Fprintf(os.Stderr, "release: made a key for releases, %s: keep it safe, as agents believe what it signs\n", path)
		return ed25519.NewKeyFromSeed(seed), os.WriteFile(path, []byte(base64.StdEncoding.EncodeToString(seed)+"\n"), 0o600)
	}
	if err != nil {
		return nil, err
	}
	seed, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("%s is no key of releases", path)
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// madeAt is when the sources were last changed: SOURCE_DATE_EPOCH (reproducible-builds.org), or the last
// commit, or a fixed day.
func madeAt() time.Time {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		out, _ := exec.Command("git", "log", "-1", "--format=%ct").Output()
		text = strings.TrimSpace(string(out))
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return time.Unix(seconds, 0).UTC()
}

// making is a release in the making.
type making struct {
	version  string
	flags    string // more of them, for the linker
	dir      string
	scratch  string // where programs are built that go into archives
	at       time.Time
	public   string
	manifest release.Manifest
}

// build builds programs for a system into a folder.
func (r *making) build(t target, into string, programs ...string) error {
	flags := "-s -w -buildid= -X moorwatch.example/core/release.Version=" + r.version +
		" -X moorwatch.example/core/release.Built=" + r.public +
		" " + r.flags
	args := []string{"build", "-trimpath", "-buildvcs=false", "-ldflags", flags, "-o", into}
	for _, p := range programs {
		args = append(args, "./cmd/"+p)
	}
	cmd := exec.Command("go", args...)
	cmd.Env = append(append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.os, "GOARCH="+t.goArch()), t.env...)
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("building for %s: %w", t.name(), err)
	}
	return nil
}

func (r *making) agent(t target) error {
	name := fmt.Sprintf("moor-agent_%s_%s_%s%s", r.version, t.os, t.arch, t.ext())
	if err := r.build(t, filepath.Join(r.dir, name), "moor-agent"); err != nil {
		return err
	}
	p, err := r.described(t, name)
	r.manifest.Programs = append(r.manifest.Programs, p)
	fmt.Println(name, p.Size)
	return err
}

// described is a file as the manifest tells of it.
func (r *making) described(t target, name string) (release.Program, error) {
	sum, size, err := digest(filepath.Join(r.dir, name))
	return release.Program{OS: t.os, Arch: t.arch, File: name, SHA256: sum, Size: size}, err
}

func digest(path string) (string, int64, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), n, err
}

// sums writes the checksums of all files as sha256sum(1) reads them, and their signature.
func (r *making) sums(key ed25519.PrivateKey) error {
	entries, err := os.ReadDir(r.dir)
	if err != nil {
		return err
	}
	var text bytes.Buffer
	for _, e := range entries {
		sum, _, err := digest(filepath.Join(r.dir, e.Name()))
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%s  %s\n", sum, e.Name())
	}
	signature := base64.StdEncoding.EncodeToString(ed25519.Sign(key, text.Bytes())) + "\n"
	return errors.Join(os.WriteFile(filepath.Join(r.dir, sumsFile), text.Bytes(), 0o644),
		os.WriteFile(filepath.Join(r.dir, signatureFile), []byte(signature), 0o644))
}
