// Package release is what a release of the agent consists of, and how a device knows that it is one:
// a manifest of programs by system, signed with a key whose public half is part of the agent's program.
// It opens nothing.
package release

import (
	"bytes"
	"cmp"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
)

// Program is the agent's program for one system.
type Program struct {
	OS     string `json:"os"`   // as Go names it (GOOS)
	Arch   string `json:"arch"` // as Go names it (GOARCH), with its variant for arm: arm7
	File   string `json:"file"` // its name in the release's folder
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"` // bytes
}

// Manifest is a release.
type Manifest struct {
	Version  string    `json:"version"` // Semantic Versioning 2.0.0
	Made     time.Time `json:"made"`
	Programs []Program `json:"programs"`
	// Packages are files that install the same programs: their kind is the end of their name.
	Packages []Program `json:"packages,omitempty"`
}

// Bounds of a release.
const (
	MaxManifest = 256 << 10 // bytes, signed
	MaxProgram  = 64 << 20  // bytes
)

// Signed is a manifest with its signature: the bytes that were signed, as they are.
type Signed struct {
	Manifest  json.RawMessage `json:"manifest"`
	Signature []byte          `json:"signature"` // Ed25519 (RFC 8032) of prefix and the manifest
}

// Version of these programs, as an agent tells it among its facts; a release is built with its own.
var Version = "0.2.0"

// Built are the public keys of releases that this program believes, as Keys reads them; a release is built
// with them.
var Built = ""

// prefix keeps a signature from being one of anything else.
const prefix = "moorwatch agent release\n"

// Sign signs a release.
func Sign(m Manifest, key ed25519.PrivateKey) ([]byte, error) {
	if err := m.validate(); err != nil {
		return nil, err
	}
	text, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	return json.Marshal(Signed{text, ed25519.Sign(key, append([]byte(prefix), text...))})
}

// ErrSignature is returned for what is signed by none of the keys.
var ErrSignature = errors.New("the release is not signed by a key that this program knows")

// Open reads a signed release, which one of the keys must have signed.
func Open(signed []byte, keys []ed25519.PublicKey) (Manifest, error) {
	var s Signed
	var m Manifest
	if len(signed) > MaxManifest {
		return m, fmt.Errorf("the release's manifest is larger than %d bytes", MaxManifest)
	}
	if err := json.Unmarshal(signed, &s); err != nil {
		return m, fmt.Errorf("this is no release: %w", err)
	}
	// What is signed is the manifest without spaces around its parts, as Sign writes it.
	var text bytes.Buffer
	if err := json.Compact(&text, s.Manifest); err != nil {
		return m, fmt.Errorf("this is no release: %w", err)
	}
	if !slices.ContainsFunc(keys, func(k ed25519.PublicKey) bool {
		return len(k) == ed25519.PublicKeySize && ed25519.Verify(k, append([]byte(prefix), text.Bytes()...), s.Signature)
	}) {
		return m, ErrSignature
	}
	if err := json.Unmarshal(text.Bytes(), &m); err != nil {
		return m, fmt.Errorf("this is no release: %w", err)
	}
	return m, m.validate()
}

var (
	fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._~+-]{0,127}$`)
	digest   = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

func (m Manifest) validate() error {
	if _, err := semver.StrictNewVersion(m.Version); err != nil {
		return fmt.Errorf("%q is no version of a release: write it as 1.4.0", m.Version)
	}
	if len(m.Programs) == 0 {
		return errors.New("the release has no programs")
	}
	seen := map[string]bool{}
	for _, p := range slices.Concat(m.Programs, m.Packages) {
		switch {
		case !fileName.MatchString(p.File):
			return fmt.Errorf("%q is no name of a file of a release", p.File)
		case !digest.MatchString(p.SHA256) || p.Size < 1 || p.Size > MaxProgram:
			return fmt.Errorf("the file %s has no digest or size", p.File)
		case p.OS == "" || p.Arch == "" || seen[p.File]:
			return fmt.Errorf("the file %s has no system, or is there twice", p.File)
		}
		seen[p.File] = true
	}
	return nil
}

// For returns the program for a system.
func (m Manifest) For(os, arch string) (Program, bool) {
	i := slices.IndexFunc(m.Programs, func(p Program) bool { return p.OS == os && p.Arch == arch })
	if i < 0 {
		return Program{}, false
	}
	return m.Programs[i], true
}

// Newer tells whether one version is newer than another (Semantic Versioning 2.0.0, 11). What is no
// version is older than all.
func Newer(a, b string) bool {
	x, err := semver.NewVersion(a)
	if err != nil {
		return false
	}
	y, err := semver.NewVersion(b)
	return err != nil || x.GreaterThan(y)
}

// Compare orders releases, the latest first.
func Compare(a, b Manifest) int {
	switch {
	case Newer(a.Version, b.Version):
		return -1
	case Newer(b.Version, a.Version):
		return 1
	}
	return cmp.Compare(a.Version, b.Version)
}

// Keys reads public keys as they are written into a program: base64, parted by commas. What is none is
// left out.
func Keys(text string) (keys []ed25519.PublicKey) {
	for part := range strings.SplitSeq(text, ",") {
		if b, err := base64.RawURLEncoding.DecodeString(strings.TrimSpace(part)); err == nil && len(b) == ed25519.PublicKeySize {
			keys = append(keys, b)
		}
	}
	return keys
}

// KeyText writes a public key as Keys reads it.
func KeyText(key ed25519.PublicKey) string { return base64.RawURLEncoding.EncodeToString(key) }
