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
)

// recorder records what one shell prints, through all connections that are joined to it on this node.
// What reaches the person is never held up by it: what the database cannot take in time is missing
// from the recording, which says so.
type recorder struct {
	store  store
	id     uuid.UUID
	key    recorderKey
	seal   seal
	writer *recording.Writer
	events chan recorded
	done   chan struct{}

	mu     sync.Mutex // of what follows: the shell and the caller speak at once
	users  int        // connections that are joined
	closed bool
	had    int64 // byte of all that the shell printed up to which it is recorded
	total  int64
	lost   int64
}

// connectionRecorder is a recorder as one connection to the shell has it.
type connectionRecorder struct {
	*recorder
	printed int64 // byte of all that the shell printed that comes next on this connection
}

type recorderKey struct{ device, shell uuid.UUID }

// recorders are those of this node, each until its shell has ended or must have been hung up.
type recorders struct {
	mu      sync.Mutex
	open    map[recorderKey]*recorder
	screens map[*screenRecorder]bool // of screens
}

type recorded struct {
	at            time.Time
	upTo          int64 // byte of all that the shell printed
	output        []byte
	columns, rows int
	missing       int64
}

// record begins the recording of a shell, or goes on with it where a connection was there before. The
// caller leaves it.
func (s *Service) record(ctx context.Context, r newRecording) (*connectionRecorder, error) {
	key := recorderKey{r.device, r.shell}
	r.kind = "shell"
	s.recorders.mu.Lock()
	defer s.recorders.mu.Unlock()
	if have := s.recorders.open[key]; have != nil && have.join() {
		return &connectionRecorder{recorder: have}, nil
	}
	row, err := s.store.beginRecording(ctx, r)
	if err != nil {
		return nil, err
	}
	out := &recorder{store: s.store, id: row.id, key: key, seal: row.seal.with(s.seal), writer: recording.NewWriter(row.began),
		events: make(chan recorded, recordingQueue), done: make(chan struct{}),
		users: 1, had: row.printed, total: row.bytes}
	if s.recorders.open == nil {
		s.recorders.open = map[recorderKey]*recorder{}
	}
	s.recorders.open[key] = out
	go out.write(context.WithoutCancel(ctx))
	return &connectionRecorder{recorder: out}, nil
}

func (r *recorder) join() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return false
	}
	r.users++
	return true
}

// leave tells that a connection is over. The recording ends with its shell, or when the device must
// have hung it up since nobody joined it again.
func (s *Service) leave(t *connectionRecorder, over bool) {
	r := t.recorder
	r.mu.Lock()
	r.users--
	alone := r.users == 0
	r.mu.Unlock()
	switch {
	case over:
		s.end(r)
	case alone:
		time.AfterFunc(link.ShellLinger, func() {
			r.mu.Lock()
			alone := r.users == 0
			r.mu.Unlock()
			if alone {
				s.end(r)
			}
		})
	}
}

// end ends a recording, once.
func (s *Service) end(r *recorder) {
	s.recorders.mu.Lock()
	if s.recorders.open[r.key] == r {
		delete(s.recorders.open, r.key)
	}
	s.recorders.mu.Unlock()
	if !r.close() {
		return
	}
	go func() {
		<-r.done
		ctx, cancel := context.WithTimeout(context.Background(), recordingWait)
		defer cancel()
		if err := s.store.endRecording(ctx, r.id, r.seal.end(), true); err != nil {
			slog.Warn("the end of a recording cannot be written", "error", err)
		}
	}()
}

// event takes a message of the shell: that it begins at a byte, changes size, or has ended.
func (r *connectionRecorder) event(text []byte) {
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
func (r *connectionRecorder) print(p []byte) {
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

// close has what was not written yet written; false where that was done before.
func (r *recorder) close() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return false
	}
	if r.lost > 0 {
		select {
		case r.events <- recorded{at: time.Now(), upTo: r.had, missing: r.lost}:
		case <-time.After(time.Second):
		}
	}
	r.closed = true
	close(r.events)
	return true
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
		if err := r.seal.add(ctx, r.store, r.id, sealed{content: p.Events, words: []byte(p.Words), bytes: p.Bytes, printed: upTo,
			whole: whole}); err != nil {
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

// keepRecordings has what was not written yet of any recording written, before the database goes. A
// shell that goes on is recorded on by who joins it next.
func (s *Service) keepRecordings() {
	s.recorders.mu.Lock()
	defer s.recorders.mu.Unlock()
	for _, r := range s.recorders.open {
		r.close()
	}
	for _, r := range s.recorders.open {
		<-r.done
	}
	for r := range s.recorders.screens {
		r.close()
	}
	for r := range s.recorders.screens {
		<-r.done
	}
}

// ListRecordings lists what shells printed: GET /recordings.
func (s *Service) ListRecordings(c *gin.Context, in api.ListRecordingsParams) {
	view, err := s.devices.View(c.Request.Context(), front.CallerOf(c), access.Of("recordings", access.See))
	if err != nil {
		front.Fail(c, err)
		return
	}
	text := ""
	if in.Text != nil {
		text = *in.Text
	}
	if text != "" {
		s.search(c, view, in, text)
		return
	}
	front.List(c, in.Cursor, in.Limit, latest, func(ctx context.Context, before moment, limit int) ([]api.Recording, error) {
		return s.store.recordings(ctx, view, in.Device, before, limit)
	}, func(r api.Recording) moment { return moment{r.BeganAt, r.ID} },
		func(items []api.Recording, next *string) any { return api.RecordingPage{Items: items, Next: next} })
}

// searchLasts is how long recordings are searched for one page. One that has fewer by then has what was found, and where
// to go on.
const searchLasts = 5 * time.Second

// mostSearches is how many searches of recordings go on at once, as each reads and decrypts as fast as it can; others wait.
const mostSearches = 2

// search lists the recordings in which a text was printed. They are encrypted, so that they are read to be searched.
func (s *Service) search(c *gin.Context, view []uuid.UUID, in api.ListRecordingsParams, text string) {
	front.Read(c, func(ctx context.Context) (out api.RecordingPage, err error) {
		from := latest
		if err := front.After(in.Cursor, &from); err != nil {
			return out, err
		}
		select {
		case s.searches <- struct{}{}:
			defer func() { <-s.searches }()
		case <-ctx.Done():
			return out, ctx.Err()
		}
		found, at, more, err := s.store.search(ctx, view, in.Device, text, from, front.Limit(in.Limit, 100), time.Now().Add(searchLasts))
		if more {
			out.Next = front.Cursor(at)
		}
		out.Items = append([]api.Recording{}, found...)
		return out, err
	})
}

// recorded finds a recording of a device where the caller may see such.
func (s *Service) recorded(c *gin.Context, id uuid.UUID) (r api.Recording, err error) {
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	r, err = s.store.recording(ctx, id)
	switch {
	case db.Missing(err):
		return r, front.NotFound("recording")
	case err != nil:
		return r, err
	}
	place, err := s.devices.Place(ctx, r.DeviceID)
	if err == nil && !caller.Rights.May(access.Of("recordings", access.See), &place) {
		err = front.NotFound("recording")
	}
	return r, err
}

// GetRecording tells of one recording: GET /recordings/{id}.
func (s *Service) GetRecording(c *gin.Context, id api.ID) {
	r, err := s.recorded(c, id)
	front.Answer(c, http.StatusOK, r, err)
}

// played puts on record that a recording is played.
func (s *Service) played(c *gin.Context, r api.Recording) error {
	entry := front.EntryOf(c, "recording.play", "done")
	entry.Device, entry.DeviceName = r.DeviceID, r.Device
	entry.Detail = "of " + r.Actor + ", " + r.BeganAt.UTC().Format(time.RFC3339)
	return s.audit.Record(c.Request.Context(), entry)
}

// PlayRecording sends what was printed: GET /recordings/{id}/content. Each playing is on record.
func (s *Service) PlayRecording(c *gin.Context, id api.ID) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		r, err := s.recorded(c, id)
		if err != nil {
			return err
		}
		if err := s.played(c, r); err != nil {
			return err
		}
		c.Header("Content-Type", "application/x-ndjson")
		control := http.NewResponseController(c.Writer)
		for n := 0; ; n++ {
			events, err := s.store.piece(ctx, id, n)
			if db.Missing(err) {
				return nil
			}
			if err != nil && n == 0 {
				return err
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
	})
}

// expire removes recordings that are older than the rule by which they began has them kept. It is run every hour.
func (s *Service) expire(ctx context.Context) error {
	return s.store.expireRecordings(ctx)
}
