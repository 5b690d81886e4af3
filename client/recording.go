package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/recording"
)

// maxPiece is the most that a piece of a recording holds, in bytes.
const maxPiece = 80 << 20

// pieces calls each with the pieces of a recording, in their order.
func (c *Client) pieces(ctx context.Context, r *api.Recording, each func(n int, piece []byte) error) error {
	for n := range r.Pieces {
		answer, err := c.GetRecordingPiece(ctx, r.ID, n)
		if err != nil {
			return err
		}
		if answer.StatusCode != http.StatusOK {
			err = Refusal(answer)
			answer.Body.Close()
			if answer.StatusCode == http.StatusUnprocessableEntity { // it cannot even be decrypted
				err = fmt.Errorf("%w: %w", recording.ErrChanged, err)
			}
			return err
		}
		piece, err := io.ReadAll(io.LimitReader(answer.Body, maxPiece))
		answer.Body.Close()
		if err == nil {
			err = each(n, piece)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Entries calls each with what happened on a screen that was recorded.
func (c *Client) Entries(ctx context.Context, id uuid.UUID, each func(recording.Entry) error) error {
	r, err := Result(c.GetRecordingWithResponse(ctx, id))
	if err != nil {
		return err
	}
	if r.Kind != "screen" {
		return errors.New("this is the recording of a shell, not of a screen")
	}
	return c.pieces(ctx, r, func(_ int, piece []byte) error { return recording.Entries(piece, each) })
}

// Verified is what was found of a recording that is as it was written.
type Verified struct {
	Key    []byte // of the service that signed it
	Pieces int
	Ended  bool // nothing is missing at its end
}

// Verify looks whether a recording is as it was written: by the service of a key, or, where none is
// given, of the one that the service tells. Otherwise the error is recording.ErrChanged.
func (c *Client) Verify(ctx context.Context, id uuid.UUID, key []byte) (Verified, error) {
	r, err := Result(c.GetRecordingWithResponse(ctx, id))
	if err != nil {
		return Verified{}, err
	}
	proof, err := Result(c.GetRecordingProofWithResponse(ctx, id))
	if err != nil {
		return Verified{}, err
	}
	if len(key) == 0 {
		key = proof.Key
	}
	if len(proof.Signatures) != r.Pieces {
		return Verified{}, fmt.Errorf("%w: it has %d pieces, and %d are signed", recording.ErrChanged, r.Pieces, len(proof.Signatures))
	}
	v := recording.NewVerifier(key, recording.First(r.ID.String(), r.DeviceID.String(), r.Actor, r.BeganAt))
	err = c.pieces(ctx, r, func(n int, piece []byte) error { return v.Piece(piece, proof.Signatures[n]) })
	if err != nil {
		return Verified{}, err
	}
	out := Verified{Key: key, Pieces: r.Pieces}
	if proof.EndSignature != nil {
		err = v.End(*proof.EndSignature)
		out.Ended = err == nil
	}
	return out, err
}
