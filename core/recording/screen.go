package recording

import (
	"encoding/binary"
	"errors"
	"math"
	"time"
)

// Kinds of an entry of a screen's recording.
const (
	EntryUpdate = 1 // of the picture, as core/screen writes it
	EntryEvent  = 2 // a text message from the device
	EntryMark   = 3 // what the viewer did: a ScreenInput without what a key meant or a clipboard held
	EntryGap    = 4 // something is missing here; the next update needs none before it
)

// Entry is one thing that happened on a screen.
type Entry struct {
	At   time.Duration // since the recording began, in whole milliseconds
	Kind byte
	Data []byte
}

// Limits of a piece of a screen's recording.
const (
	ScreenPieceBytes = 512 << 10
	ScreenPieceAge   = 5 * time.Second
	maxEntry         = 64 << 20
)

// Append adds an entry to a piece: its kind, and its time and length as numbers of variable length.
func (e Entry) Append(piece []byte) []byte {
	piece = append(piece, e.Kind)
	piece = binary.AppendUvarint(piece, uint64(max(e.At.Milliseconds(), 0)))
	piece = binary.AppendUvarint(piece, uint64(len(e.Data)))
	return append(piece, e.Data...)
}

var errEntry = errors.New("an entry of the recording cannot be read")

// Entries calls each with the entries of a piece. Data is within piece.
func Entries(piece []byte, each func(Entry) error) error {
	for len(piece) > 0 {
		e := Entry{Kind: piece[0]}
		piece = piece[1:]
		at, n := binary.Uvarint(piece)
		if n <= 0 || at > math.MaxInt64/uint64(time.Millisecond) {
			return errEntry
		}
		piece = piece[n:]
		length, n := binary.Uvarint(piece)
		if n <= 0 || length > maxEntry || length > uint64(len(piece)-n) {
			return errEntry
		}
		e.At, e.Data, piece = time.Duration(at)*time.Millisecond, piece[n:n+int(length)], piece[n+int(length):]
		if err := each(e); err != nil {
			return err
		}
	}
	return nil
}
