// Package recording is what a terminal printed, with its timing: how it is gathered into pieces, and
// the words in it that can be searched. A piece is a few lines of JSON, each one event. Where pieces
// are kept is no matter of this package.
package recording

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"math"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"
)

// Event is something that was printed, a change of the terminal's size, or a stretch that is missing.
type Event struct {
	Seconds float64 `json:"seconds"` // since the recording began
	Output  []byte  `json:"output,omitempty"`
	Columns int     `json:"columns,omitempty"`
	Rows    int     `json:"rows,omitempty"`
	Missing int64   `json:"missing,omitempty"` // bytes that were printed and are not here
}

// Limits of a piece: what was printed, in bytes, and its age.
const (
	PieceBytes = 32 << 10
	PieceAge   = 2 * time.Second
)

// Piece is a stretch of a recording as it is kept.
type Piece struct {
	Events []byte // JSON lines, compressed (RFC 1952)
	Words  string // without control sequences, with the last words of the piece before
	Bytes  int64  // printed
}

// Writer gathers events into pieces.
type Writer struct {
	began   time.Time
	last    time.Time // of the latest event: time does not go back
	first   time.Time // of the piece
	events  []Event
	bytes   int64
	carried string
}

// NewWriter begins, or goes on with, a recording that began at a time.
func NewWriter(began time.Time) *Writer { return &Writer{began: began} }

func (w *Writer) add(at time.Time, e Event) {
	if at.Before(w.last) {
		at = w.last
	}
	w.last = at
	if len(w.events) == 0 {
		w.first = at
	}
	e.Seconds = max(0, math.Round(at.Sub(w.began).Seconds()*1000)/1000)
	w.events = append(w.events, e)
}

// Print adds what was printed; p is kept.
func (w *Writer) Print(at time.Time, p []byte) {
	w.bytes += int64(len(p))
	w.add(at, Event{Output: p})
}

// Resize adds a change of the terminal's size.
func (w *Writer) Resize(at time.Time, columns, rows int) {
	w.add(at, Event{Columns: columns, Rows: rows})
}

// Miss adds a stretch that was printed and is not here.
func (w *Writer) Miss(at time.Time, n int64) { w.add(at, Event{Missing: n}) }

// Full tells whether a piece has come together.
func (w *Writer) Full(now time.Time) bool {
	return w.bytes >= PieceBytes || (len(w.events) > 0 && now.Sub(w.first) >= PieceAge)
}

// carry is how many bytes of the words of one piece stand in the next too, so that what was parted by
// their border is found.
const carry = 200

// Cut ends a piece; nil where nothing was added since the last.
func (w *Writer) Cut() *Piece {
	if len(w.events) == 0 {
		return nil
	}
	var text bytes.Buffer
	var printed []byte
	zip := gzip.NewWriter(&text)
	out := json.NewEncoder(zip)
	for _, e := range w.events {
		out.Encode(e) // writing to memory cannot fail
		printed = append(printed, e.Output...)
	}
	zip.Close()
	p := &Piece{Events: text.Bytes(), Words: w.carried + Words(printed), Bytes: w.bytes}
	w.carried = p.Words[max(0, len(p.Words)-carry):]
	for len(w.carried) > 0 && !utf8.RuneStart(w.carried[0]) {
		w.carried = w.carried[1:]
	}
	w.events, w.bytes = nil, 0
	return p
}

// MaxPiece is the most that the events of a piece are unpacked to, in bytes.
const MaxPiece = 16 << 20

// Open reads the JSON lines of a piece.
func Open(events []byte) (io.Reader, error) {
	zip, err := gzip.NewReader(bytes.NewReader(events))
	if err != nil {
		return nil, err
	}
	return io.LimitReader(zip, MaxPiece), nil
}

// control matches what moves the cursor, colours or titles (ECMA-48, 5.4, and operating system
// commands up to BEL or ST).
var control = regexp.MustCompile(`\x1b\[[0-?]*[ -/]*[@-~]|\x1b\][^\x07\x1b]*(\x07|\x1b\\)?|\x1b[ -/]*[0-~]|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]`)

// Words is what a person could read of what was printed: without control sequences, with one end of
// line for each, and in valid UTF-8 without NUL.
func Words(printed []byte) string {
	text := control.ReplaceAllString(strings.ToValidUTF8(string(printed), "�"), "")
	return strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
}

// Line is the line of words in which a text stands, without regard to case; "" for none.
func Line(words, text string) string {
	at := strings.Index(strings.ToLower(words), strings.ToLower(text))
	if at < 0 || at > len(words) {
		return ""
	}
	begin := strings.LastIndexByte(words[:at], '\n') + 1
	end := len(words)
	if n := strings.IndexByte(words[at:], '\n'); n >= 0 {
		end = at + n
	}
	return strings.TrimSpace(words[begin:end])
}
