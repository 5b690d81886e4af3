package uplink

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"moorwatch.example/contract/link"
)

// proofLasts is how long a signed proof holds on the service's clock.
const proofLasts = time.Minute

// maxGreeting bounds one message of the greeting, in bytes.
const maxGreeting = 8 << 10

type claims struct {
	Nonce string `json:"nonce"`
	jwt.RegisteredClaims
}

// prove signs a challenge as the device. The times in it are the service's.
func prove(device string, key ed25519.PrivateKey, c link.Challenge) (string, error) {
	return jwt.NewWithClaims(jwt.SigningMethodEdDSA, claims{c.Nonce, jwt.RegisteredClaims{
		Issuer: device, Subject: device, Audience: jwt.ClaimStrings{c.Audience},
		IssuedAt: jwt.NewNumericDate(c.Time), ExpiresAt: jwt.NewNumericDate(c.Time.Add(proofLasts)),
	}}).SignedString(key)
}

// verify returns the device that signed the challenge. keyOf finds the key that the device
// enrolled with.
func verify(token string, c link.Challenge, now time.Time, keyOf func(device string) (ed25519.PublicKey, error)) (string, error) {
	var got claims
	_, err := jwt.ParseWithClaims(token, &got, func(*jwt.Token) (any, error) { return keyOf(got.Subject) },
		jwt.WithValidMethods([]string{jwt.SigningMethodEdDSA.Alg()}), jwt.WithAudience(c.Audience),
		jwt.WithExpirationRequired(), jwt.WithTimeFunc(func() time.Time { return now }), jwt.WithLeeway(2*time.Second))
	switch {
	case err != nil:
		return "", err
	case got.Nonce != c.Nonce:
		return "", errors.New("the proof answers another challenge")
	case got.Issuer != got.Subject:
		return "", errors.New("the proof's issuer is not its subject")
	}
	return got.Subject, nil
}

// send writes a message of the greeting as one line.
func send(w io.Writer, message any) error {
	b, err := json.Marshal(message)
	if err != nil {
		return err
	}
	_, err = w.Write(append(b, '\n'))
	return err
}

// receive reads one line and not a byte more, as what follows belongs to the streams.
func receive(r io.Reader, message any) error {
	line := make([]byte, 0, 256)
	for b := make([]byte, 1); ; {
		if _, err := io.ReadFull(r, b); err != nil {
			return fmt.Errorf("reading the greeting: %w", err)
		}
		if b[0] == '\n' {
			return json.Unmarshal(line, message)
		}
		if line = append(line, b[0]); len(line) > maxGreeting {
			return errors.New("link: greeting too long")
		}
	}
}
