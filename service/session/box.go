package session

import (
	"fmt"
	"net/http"

	"github.com/google/uuid"

	"moorwatch.example/core/secret"
	"moorwatch.example/service/front"
)

// box encrypts the pieces of one recording, under a key of its own. One that is nil leaves them as they are, as they were
// kept once.
type box struct {
	*secret.Box
	id uuid.UUID
}

// Parts of a piece, which are sealed apart.
const (
	pieceOf = "piece"
	wordsOf = "words"
)

// keyPurpose is what the key of a recording is sealed for.
func keyPurpose(id uuid.UUID) string { return "recording " + id.String() }

// box opens the key of a recording; nil where it has none.
func (s store) box(id uuid.UUID, sealed []byte) (*box, error) {
	if sealed == nil {
		return nil, nil
	}
	key, err := s.keys.Open(sealed, keyPurpose(id))
	if err != nil {
		return nil, errUnreadable
	}
	b, err := secret.New([]byte(key), keyPurpose(id))
	return &box{b, id}, err
}

func (b *box) purpose(part string, n int) string { return fmt.Sprintf("%s %d of %s", part, n, b.id) }

func (b *box) seal(part string, n int, plain []byte) []byte {
	if b == nil {
		return append([]byte{}, plain...) // none is not NULL
	}
	return b.SealBytes(plain, b.purpose(part, n))
}

func (b *box) open(part string, n int, sealed []byte) ([]byte, error) {
	if b == nil {
		return sealed, nil
	}
	plain, err := b.OpenBytes(sealed, b.purpose(part, n))
	if err != nil {
		return nil, errUnreadable
	}
	return plain, nil
}

// errUnreadable is answered for a recording that was changed where it is kept, or whose key is gone.
var errUnreadable = front.Problem(http.StatusUnprocessableEntity, "The recording cannot be read.",
	"It was changed in the database, or the key that it was sealed under was removed. Say so to whoever runs the service.")
