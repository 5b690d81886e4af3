package reporting

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"path/filepath"
	"strings"
)

// MayLeave tells whether the agent of a folder may be taken off its device: where a policy protects it, the
// code is needed that the console tells.
func MayLeave(dir, code string) error {
	want := openSettings(filepath.Join(dir, "settings.json")).Agent().RemovalDigest
	if want == "" {
		return nil
	}
	sum := sha256.Sum256([]byte(strings.ToLower(strings.TrimSpace(code))))
	if subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(want)) == 1 {
		return nil
	}
	if code == "" {
		return errors.New("a policy protects this agent: give --code with the removal code that the console tells at the device, or " +
			"remove the agent there")
	}
	return errors.New("this is not the removal code of this device")
}
