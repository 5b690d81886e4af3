package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"io"
)

// KeyBytes is how long the key of one recording or file is.
const KeyBytes = 32

// NewKey makes the key of one recording or file. It is kept sealed beside it, so that a change of the key that it is
// sealed under leaves what it encrypts as it is.
func NewKey() []byte {
	key := make([]byte, KeyBytes)
	rand.Read(key)
	return key
}

// Stream encrypts or decrypts bytes of a file in place, the first of them at an offset of it (AES-256 in counter mode,
// NIST SP 800-38A). The key is that of one content alone, and never used for another; that the file is whole is to be
// shown by its digest.
func Stream(key []byte, offset int64) (cipher.Stream, error) {
	if len(key) != KeyBytes || offset < 0 {
		return nil, errors.New("a file is encrypted under a key of 32 bytes, from an offset on")
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	iv := make([]byte, aes.BlockSize)
	for i, n := aes.BlockSize-1, uint64(offset/aes.BlockSize); n > 0; i, n = i-1, n>>8 {
		iv[i] = byte(n)
	}
	s := cipher.NewCTR(block, iv)
	skip := make([]byte, offset%aes.BlockSize)
	s.XORKeyStream(skip, skip)
	return s, nil
}

// Reader decrypts a file from where it stands, which is offset.
func Reader(r io.Reader, key []byte, offset int64) (io.Reader, error) {
	s, err := Stream(key, offset)
	return &cipher.StreamReader{S: s, R: r}, err
}

// Writer encrypts what is appended to a file at offset.
func Writer(w io.Writer, key []byte, offset int64) (io.Writer, error) {
	s, err := Stream(key, offset)
	return &cipher.StreamWriter{S: s, W: w}, err
}
