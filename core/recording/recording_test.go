package recording

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"moorwatch.example/core/screen"
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

// A recording that was changed in any way is told from one that was not.
func TestSeal(t *testing.T) {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	began := time.Unix(1_800_000_000, 123_456_000)
	first := First("r", "d", "robin", began)
	pieces := [][]byte{[]byte("one"), []byte("two"), {}, []byte("four")}
	var signatures [][]byte
	link := first
	for i, p := range pieces {
		link = link.Next(p)
		signatures = append(signatures, link.Sign(key, i+1, false))
	}
	end := link.Sign(key, len(pieces), true)
	verify := func(first Link, pieces, signatures [][]byte, end []byte) error {
		v := NewVerifier(public, first)
		for i, p := range pieces {
			if err := v.Piece(p, signatures[i]); err != nil {
				return err
			}
		}
		return v.End(end)
	}
	if err := verify(first, pieces, signatures, end); err != nil {
		t.Fatal(err)
	}
	for name, err := range map[string]error{
		"another's":    verify(First("r", "d", "wren", began), pieces, signatures, end),
		"later":        verify(First("r", "d", "robin", began.Add(time.Microsecond)), pieces, signatures, end),
		"a byte":       verify(first, [][]byte{[]byte("one"), []byte("twO"), {}, []byte("four")}, signatures, end),
		"cut short":    verify(first, pieces[:3], signatures[:3], end),
		"no end":       verify(first, pieces, signatures, signatures[3]),
		"out of order": verify(first, [][]byte{pieces[1], pieces[0], pieces[2], pieces[3]}, signatures, end),
		"a part is out": verify(first, [][]byte{pieces[0], pieces[2], pieces[3]}, [][]byte{signatures[0], signatures[2], signatures[3]},
			end),
	} {
		if !errors.Is(err, ErrChanged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzEntries(f *testing.F) {
	f.Add(Entry{At: time.Second, Kind: EntryUpdate, Data: []byte("x")}.Append(Entry{Kind: EntryGap}.Append(nil)))
	f.Fuzz(func(t *testing.T, piece []byte) {
		var again []byte
		err := Entries(piece, func(e Entry) error { again = e.Append(again); return nil })
		if err != nil {
			return
		}
		n := 0
		if err := Entries(again, func(Entry) error { n++; return nil }); err != nil {
			t.Errorf("what was written again cannot be read: %v", err)
		}
	})
}

// A film has a picture for each moment, and pauses are cut.
func TestFilm(t *testing.T) {
	p, err := screen.NewPicture(64, 48)
	if err != nil {
		t.Fatal(err)
	}
	e := screen.NewEncoder()
	path := t.TempDir() + "/film.avi"
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	film := NewFilm(f, 10, 2*time.Second)
	for _, at := range []time.Duration{0, time.Second, time.Minute} {
		p.Pix[0]++
		e.Damage(p.Bounds())
		if err := film.Entry(Entry{At: at, Kind: EntryUpdate, Data: e.Update(p, screen.Wish{})}); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(film.Close(), f.Close()); err != nil {
		t.Fatal(err)
	}
	if film.Pictures != 31 || film.Lasts() != 3100*time.Millisecond {
		t.Errorf("%d pictures last %s", film.Pictures, film.Lasts())
	}
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if n := binary.LittleEndian.Uint32(b[4:]); int(n)+8 != len(b) || string(b[:4]) != "RIFF" || string(b[filmHead-4:filmHead]) != "movi" ||
		string(b[filmHead:filmHead+4]) != "00dc" {
		t.Errorf("the head tells of %d bytes of %d: %q", n, len(b), b[:filmHead])
	}
	if _, err := exec.LookPath("ffprobe"); err == nil {
		out, err := exec.Command("ffprobe", "-v", "error", "-count_packets", "-show_entries",
			"stream=codec_name,width,height,nb_read_packets", "-of", "csv=p=0", path).CombinedOutput()
		if err != nil || !strings.HasPrefix(string(out), "mjpeg,64,48,") {
			t.Errorf("a player reads %s, %v", out, err)
		}
	}
}
