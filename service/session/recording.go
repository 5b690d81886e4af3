package session

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/recording"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// Limits of recordings.
const (
	recordingQueue = 256              // events that wait to be written; a slow database loses others
	recordingMost  = 64 << 20         // bytes of one; what is printed after that is not recorded
	recordingWait  = 10 * time.Second // for the database, with each piece
	recordingKept  = 180 * 24 * time.Hour
)

// recorder records what one shell prints while a connection is joined to it. What reaches the person
// is never held up by it: what the database cannot take in time is missing from the recording, which
// says so.
type recorder struct {
	store  store
	id     uuid.UUID
	writer *recording.Writer
	events chan recorded
	done   chan struct{}

	mu      sync.Mutex // of what follows: the shell and the caller speak at once
	closed  bool
	printed int64 // byte of all that the shell printed that comes next
	had     int64 // up to which an earlier connection recorded
	total   int64
	lost    int64
}

type recorded struct {
	at            time.Time
	upTo          int64 // byte of all that the shell printed
	output        []byte
	columns, rows int
	missing       int64
}

// record begins the recording of a shell, or goes on with it where its connection was lost.
func (s *Column) record(ctx context.Context, r newRecording) (*recorder, error) {
	row, err := s.store.beginRecording(ctx, r)
	if err != nil {
		return nil, err
	}
	out := &recorder{store: s.store, id: row.id, writer: recording.NewWriter(row.began), events: make(chan recorded, recordingQueue), done: make(chan struct{}), had: row.printed, total: row.bytes}
	go out.write(context.WithoutCancel(ctx))
	return out, nil
}

// event takes a message of the shell: that it begins at a byte, changes size, or has ended.
func (r *recorder) event(text []byte) {
	var e link.ShellEvent
	if json.Unmarshal(text, &e) != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.Begin != nil {
		r.printed = *e.Begin
		if gap := r.printed - r.had; gap > 0 {
			r.put(recorded{missing: gap})
			r.had = r.printed
		}
	}
}

// resize takes a message of the caller.
func (r *recorder) resize(text []byte) {
	var e link.ShellEvent
	if json.Unmarshal(text, &e) == nil && e.Resize != nil {
		r.resized(e.Resize.Columns, e.Resize.Rows)
	}
}

func (r *recorder) resized(columns, rows int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.put(recorded{columns: columns, rows: rows})
}

// print takes what the shell printed; what an earlier connection recorded is passed over.
func (r *recorder) print(p []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	begin := r.printed
	r.printed += int64(len(p))
	if r.printed <= r.had {
		return
	}
	if begin < r.had {
		p = p[r.had-begin:]
	}
	r.had = r.printed
	if r.total += int64(len(p)); r.total > recordingMost {
		r.put(recorded{missing: int64(len(p))})
		return
	}
	r.put(recorded{output: append([]byte(nil), p...)})
}

func (r *recorder) put(e recorded) {
	if r.closed { // the other side had a last word
		return
	}
	e.at, e.upTo = time.Now(), r.had
	if r.lost > 0 {
		select {
		case r.events <- recorded{at: e.at, upTo: e.upTo, missing: r.lost}:
			r.lost = 0
		default:
		}
	}
	select {
	case r.events <- e:
	default:
		r.lost += int64(len(e.output)) + e.missing
	}
}

// close ends the recording of this connection; over is true where the shell has ended too.
func (r *recorder) close(over bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return
	}
	if r.lost > 0 {
		select {
		case r.events <- recorded{at: time.Now(), upTo: r.had, missing: r.lost}:
		case <-time.After(time.Second):
		}
	}
	r.closed = true
	close(r.events)
	go func() {
		<-r.done
		left := time.Now()
		if !over { // the device hangs it up, unless a connection is joined to it again by then
			time.Sleep(link.ShellLinger)
		}
		ctx, cancel := context.WithTimeout(context.Background(), recordingWait)
		defer cancel()
		if err := r.store.endRecording(ctx, r.id, left); err != nil {
			slog.Warn("the end of a recording cannot be written", "error", err)
		}
	}()
}

func (r *recorder) write(ctx context.Context) {
	defer close(r.done)
	tick := time.NewTicker(recording.PieceAge / 4)
	defer tick.Stop()
	whole, upTo := true, int64(0)
	flush := func() {
		p := r.writer.Cut()
		if p == nil {
			return
		}
		ctx, cancel := context.WithTimeout(ctx, recordingWait)
		defer cancel()
		if err := r.store.addPiece(ctx, r.id, p, whole, upTo); err != nil {
			slog.Warn("a piece of a recording cannot be written", "error", err)
			r.writer.Miss(time.Now(), p.Bytes)
			whole = false
			return
		}
		whole = true
	}
	for {
		select {
		case e, ok := <-r.events:
			if !ok {
				flush()
				return
			}
			upTo = max(upTo, e.upTo)
			switch {
			case e.output != nil:
				r.writer.Print(e.at, e.output)
			case e.missing > 0:
				whole = false
				r.writer.Miss(e.at, e.missing)
			default:
				r.writer.Resize(e.at, e.columns, e.rows)
			}
			if r.writer.Full(e.at) {
				flush()
			}
		case now := <-tick.C:
			if r.writer.Full(now) {
				flush()
			}
		}
	}
}

// ListRecordings lists what shells printed: GET /recordings.
func (s *Column) ListRecordings(c *gin.Context, in api.ListRecordingsParams) {
	view, err := s.devices.View(c.Request.Context(), front.CallerOf(c), access.Of("recordings", access.See))
	if err != nil {
		front.Fail(c, err)
		return
	}
	text := ""
	if in.Text != nil {
		text = *in.Text
	}
	front.List(c, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.Recording, error) {
		return s.store.recordings(ctx, view, in.Device, text, before, limit)
	}, func(r api.Recording) moment { return moment{r.BeganAt, r.ID} },
		func(items []api.Recording, next *string) any { return api.RecordingPage{Items: items, Next: next} })
}

// recorded finds a recording of a device where the caller may see such.
func (s *Column) recorded(c *gin.Context, id uuid.UUID) (r api.Recording, err error) {
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	r, err = s.store.recording(ctx, id)
	if err == nil {
		place, err := s.devices.Place(ctx, r.DeviceID)
		if err != nil {
			return r, err
		}
		if caller.Rights.May(access.Of("recordings", access.See), &place) {
			return r, nil
		}
	}
	if err == nil || db.Missing(err) {
		err = front.NotFound("recording")
	}
	return r, err
}

// GetRecording tells of one recording: GET /recordings/{id}.
func (s *Column) GetRecording(c *gin.Context, id api.ID) {
	r, err := s.recorded(c, id)
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, r)
}

// PlayRecording sends what was printed: GET /recordings/{id}/content. Each playing is on record.
func (s *Column) PlayRecording(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	r, err := s.recorded(c, id)
	if err == nil {
		deed := front.DeedOf(c, "recording.play", "done")
		deed.Device, deed.DeviceName = r.DeviceID, r.Device
		deed.Detail = "of " + r.Actor + ", " + r.BeganAt.UTC().Format(time.RFC3339)
		err = s.audit.Record(ctx, deed)
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	c.Header("Content-Type", "application/x-ndjson")
	control := http.NewResponseController(c.Writer)
	for n := 0; ; n++ {
		events, err := s.store.piece(ctx, id, n)
		if db.Missing(err) {
			return
		}
		control.SetWriteDeadline(time.Now().Add(writeWithin))
		if err == nil {
			var lines io.Reader
			if lines, err = recording.Open(events); err == nil {
				_, err = io.Copy(c.Writer, lines)
			}
		}
		if err != nil {
			panic(http.ErrAbortHandler) // so that the caller does not take it for whole
		}
	}
}

// Expire removes recordings that are older than they are kept. It is run every hour.
func (s *Column) Expire(ctx context.Context) error {
	return s.store.expireRecordings(ctx, time.Now().Add(-recordingKept))
}
