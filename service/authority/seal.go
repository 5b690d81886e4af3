package authority

import (
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Seal reads the key that signs recordings from dir, and makes it where there is none. It is to be
// kept as long as the recordings are.
func Seal(dir string) (ed25519.PrivateKey, error) {
	path := filepath.Join(dir, "seal-key.pem")
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		return key, errors.Join(os.MkdirAll(dir, 0o700), keep(path, key))
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key: put back the one that was there, or remove it to have recordings signed by a new one",
			path)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if own, ok := key.(ed25519.PrivateKey); ok {
		return own, nil
	}
	return nil, fmt.Errorf("%s holds no Ed25519 key (%v): put back the one that was there", path, err)
}

// AuditKey is the key that signs the audit log, derived from the seal (RFC 5869), so that neither signs in the place
// of the other.
func AuditKey(seal ed25519.PrivateKey) ed25519.PrivateKey {
	seed, err := hkdf.Key(sha256.New, seal.Seed(), nil, "moorwatch audit log", ed25519.SeedSize)
	if err != nil {
		panic(err) // it asks for no more than SHA-256 gives
	}
	return ed25519.NewKeyFromSeed(seed)
}
