package recording

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"time"

	"moorwatch.example/core/screen"
)

// disk is a file of so many bytes; what is written beyond fails.
type disk struct {
	left int
	at   int64
}

var errFull = errors.New("the disk is full")

func (d *disk) Write(p []byte) (int, error) {
	if len(p) > d.left {
		return 0, errFull
	}
	d.left -= len(p)
	return len(p), nil
}

func (d *disk) Seek(offset int64, whence int) (int64, error) {
	d.at = offset
	return offset, nil
}

// A disk that is full is told of wherever it fills up, and a film keeps its size when the desktop does not.
func TestFilmOnAFullDisk(t *testing.T) {
	film := func(out io.WriteSeeker) error {
		f := NewFilm(out, 5, 0)
		e := screen.NewEncoder()
		for i, size := range []int{32, 32, 64, 16} {
			p, err := screen.NewPicture(size, size)
			if err != nil {
				t.Fatal(err)
			}
			p.Pix[0] = uint32(i)
			e.Damage(p.Bounds())
			if err := f.Entry(Entry{At: time.Duration(i) * time.Second, Kind: EntryUpdate, Data: e.Update(p, screen.Wish{})}); err != nil {
				return err
			}
			if err := f.Entry(Entry{At: time.Duration(i) * time.Second, Kind: EntryMark}); err != nil {
				return err
			}
		}
		return f.Close()
	}
	enough := 1 << 20
	if err := film(&disk{left: enough}); err != nil {
		t.Fatal(err)
	}
	failed := 0
	for left := 0; left < 20_000; left += 97 {
		if err := film(&disk{left: left}); errors.Is(err, errFull) {
			failed++
		} else if err != nil {
			t.Fatalf("%d bytes: %v", left, err)
		}
	}
	if failed < 10 {
		t.Errorf("%d disks were full", failed)
	}
	if err := NewFilm(&disk{}, 5, 0).Close(); err == nil {
		t.Error("a film of nothing was made")
	}
	if err := NewFilm(&disk{left: enough}, 5, 0).Entry(Entry{Kind: EntryUpdate, Data: []byte("no update")}); err == nil {
		t.Error("what is no picture was filmed")
	}
}

func TestEntriesThatCannotBeRead(t *testing.T) {
	good := Entry{At: 3 * time.Second, Kind: EntryUpdate, Data: []byte("moss")}.Append(nil)
	n := 0
	if err := Entries(append(good, good...), func(e Entry) error {
		if n++; e.At != 3*time.Second || string(e.Data) != "moss" {
			t.Errorf("%+v", e)
		}
		return nil
	}); err != nil || n != 2 {
		t.Errorf("%d entries, %v", n, err)
	}
	for cut := 1; cut < len(good); cut++ {
		if err := Entries(good[:cut], func(Entry) error { return nil }); err == nil {
			t.Errorf("an entry that is cut after %d bytes was read", cut)
		}
	}
	if err := Entries(append([]byte{1}, bytes.Repeat([]byte{255}, 20)...), func(Entry) error { return nil }); err == nil {
		t.Error("a time without end was read")
	}
	stop := errors.New("enough")
	if err := Entries(good, func(Entry) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("%v", err)
	}
	if _, err := Open([]byte("no piece")); err == nil {
		t.Error("what is no piece was opened")
	}
}
