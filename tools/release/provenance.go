package main

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"moorwatch.example/core/release"
)

// provenanceFile tells from which sources, with which compiler and by whom a release was made.
const provenanceFile = "provenance.intoto.json"

// What the provenance is written as.
const (
	statementType   = "https://in-toto.io/Statement/v1"
	predicateType   = "https://slsa.dev/provenance/v1"
	payloadType     = "application/vnd.in-toto+json"
	builderID       = "https://moorwatch.example/tools/release"
	sourceOf        = "git+https://moorwatch.example/moorwatch"
	signatureFile   = "SHA256SUMS.ed25519"
	sumsFile        = "SHA256SUMS"
	manifestFile    = "release.json"
	provenanceLimit = 4 << 20
)

// statement is an in-toto statement with SLSA provenance, version 1.
type statement struct {
	Type      string    `json:"_type"`
	Subject   []subject `json:"subject"`
	Predicate string    `json:"predicateType"`
	Of        struct {
		Definition struct {
			Type         string            `json:"buildType"`
			Parameters   map[string]string `json:"externalParameters"`
			Dependencies []subject         `json:"resolvedDependencies"`
		} `json:"buildDefinition"`
		Details struct {
			Builder struct {
				ID      string            `json:"id"`
				Version map[string]string `json:"version"`
			} `json:"builder"`
		} `json:"runDetails"`
	} `json:"predicate"`
}

type subject struct {
	Name   string            `json:"name,omitempty"`
	URI    string            `json:"uri,omitempty"`
	Digest map[string]string `json:"digest"`
}

// envelope is what signs it (DSSE, version 1).
type envelope struct {
	PayloadType string      `json:"payloadType"`
	Payload     []byte      `json:"payload"`
	Signatures  []signature `json:"signatures"`
}

type signature struct {
	KeyID string `json:"keyid"`
	Sig   []byte `json:"sig"`
}

// signedBytes are those that an envelope's signature is over.
func signedBytes(payload []byte) []byte {
	return fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(payloadType), payloadType, len(payload), payload)
}

// provenance writes from what a release was made. It is told of all files that are there, so it comes last but for their
// checksums.
func (r *making) provenance(key ed25519.PrivateKey, only string) error {
	entries, err := os.ReadDir(r.dir)
	if err != nil {
		return err
	}
	s := statement{Type: statementType, Predicate: predicateType}
	for _, e := range entries {
		sum, _, err := digest(filepath.Join(r.dir, e.Name()))
		if err != nil {
			return err
		}
		s.Subject = append(s.Subject, subject{Name: e.Name(), Digest: map[string]string{"sha256": sum}})
	}
	d := &s.Of.Definition
	d.Type, d.Parameters = builderID+"/v1", map[string]string{"version": r.version, "targets": only}
	if commit, err := exec.Command("git", "rev-parse", "HEAD").Output(); err == nil {
		d.Dependencies = append(d.Dependencies, subject{URI: sourceOf,
			Digest: map[string]string{"gitCommit": strings.TrimSpace(string(commit))}})
	}
	for _, lock := range []string{"go.sum", "web/package-lock.json"} {
		sum, _, err := digest(lock)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		d.Dependencies = append(d.Dependencies, subject{Name: lock, Digest: map[string]string{"sha256": sum}})
	}
	s.Of.Details.Builder.ID, s.Of.Details.Builder.Version = builderID, map[string]string{"go": strings.TrimPrefix(runtime.Version(), "go")}
	payload, err := json.Marshal(s)
	if err != nil {
		return err
	}
	text, err := json.Marshal(envelope{payloadType, payload,
		[]signature{{release.KeyText(key.Public().(ed25519.PublicKey)), ed25519.Sign(key, signedBytes(payload))}}})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(r.dir, provenanceFile), append(text, '\n'), 0o644)
}

// verify looks whether the files of a release are those that a key signed, and no others.
func verify(dir, keys string) error {
	known := release.Keys(keys)
	if len(known) == 0 {
		return errors.New("give the public key of releases, or the file release.pub, with -key")
	}
	signed := func(text, sig []byte) bool {
		for _, k := range known {
			if ed25519.Verify(k, text, sig) {
				return true
			}
		}
		return false
	}
	sums, err := os.ReadFile(filepath.Join(dir, sumsFile))
	if err != nil {
		return err
	}
	sig, err := os.ReadFile(filepath.Join(dir, signatureFile))
	if err != nil {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(sig)))
	if err != nil || !signed(sums, raw) {
		return fmt.Errorf("%s is not signed by this key: do not use the release", sumsFile)
	}
	want := map[string]string{}
	for line := range strings.Lines(string(sums)) {
		sum, name, ok := strings.Cut(strings.TrimSpace(line), "  ")
		if !ok {
			return fmt.Errorf("%s has a line that is none: %q", sumsFile, line)
		}
		want[name] = sum
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == sumsFile || e.Name() == signatureFile {
			continue
		}
		sum, _, err := digest(filepath.Join(dir, e.Name()))
		if err != nil {
			return err
		}
		if sum != want[e.Name()] {
			return fmt.Errorf("%s is another than was signed: do not use the release", e.Name())
		}
		delete(want, e.Name())
	}
	for name := range want {
		return fmt.Errorf("%s is missing", name)
	}
	return verifyProvenance(dir, signed)
}

func verifyProvenance(dir string, signed func(text, sig []byte) bool) error {
	text, err := os.ReadFile(filepath.Join(dir, provenanceFile))
	if err != nil {
		return err
	}
	var e envelope
	var s statement
	if len(text) > provenanceLimit || json.Unmarshal(text, &e) != nil || e.PayloadType != payloadType || len(e.Signatures) != 1 ||
		!signed(signedBytes(e.Payload), e.Signatures[0].Sig) {
		return fmt.Errorf("%s is not signed by this key: do not use the release", provenanceFile)
	}
	if err := json.Unmarshal(e.Payload, &s); err != nil || s.Type != statementType || s.Predicate != predicateType {
		return fmt.Errorf("%s holds no SLSA provenance", provenanceFile)
	}
	for _, of := range s.Subject {
		sum, _, err := digest(filepath.Join(dir, filepath.Base(of.Name)))
		if err != nil {
			return err
		}
		if sum != of.Digest["sha256"] {
			return fmt.Errorf("%s is another than %s tells of", of.Name, provenanceFile)
		}
	}
	return nil
}
