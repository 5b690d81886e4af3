package access

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"time"
)

// Entry is one deed in the audit log.
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
	Hash       []byte    `json:"-"`
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
