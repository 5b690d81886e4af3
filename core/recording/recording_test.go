package recording

import (
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestPieces(t *testing.T) {
	began := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	w := NewWriter(began)
	if w.Cut() != nil || w.Full(began) {
		t.Error("an empty writer has a piece")
	}
	w.Resize(began, 80, 24)
	w.Print(began.Add(1500*time.Millisecond), []byte("\x1b[1mroot@sal-records\x1b[0m:~# sys"))
	w.Print(began.Add(time.Second), []byte("temctl\r\n")) // a clock that goes back
	if w.Full(began.Add(time.Second)) || !w.Full(began.Add(3*time.Second)) {
		t.Error("a piece is full after two seconds")
	}
	p := w.Cut()
	if p.Words != "root@sal-records:~# systemctl\n" || p.Bytes != 39 {
		t.Errorf("%q, %d bytes", p.Words, p.Bytes)
	}
	var seconds []float64
	var out strings.Builder
	for in := json.NewDecoder(must(Open(p.Events))(t)); ; {
		var e Event
		if err := in.Decode(&e); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		seconds = append(seconds, e.Seconds)
		out.Write(e.Output)
	}
	if len(seconds) != 3 || seconds[1] != 1.5 || seconds[2] != 1.5 || out.String() != "\x1b[1mroot@sal-records\x1b[0m:~# systemctl\r\n" {
		t.Errorf("%v %q", seconds, out.String())
	}
	w.Miss(began.Add(time.Minute), 7)
	w.Print(began.Add(time.Minute), make([]byte, PieceBytes))
	if !w.Full(began.Add(time.Minute)) {
		t.Error("a piece is full when it is long")
	}
	if p = w.Cut(); !strings.HasPrefix(p.Words, "root@sal-records") {
		t.Errorf("the words of the piece before are not carried: %.40q", p.Words)
	}
}

func TestWords(t *testing.T) {
	for printed, want := range map[string]string{
		"\x1b[31;1mred\x1b[m":                "red",
		"\x1b]0;title\x07prompt$ ":           "prompt$ ",
		"\x1b]0;title\x1b\\prompt$ ":         "prompt$ ",
		"a\r\nb\rc":                          "a\nb\nc",
		"caf\xc3\xa9 \xff":                   "café �",
		"\x1b(Bplain\x00\x08":                "plain",
		"\x1b[?2004hls\x1b[?2004l\r\n\x1b[K": "ls\n",
	} {
		if got := Words([]byte(printed)); got != want {
			t.Errorf("%q: %q, want %q", printed, got, want)
		}
	}
	if Line("one\ntwo Three\nfour", "THREE") != "two Three" || Line("one", "two") != "" {
		t.Error("the line of a text")
	}
}

func FuzzWords(f *testing.F) {
	f.Add([]byte("\x1b[1mx\x1b]0;y\x07"))
	f.Fuzz(func(t *testing.T, printed []byte) {
		words := Words(printed)
		if !utf8.ValidString(words) || strings.ContainsAny(words, "\x00\x1b\r") {
			t.Fatalf("%q gives %q", printed, words)
		}
		w := NewWriter(time.Now())
		w.Print(time.Now(), printed)
		p := w.Cut()
		w.Print(time.Now(), []byte("x"))
		if len(w.Cut().Words) > carry+1 || !utf8.ValidString(p.Words) {
			t.Fatal("more is carried than should be")
		}
		Line(words, "x")
	})
}

func must[T any](v T, err error) func(*testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}
