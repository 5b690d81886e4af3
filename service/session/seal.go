package session

import (
	"context"
	"crypto/ed25519"

	"github.com/google/uuid"

	"moorwatch.example/core/recording"
)

// seal is where the chain over a recording's pieces stands, and what signs it.
type seal struct {
	key    ed25519.PrivateKey
	box    *box // that encrypts the pieces
	link   recording.Link
	pieces int
}

func (s seal) with(key ed25519.PrivateKey) seal {
	s.key = key
	return s
}

// add signs a piece and has it kept; the chain goes on only where it was.
func (s *seal) add(ctx context.Context, st store, id uuid.UUID, p sealed) error {
	p.n, p.link = s.pieces, s.link.Next(p.content)
	p.signature = p.link.Sign(s.key, s.pieces+1, false)
	p.content, p.words = s.box.seal(pieceOf, p.n, p.content), s.box.seal(wordsOf, p.n, p.words)
	if err := st.addPiece(ctx, id, p); err != nil {
		return err
	}
	s.link, s.pieces = p.link, s.pieces+1
	return nil
}

func publicOf(key ed25519.PrivateKey) []byte { return key.Public().(ed25519.PublicKey) }

// end signs that nothing follows.
func (s *seal) end() []byte { return s.link.Sign(s.key, s.pieces, true) }
