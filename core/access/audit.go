package access

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Entry is one action in the audit log.
type Entry struct {
	Seq        int64     `json:"seq"` // 1, 2, 3, … without a gap
	At         time.Time `json:"at"`  // microseconds, UTC
	Actor      string    `json:"actor"`
	Via        string    `json:"via"`
	Action     string    `json:"action"`
	Device     string    `json:"device"`
	DeviceName string    `json:"device_name"`
	Detail     string    `json:"detail"`
	Address    string    `json:"address"`
	Result     string    `json:"result"`
	// ActorID and ViaID are the identities of the person and of the API token, which no other comes to have.
	ActorID string `json:"actor_id,omitempty"`
	ViaID   string `json:"via_id,omitempty"`
	Hash    []byte `json:"-"`
	// Signature is the service's over the hash, by the key that KeyID names.
	Signature []byte `json:"-"`
	KeyID     string `json:"-"`
}

// Chain returns the hash of an entry: SHA-256 over the hash before it and the entry's JSON. The
// first entry follows an empty hash.
func Chain(before []byte, e Entry) []byte {
	e.At = e.At.UTC().Truncate(time.Microsecond) // what the database keeps
	text, err := json.Marshal(e)
	if err != nil {
		panic(err) // strings, an integer and a time always marshal
	}
	h := sha256.New()
	h.Write(before)
	h.Write(text)
	return h.Sum(nil)
}

// entrySigned begins what is signed of an entry, so that no signature is taken for one of something else.
const entrySigned = "moorwatch audit entry\x00"

// SignEntry signs an entry by its hash.
func SignEntry(key ed25519.PrivateKey, hash []byte) []byte {
	return ed25519.Sign(key, append([]byte(entrySigned), hash...))
}

// KeyID names a public key: the first 8 bytes of its SHA-256, in hexadecimal.
func KeyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return hex.EncodeToString(sum[:8])
}

// VerifySignature checks an entry's signature by the keys that are known. Entries from before they were signed
// have none.
func VerifySignature(keys map[string]ed25519.PublicKey, e Entry) error {
	if e.KeyID == "" && len(e.Signature) == 0 {
		return ErrUnsigned
	}
	key := keys[e.KeyID]
	if len(key) != ed25519.PublicKeySize {
		return fmt.Errorf("entry %d is signed by a key that is not known, %q", e.Seq, e.KeyID)
	}
	if !ed25519.Verify(key, append([]byte(entrySigned), e.Hash...), e.Signature) {
		return fmt.Errorf("entry %d was not signed by the service: its signature does not hold", e.Seq)
	}
	return nil
}

// ErrUnsigned is returned for an entry without a signature.
var ErrUnsigned = errors.New("the entry is not signed")

// Verify checks that e follows the entry numbered seq with the given hash.
func Verify(seq int64, before []byte, e Entry) error {
	if e.Seq != seq+1 {
		return fmt.Errorf("entry %d follows entry %d: entries are missing", e.Seq, seq)
	}
	if !bytes.Equal(Chain(before, e), e.Hash) {
		return fmt.Errorf("entry %d or the one before it was altered: its hash does not match", e.Seq)
	}
	return nil
}
