package atomicfile

import (
	"bytes"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"moorwatch.example/test/scratch"
)

// A file that is read all the time is written all the same, and is never read in part.
func TestWriteWhileRead(t *testing.T) {
	path := filepath.Join(scratch.Dir(t), "state.json")
	texts := [][]byte{bytes.Repeat([]byte("a"), 5000), bytes.Repeat([]byte("b"), 9000)}
	if err := Write(path, texts[0], OnDisk); err != nil {
		t.Fatal(err)
	}
	var reading sync.WaitGroup
	done := make(chan struct{})
	reading.Go(func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(2 * time.Millisecond): // a file that is open without a pause cannot be replaced there
			}
			// Windows may refuse to open a file at the moment in which it is replaced.
			if b, err := os.ReadFile(path); err == nil && !bytes.Equal(b, texts[0]) && !bytes.Equal(b, texts[1]) {
				t.Errorf("read %d bytes", len(b))
				return
			}
		}
	})
	for i := range 60 {
		if err := Write(path, texts[i%2], Surety(i%3)); err != nil {
			t.Errorf("write %d: %v", i, err)
			break
		}
	}
	close(done)
	reading.Wait()
}

// What cannot be written leaves what was there, and nothing beside it.
func TestWriteFails(t *testing.T) {
	dir := scratch.Dir(t)
	path := filepath.Join(dir, "state.json")
	if err := os.MkdirAll(filepath.Join(path, "in the way"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := Write(path, []byte("x"), OnDisk); err == nil {
		t.Error("a folder was replaced")
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 1 {
		t.Errorf("left: %v %v", entries, err)
	}
}
