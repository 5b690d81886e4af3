package access

import (
	"io"
	"strings"
	"time"

	"github.com/pquerna/otp/totp"
)

// codeStep is how long one code of an authenticator holds (RFC 6238, 5.2), in seconds.
const codeStep = 30

// MatchCode finds the step that a code of an authenticator belongs to: the present one, the one
// before or the one after. A step that is not after last has been used, and does not match again
// (RFC 6238, 5.2).
func MatchCode(secret, code string, now time.Time, last int64) (step int64, ok bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	at := now.Unix() / codeStep
	for _, s := range []int64{at, at - 1, at + 1} {
		want, err := totp.GenerateCode(secret, time.Unix(s*codeStep, 0))
		if err == nil && SameSecret(want, code) && s > last {
			step, ok = s, true
		}
	}
	return step, ok
}

// RecoveryCodes is how many recovery codes a person is given.
const RecoveryCodes = 10

const recoveryLetters = "0123456789abcdefghjkmnpqrstvwxyz" // 32, without i, l, o and u

// NewRecoveryCode makes a recovery code of 80 random bits, in four groups of four.
func NewRecoveryCode(random io.Reader) (string, error) {
	b := make([]byte, 16)
	if _, err := io.ReadFull(random, b); err != nil {
		return "", err
	}
	var text strings.Builder
	for i, x := range b {
		if i > 0 && i%4 == 0 {
			text.WriteByte('-')
		}
		text.WriteByte(recoveryLetters[x%32])
	}
	return text.String(), nil
}

// HashRecovery is the form in which a recovery code is stored and looked up, however it was typed.
func HashRecovery(code string) []byte {
	return HashSecret(strings.NewReplacer("-", "", " ", "", "o", "0", "i", "1", "l", "1").Replace(strings.ToLower(code)))
}
