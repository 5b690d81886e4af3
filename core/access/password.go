package access

import (
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// The cost of one password hash: OWASP's first recommendation for argon2id (19 MiB, 2 passes).
const (
	argonMemory = 19 * 1024 // KiB
	argonPasses = 2
	argonLanes  = 1
	argonKey    = 32 // bytes
	argonSalt   = 16 // bytes
)

// MinPassword is the fewest characters of a password. Nothing is asked of it but length, and that others have not
// chosen it, as NIST SP 800-63B advises.
const MinPassword = 12

// CheckPassword says what is wrong with a new password, or nil.
func CheckPassword(password, email string) error {
	switch {
	case utf8.RuneCountInString(password) < MinPassword:
		return fmt.Errorf("the password needs at least %d characters; a few unrelated words are easiest to remember", MinPassword)
	case len(password) > 1024:
		return errors.New("the password is longer than 1024 bytes; choose a shorter one")
	case ofEmail(password, email):
		return errors.New("the password is made of the e-mail address; choose another")
	case Common(password):
		return errors.New("others have chosen this password, or one much like it, and guessers try it first; a few unrelated words are " +
			"easiest to remember")
	}
	return nil
}

// ofEmail tells whether a password is an e-mail address, or a part of it over and over.
func ofEmail(password, email string) bool {
	small, email := strings.ToLower(password), strings.ToLower(email)
	if small == email {
		return true
	}
	name, domain, _ := strings.Cut(email, "@")
	domain, _, _ = strings.Cut(domain, ".")
	for _, part := range []string{name, domain} {
		rest := strings.ReplaceAll(small, part, "")
		if len(part) >= 3 && 3*len(rest) < len(small) {
			return true
		}
	}
	return false
}

// HashPassword hashes with argon2id (RFC 9106) in the PHC string format, with a salt from random.
func HashPassword(random io.Reader, password string) (string, error) {
	salt := make([]byte, argonSalt)
	if _, err := io.ReadFull(random, salt); err != nil {
		return "", fmt.Errorf("reading a salt: %w", err)
	}
	key := argon2.IDKey([]byte(password), salt, argonPasses, argonMemory, argonLanes, argonKey)
	b64 := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonLanes, b64(salt), b64(key)),
		nil
}

// VerifyPassword tells whether password gives hash, in time that does not depend on where they
// differ. A malformed hash never verifies.
func VerifyPassword(hash, password string) bool {
	var version, memory, passes int
	var lanes uint8
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2], "v=%d", &version); err != nil || version != argon2.Version {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &lanes); err != nil ||
		memory < 8 || memory > 1<<20 || passes < 1 || passes > 100 || lanes < 1 {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) < 16 || len(want) > 64 {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory), lanes, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}
