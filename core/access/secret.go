package access

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Kind tells what a secret opens; it is the secret's first part, so that one kind is never taken
// for another, and one that leaks is recognised.
type Kind string

// The kinds of secret.
const (
	APIToken       Kind = "mw-api"
	EnrolmentToken Kind = "mw-enrol"
	SetUpLink      Kind = "mw-setup"
	Session        Kind = "mw-session"
	KnownBrowser   Kind = "mw-known"
)

const secretBytes = 24 // 192 random bits: far beyond guessing, so a fast hash is enough to store it

// NewSecret makes a secret of a kind from random. hint is public text carried inside it (an
// enrolment token carries the fingerprint of the service's certificate authority); it may be
// empty and must be base64url.
func NewSecret(random io.Reader, kind Kind, hint string) (string, error) {
	b := make([]byte, secretBytes)
	if _, err := io.ReadFull(random, b); err != nil {
		return "", fmt.Errorf("reading random bytes: %w", err)
	}
	s := string(kind) + "." + base64.RawURLEncoding.EncodeToString(b)
	if hint != "" {
		s += "." + hint
	}
	return s, nil
}

// ErrNotSecret is returned for text that is no secret of the kind asked for.
var ErrNotSecret = errors.New("not a secret of this kind")

// ParseSecret checks the form of a secret and returns its hint. It says nothing of its validity.
func ParseSecret(s string, kind Kind) (hint string, err error) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(s), string(kind)+".")
	random, hint, _ := strings.Cut(rest, ".")
	b, err := base64.RawURLEncoding.DecodeString(random)
	if !ok || err != nil || len(b) != secretBytes {
		return "", fmt.Errorf("%w: it must start with %q and be copied whole", ErrNotSecret, string(kind)+".")
	}
	return hint, nil
}

// HashSecret is the form in which a secret is stored and looked up: SHA-256, so that the time a
// look-up takes tells nothing of the secret.
func HashSecret(s string) []byte {
	sum := sha256.Sum256([]byte(strings.TrimSpace(s)))
	return sum[:]
}

// SameSecret compares in constant time.
func SameSecret(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// CSRF is the token that a change made by a session's cookie must carry in a header: only a page
// of this origin can read it. It is derived from the session's secret, so nothing is stored.
func CSRF(session string) string {
	mac := hmac.New(sha256.New, []byte(session))
	mac.Write([]byte("moorwatch csrf"))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

// Pause says how long to refuse sign-ins for an account or address after its latest failures:
// five are free, then 2 s, doubling to 15 minutes. Failures older than FailuresLast do not count.
func Pause(failures int) time.Duration {
	const most = 15 * time.Minute
	if failures < FreeFailures {
		return 0
	}
	return min(2*time.Second<<min(failures-FreeFailures, 20), most)
}

// FreeFailures is how many sign-ins may fail before the next must wait.
const FreeFailures = 5

// FailuresLast is how long a failed sign-in is remembered.
const FailuresLast = time.Hour
