package uplink

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
)

// echo answers a note with its path and body.
var echo = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
	b, _ := io.ReadAll(r.Body)
	if r.Method != http.MethodPost {
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
	if bytes.HasPrefix(b, []byte("panic")) {
		panic(http.ErrAbortHandler)
	}
	if bytes.HasPrefix(b, []byte("refuse")) {
		w.WriteHeader(http.StatusTeapot)
	}
	fmt.Fprintf(w, "%s said %s", r.URL.Path, b)
})

// Notes are answered in order beside streams, each packed against the one before; what was lost on the
// way, or is too long, does not confuse those after it.
func TestNotes(t *testing.T) {
	device, far := pair(t)
	tell := func(body string) (int, string, error) {
		status, b, err := device.Tell(t.Context(), "/reports", []byte(body))
		return status, string(b), err
	}
	if _, _, err := tell("early"); !errors.Is(err, ErrNoNote) {
		t.Fatalf("a note that nobody takes: %v", err)
	}
	left := make(chan struct{})
	far.TakeNotes(t.Context(), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		if string(b) == "nobody waits" {
			<-left // it is answered after it was given up
		}
		r.Body = io.NopCloser(bytes.NewReader(b))
		echo(w, r)
	}))
	for i := range 600 { // numbers go round
		body := fmt.Sprintf(`{"seq":%d,"cpu":%d.5,"host":"library-kiosk-07"}`, i, i*37%100)
		status, answer, err := tell(body)
		for i == 101 && errors.Is(err, ErrNoNote) { // the one that was given up is still being answered
			status, answer, err = tell(body)
		}
		if err != nil || status != 200 || answer != "/reports said "+body {
			t.Fatalf("note %d: %d %q, %v", i, status, answer, err)
		}
		switch i {
		case 100:
			gone, cancel := context.WithCancel(t.Context())
			cancel()
			if _, _, err := device.Tell(gone, "/reports", []byte("nobody waits")); !errors.Is(err, context.Canceled) {
				t.Errorf("a note that was given up: %v", err)
			}
			close(left)
		case 200:
			if status, _, err := tell("refuse this"); status != http.StatusTeapot || err != nil {
				t.Errorf("a note that is refused: %d, %v", status, err)
			}
		case 250:
			if status, _, err := tell("panic"); status != http.StatusInternalServerError || err != nil {
				t.Errorf("a note whose handler panics: %d, %v", status, err)
			}
		case 300:
			if _, _, err := tell(strings.Repeat("x", MaxNote)); !errors.Is(err, ErrNoNote) {
				t.Errorf("a long note: %v", err)
			}
		case 400: // the service has forgotten, as if it had been another
			far.mu.Lock()
			far.taken.number ^= 1
			far.mu.Unlock()
			if _, _, err := tell("again"); !errors.Is(err, ErrNoNote) {
				t.Errorf("a note against one that is not known: %v", err)
			}
		}
	}
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			if _, answer, err := tell(fmt.Sprint("of ", i)); err != nil || answer != fmt.Sprint("/reports said of ", i) {
				t.Errorf("beside others: %q, %v", answer, err)
			}
		})
	}
	all.Wait()
	device.Close()
	if _, _, err := tell("after the end"); err == nil {
		t.Error("a note was answered after the link's end")
	}
}

// An end that does not know notes is told nothing by them, and its streams are as they were.
func TestNotesOfOneEndAlone(t *testing.T) {
	device, _ := pair(t)
	device.telling = nil
	if _, _, err := device.Tell(t.Context(), "/", nil); !errors.Is(err, ErrNoNote) {
		t.Error(err)
	}
}

// A report is mostly what the one before was: it is packed to a fraction.
func TestPackedReport(t *testing.T) {
	report := func(i int) []byte {
		return fmt.Appendf(nil,
			`{"epoch":"0b7a2c1e-5f7b-4d0c-9d1f-2a63c1b7e001","sent":"2026-11-27T08:%02d:30Z","reports":[{"seq":%d,"vitals":{"at":"2026-11-27T08:%02d:29Z","cpu":%d.1,"memory":43.2,"disks":[{"mount":"/","total_bytes":536870912000,"used_bytes":%d}]}}]}`,
			i, 4000+i, i, i*7%100, 214748364800+i*4096)
	}
	if n := len(pack(report(1), report(2))); n > 60 {
		t.Errorf("%d bytes of %d", n, len(report(2)))
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add([]byte("base"), []byte("base of it"), []byte("xx"))
	f.Fuzz(func(t *testing.T, base, b, hostile []byte) {
		base, b = base[:min(len(base), MaxNote)], b[:min(len(b), MaxNote)]
		got, err := unpack(base, pack(base, b))
		if err != nil || !bytes.Equal(got, b) {
			t.Fatalf("%q against %q came back as %q, %v", b, base, got, err)
		}
		if got, err := unpack(base, hostile); err == nil && len(got) > MaxNote {
			t.Fatalf("%d bytes", len(got))
		}
	})
}
