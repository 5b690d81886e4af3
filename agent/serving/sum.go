package serving

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
)

// sum digests what is read through it.
type sum struct {
	io.Reader
	hash hash.Hash
}

func newSum(r io.Reader) *sum {
	h := sha256.New()
	return &sum{io.TeeReader(r, h), h}
}

func (s *sum) digest() string { return hex.EncodeToString(s.hash.Sum(nil)) }
