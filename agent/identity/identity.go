// Package identity is who this device is: the key made on it, which never leaves it, and the
// service that it was enrolled with. It is kept in one file that only the agent's account can read.
package identity

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/core/device"
	"moorwatch.example/uplink"
)

// Identity is what the file holds.
type Identity struct {
	Service     string `json:"service"` // address
	Fingerprint string `json:"fingerprint,omitempty"`
	Device      string `json:"device"`
	Name        string `json:"name"`
	Seed        []byte `json:"seed"` // of the Ed25519 key
	// Waiting tells, after it was enrolled, that a technician has to let it in.
	Waiting bool `json:"-"`
}

const fileName = "identity.json"

// ErrNotEnrolled is returned by Load for a folder without an identity.
var ErrNotEnrolled = errors.New("this device is not enrolled: run moor-agent enrol first")

// Key is the device's private key.
func (i Identity) Key() ed25519.PrivateKey { return ed25519.NewKeyFromSeed(i.Seed) }

// Dialer connects this device to its service.
func (i Identity) Dialer() uplink.Dialer {
	return uplink.Dialer{URL: i.Service, Device: i.Device, Key: i.Key(), TLS: trust(i.Fingerprint)}
}

// Client calls the service without a proof of who this device is.
func (i Identity) Client() *http.Client {
	return &http.Client{Transport: &http.Transport{TLSClientConfig: trust(i.Fingerprint), Proxy: http.ProxyFromEnvironment,
		DisableKeepAlives: true}}
}

func trust(fingerprint string) *tls.Config {
	if fingerprint == "" {
		return &tls.Config{MinVersion: tls.VersionTLS13}
	}
	return uplink.Pinned(fingerprint)
}

// Load reads the identity from the agent's folder.
func Load(dir string) (Identity, error) {
	var i Identity
	text, err := os.ReadFile(filepath.Join(dir, fileName))
	if errors.Is(err, os.ErrNotExist) {
		return i, ErrNotEnrolled
	}
	if err != nil {
		return i, err
	}
	if err := json.Unmarshal(text, &i); err != nil || len(i.Seed) != ed25519.SeedSize {
		return i, fmt.Errorf("%s is damaged: delete it and enrol this device again", filepath.Join(dir, fileName))
	}
	return i, nil
}

// enrolWithin is how long the service has to answer.
const enrolWithin = 30 * time.Second

// Enrol makes a key, shows its public half and the token to the service, and keeps the identity
// it is given in dir. The token's third part, when it has one, is the fingerprint of the authority
// that the service's certificate must come from. Of what the computer is, its name and hardware are
// told.
func Enrol(ctx context.Context, dir, service, token string, computer device.Facts) (Identity, error) {
	if _, err := Load(dir); err == nil {
		return Identity{}, fmt.Errorf("this device is enrolled already: delete %s to enrol it anew", filepath.Join(dir, fileName))
	} else if !errors.Is(err, ErrNotEnrolled) {
		return Identity{}, err
	}
	u, err := uplink.ServiceURL(service)
	if err != nil {
		return Identity{}, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return Identity{}, err
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return Identity{}, err
	}
	i := Identity{Service: u.Scheme + "://" + u.Host, Seed: private.Seed()}
	if parts := strings.Split(strings.TrimSpace(token), "."); len(parts) == 3 {
		i.Fingerprint = parts[2]
	}
	enrolment := map[string]any{"token": token, "public_key": base64.RawURLEncoding.EncodeToString(public), "host_name": computer.HostName}
	if len(computer.Hardware) > 0 {
		enrolment["hardware"] = computer.Hardware
	}
	body, err := json.Marshal(enrolment)
	if err != nil {
		return Identity{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, enrolWithin)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, i.Service+"/api/v1/enrol", bytes.NewReader(body))
	if err != nil {
		return Identity{}, err
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := i.Client().Do(request)
	if err != nil {
		return Identity{}, fmt.Errorf("asking the service: %w", err)
	}
	defer response.Body.Close()
	var answer struct {
		Device, Name  string
		Waiting       bool
		Title, Detail string // of a problem (RFC 9457)
	}
	if err := json.NewDecoder(io.LimitReader(response.Body, 1<<20)).Decode(&answer); err != nil {
		return Identity{}, fmt.Errorf("the service answers %s, and nothing that an agent understands: is its address right?",
			response.Status)
	}
	if response.StatusCode != http.StatusCreated {
		return Identity{}, fmt.Errorf("%s %s", answer.Title, answer.Detail)
	}
	i.Device, i.Name, i.Waiting = answer.Device, answer.Name, answer.Waiting
	return i, i.save(dir)
}

// save writes the file whole or not at all.
func (i Identity) save(dir string) error {
	text, err := json.MarshalIndent(i, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(dir, fileName), text, atomicfile.OnDisk)
}

// markFile holds what the service gave this device when it last connected.
const markFile = "mark"

// Mark is what the service gave this device when it last connected; "" where it gave nothing.
func Mark(dir string) string {
	text, err := os.ReadFile(filepath.Join(dir, markFile))
	if err != nil || len(text) > 200 {
		return ""
	}
	return string(text)
}

// KeepMark has a mark on disk when it returns.
func KeepMark(dir, mark string) error {
	return atomicfile.Write(filepath.Join(dir, markFile), []byte(mark), atomicfile.OnDisk)
}

// Rename keeps that the service knows this device by another id from now on.
func Rename(dir, id string) error {
	i, err := Load(dir)
	if err != nil {
		return err
	}
	i.Device = id
	return i.save(dir)
}

// keeps are the files of an agent's folder that belong to the computer, and not to the identity.
var keeps = []string{"choices.json"}

// Move has a device call the same service at another address. Its certificate is checked as before.
func Move(dir, service string) error {
	i, err := Load(dir)
	if err != nil {
		return err
	}
	u, err := uplink.ServiceURL(service)
	if err != nil {
		return err
	}
	if i.Service == u.String() {
		return nil
	}
	i.Service = u.String()
	return i.save(dir)
}

// Anew enrols a computer whose folder was copied from another, as a device of its own: nothing that the other
// kept in its folder stays.
func Anew(ctx context.Context, dir, token string, computer device.Facts) (Identity, error) {
	old, err := Load(dir)
	if err != nil {
		return old, err
	}
	fresh, err := os.MkdirTemp(dir, "anew-") // the old one stays until the new one is there
	if err != nil {
		return old, err
	}
	defer os.RemoveAll(fresh)
	i, err := Enrol(ctx, fresh, old.Service, token, computer)
	if err != nil {
		return old, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return old, err
	}
	for _, e := range entries {
		if e.Name() != fileName && !slices.Contains(keeps, e.Name()) {
			err = errors.Join(err, os.RemoveAll(filepath.Join(dir, e.Name())))
		}
	}
	return i, errors.Join(err, i.save(dir))
}
