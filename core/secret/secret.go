// Package secret keeps secrets that must be read again, such as passwords of consoles: encrypted and
// authenticated (AES-256-GCM, NIST SP 800-38D) under a key that the database does not hold, and bound to
// what they are for, so that one that is moved elsewhere cannot be read there.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"errors"
)

// Box seals and opens secrets.
type Box struct{ aead cipher.AEAD }

// ErrKey is returned for what was sealed under another key, or for something else, or was changed.
var ErrKey = errors.New("the secret cannot be read with the service's key: give it again")

// New makes a box whose key is derived from seed (RFC 5869), which is at least 16 bytes of chance, for the use that is
// named: what is sealed for one use cannot be read by the key of another.
func New(seed []byte, use string) (*Box, error) {
	if len(seed) < 16 {
		return nil, errors.New("the seed is shorter than 16 bytes")
	}
	key, err := hkdf.Key(sha256.New, seed, nil, "moorwatch "+use, 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		return nil, err
	}
	return &Box{aead}, nil
}

// SealBytes is Seal for bytes, of which none are sealed too.
func (b *Box) SealBytes(plain []byte, purpose string) []byte {
	return b.aead.Seal(nil, nil, plain, []byte(purpose))
}

// OpenBytes is Open for what SealBytes returned.
func (b *Box) OpenBytes(sealed []byte, purpose string) ([]byte, error) {
	plain, err := b.aead.Open(nil, nil, sealed, []byte(purpose))
	if err != nil {
		return nil, ErrKey
	}
	return plain, nil
}

// Seal returns a secret as it may be kept; purpose says what it is for, and is no secret. An empty
// secret is kept as nil.
func (b *Box) Seal(text, purpose string) []byte {
	if text == "" {
		return nil
	}
	return b.aead.Seal(nil, nil, []byte(text), []byte(purpose))
}

// Open returns what was sealed for a purpose.
func (b *Box) Open(sealed []byte, purpose string) (string, error) {
	if len(sealed) == 0 {
		return "", nil
	}
	text, err := b.aead.Open(nil, nil, sealed, []byte(purpose))
	if err != nil {
		return "", ErrKey
	}
	return string(text), nil
}
