package recording

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// Link is where the chain over a recording's pieces stands: each is the digest of the one before and
// of a piece, so that no piece can be changed, left out or put elsewhere without all after it showing
// so (SHA-256, FIPS 180-4).
type Link [sha256.Size]byte

// First is where the chain of a recording begins: it names what was recorded, whose work it was, and
// when it began, to the microsecond.
func First(recording, device, actor string, began time.Time) Link {
	return sha256.Sum256(fmt.Appendf(nil, "moorwatch recording\n%s\n%s\n%q\n%d", recording, device, actor, began.UnixMicro()))
}

// Next is where it stands after a piece.
func (l Link) Next(piece []byte) Link {
	sum := sha256.Sum256(piece)
	return sha256.Sum256(append(l[:], sum[:]...))
}

// statement is what is signed of a chain: that it stands so after n pieces, and whether the recording
// ends there.
func (l Link) statement(n int, end bool) []byte {
	b := append([]byte("moorwatch recording stands\n"), l[:]...)
	if end {
		b = append([]byte("moorwatch recording ends\n"), l[:]...)
	}
	return binary.BigEndian.AppendUint64(b, uint64(n))
}

// Sign signs where a chain stands after n pieces (Ed25519, RFC 8032).
func (l Link) Sign(key ed25519.PrivateKey, n int, end bool) []byte {
	return ed25519.Sign(key, l.statement(n, end))
}

// ErrChanged is what every error of a Verifier is: the recording is not as it was written.
var ErrChanged = errors.New("the recording is not as it was written")

// Verifier follows a recording piece by piece.
type Verifier struct {
	key  ed25519.PublicKey
	link Link
	n    int
}

// NewVerifier begins at a recording's first link.
func NewVerifier(key ed25519.PublicKey, first Link) *Verifier {
	return &Verifier{key: key, link: first}
}

// Piece looks at the next piece.
func (v *Verifier) Piece(piece, signature []byte) error {
	v.link = v.link.Next(piece)
	v.n++
	if len(v.key) != ed25519.PublicKeySize || !ed25519.Verify(v.key, v.link.statement(v.n, false), signature) {
		return fmt.Errorf("%w: piece %d, or one before it, was changed, or was signed by another service", ErrChanged, v.n)
	}
	return nil
}

// End looks whether the recording ends here.
func (v *Verifier) End(signature []byte) error {
	if len(v.key) != ed25519.PublicKeySize || !ed25519.Verify(v.key, v.link.statement(v.n, true), signature) {
		return fmt.Errorf("%w: after piece %d its end is missing", ErrChanged, v.n)
	}
	return nil
}
