package session

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/recording"
	"moorwatch.example/core/screen"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// Limits of a screen's recording.
const (
	screenQueue = 16 << 20 // bytes that wait to be written; a slow database loses what comes then
	screenMost  = 2 << 30  // bytes of one; what follows is not recorded
)

// recorder records what one viewer is shown of a screen, as it is encoded, and that they did something.
// What reaches the viewer is never held up by it: what the database cannot take in time is missing, and
// the picture is then begun anew.
type screenRecorder struct {
	store store
	id    uuid.UUID
	began time.Time
	seal  seal
	again func() // has the device begin the picture anew
	news  chan struct{}
	done  chan struct{}

	mu      sync.Mutex
	waiting []recording.Entry
	bytes   int
	total   int64
	gap     bool // updates are left out until one that needs none before it
	missed  bool
	over    bool
}

// recordScreen begins the recording of a screen. again has the device begin the picture anew.
func (s *Service) recordScreen(ctx context.Context, r newRecording, again func()) (*screenRecorder, error) {
	r.kind = "screen"
	row, err := s.store.beginRecording(ctx, r)
	if err != nil {
		return nil, err
	}
	out := &screenRecorder{store: s.store, id: row.id, began: time.Now(), seal: row.seal.with(s.seal), again: again,
		news: make(chan struct{}, 1), done: make(chan struct{})}
	s.recorders.mu.Lock()
	defer s.recorders.mu.Unlock()
	if s.recorders.screens == nil {
		s.recorders.screens = map[*screenRecorder]bool{}
	}
	s.recorders.screens[out] = true
	go func() {
		out.write(context.WithoutCancel(ctx))
		close(out.done)
		s.recorders.mu.Lock()
		defer s.recorders.mu.Unlock()
		delete(s.recorders.screens, out)
	}()
	return out, nil
}

// and has a recorder see messages too.
func (r *screenRecorder) and(t taps) taps {
	return taps{
		out: func(kind websocket.MessageType, p []byte) {
			t.out(kind, p)
			if kind == websocket.MessageBinary {
				r.put(recording.EntryUpdate, p)
			} else {
				r.put(recording.EntryEvent, p)
			}
		},
		in: func(kind websocket.MessageType, p []byte) {
			t.in(kind, p)
			if kind == websocket.MessageText {
				r.put(recording.EntryMark, p)
			}
		},
	}
}

// kept is what is recorded of an entry as it passed, nothing for some, with what people wrote to each
// other in it, by which a recording is found.
func kept(e recording.Entry) (_ recording.Entry, words string) {
	switch e.Kind {
	case recording.EntryEvent:
		e.Data, words = event(e.Data)
	case recording.EntryMark:
		e.Data = mark(e.Data)
	}
	return e, words
}

// event is an event of the device, without what was copied there.
func event(p []byte) (_ []byte, words string) {
	var e link.ScreenEvent
	if json.Unmarshal(p, &e) != nil || e.Link != nil {
		return nil, ""
	}
	if e.Clip != nil {
		e.Clip = &link.ScreenClip{}
	}
	if e.Note != nil {
		words = e.Note.Name + ": " + e.Note.Text + "\n"
	}
	text, err := json.Marshal(e)
	if err != nil {
		return nil, ""
	}
	return text, words
}

// mark is what a viewer did, without what the keys meant and what was copied: those may be secrets.
func mark(p []byte) []byte {
	var in link.ScreenInput
	if json.Unmarshal(p, &in) != nil {
		return nil
	}
	if in.Key != nil {
		in.Key = &link.ScreenKey{Down: in.Key.Down}
	}
	if in.Text != "" {
		in.Text, in.Key = "", &link.ScreenKey{Down: true}
	}
	if in.Clip != nil {
		in.Clip = &link.ScreenClip{}
	}
	in.Drawn, in.Options = 0, nil
	text, err := json.Marshal(in)
	if err != nil || len(text) <= len("{}") {
		return nil
	}
	return text
}

func (r *screenRecorder) put(kind byte, p []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.over {
		return
	}
	e := recording.Entry{At: time.Since(r.began), Kind: kind, Data: p}
	switch {
	case r.total > screenMost || r.bytes > screenQueue:
		if !r.gap {
			r.gap, r.missed = true, true
			r.waiting = append(r.waiting, recording.Entry{At: e.At, Kind: recording.EntryGap})
		}
		return
	case r.gap && kind == recording.EntryUpdate && !screen.Whole(p):
		return
	case kind == recording.EntryUpdate:
		r.gap = false
	}
	r.waiting = append(r.waiting, e)
	r.bytes += len(p)
	r.total += int64(len(p))
	select {
	case r.news <- struct{}{}:
	default:
	}
}

// close has what waits written.
func (r *screenRecorder) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.over {
		r.over = true
		close(r.news)
	}
}

// write writes pieces as they come together.
func (r *screenRecorder) write(ctx context.Context) {
	tick := time.NewTicker(recording.ScreenPieceAge)
	defer tick.Stop()
	var piece []byte
	words := ""
	for open := true; open; {
		old := false
		select {
		case _, open = <-r.news:
		case <-tick.C:
			old = true
		}
		r.mu.Lock()
		entries, missed, resume := r.waiting, r.missed, r.gap && r.total <= screenMost && r.bytes <= screenQueue
		r.waiting, r.bytes, r.missed = nil, 0, false
		r.mu.Unlock()
		if resume {
			r.again()
		}
		for _, e := range entries {
			e, said := kept(e)
			if e.Kind == recording.EntryGap || e.Data != nil {
				piece = e.Append(piece)
			}
			words += said
		}
		if len(piece) == 0 || open && !old && len(piece) < recording.ScreenPieceBytes {
			continue
		}
		within, cancel := context.WithTimeout(ctx, recordingWait)
		err := r.seal.add(within, r.store, r.id, sealed{content: piece, words: []byte(words), bytes: int64(len(piece)), whole: !missed})
		cancel()
		if err != nil {
			slog.Warn("a piece of a recording cannot be written", "error", err)
			r.mu.Lock()
			r.gap, r.missed = true, true
			r.waiting = append([]recording.Entry{{At: time.Since(r.began), Kind: recording.EntryGap}}, r.waiting...)
			r.mu.Unlock()
		}
		piece, words = nil, ""
	}
	within, cancel := context.WithTimeout(ctx, recordingWait)
	defer cancel()
	if err := r.store.endRecording(within, r.id, r.seal.end(), true); err != nil {
		slog.Warn("the end of a recording cannot be written", "error", err)
	}
}

// GetRecordingPiece sends a piece: GET /recordings/{id}/pieces/{n}. Reading the first is on record.
func (s *Service) GetRecordingPiece(c *gin.Context, id api.ID, n int) {
	front.Serve(c, func() error {
		r, err := s.recorded(c, id)
		if err != nil {
			return err
		}
		if n == 0 {
			if err := s.played(c, r); err != nil {
				return err
			}
		}
		piece, err := s.store.piece(c.Request.Context(), id, n)
		if db.Missing(err) {
			return front.NotFound("piece of the recording")
		}
		if err != nil {
			return err
		}
		c.Data(http.StatusOK, "application/octet-stream", piece)
		return nil
	})
}

// GetRecordingProof tells what seals a recording: GET /recordings/{id}/proof.
func (s *Service) GetRecordingProof(c *gin.Context, id api.ID) {
	r, err := s.recorded(c, id)
	var p api.RecordingProof
	if err == nil {
		p, err = s.store.proof(c.Request.Context(), id)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	first := recording.First(r.ID.String(), r.DeviceID.String(), r.Actor, r.BeganAt)
	p.Key, p.First = publicOf(s.seal), first[:]
	c.JSON(http.StatusOK, p)
}
