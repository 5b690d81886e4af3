package transfer

import (
	"encoding/base64"
	"strings"
)

// DigestHeader carries the digest of a message's content (RFC 9530), here always in its trailer.
const DigestHeader = "Content-Digest"

// ContentDigest writes a SHA-256 as that header does.
func ContentDigest(sum []byte) string {
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum) + ":"
}

// ReadContentDigest reads the SHA-256 of such a header; nil where there is none.
func ReadContentDigest(field string) []byte {
	_, rest, ok := strings.Cut(field, "sha-256=:")
	text, _, ended := strings.Cut(rest, ":")
	if !ok || !ended {
		return nil
	}
	sum, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil
	}
	return sum
}
