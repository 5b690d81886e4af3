package front

import (
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// Event is one server-sent event: a name and a JSON body.
type Event struct {
	Name string
	Data []byte
}

// Broker hands events to every open stream. A reader that falls behind loses what it did not read
// and is told to read everything again, so that no reader holds the others up.
type Broker struct {
	mu      sync.Mutex
	readers map[*eventReader]struct{}
}

type eventReader struct {
	events chan Event
	behind bool
}

// NewBroker makes a broker without readers.
func NewBroker() *Broker { return &Broker{readers: map[*eventReader]struct{}{}} }

// Publish sends data as JSON to all readers, without waiting.
func (b *Broker) Publish(name string, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for r := range b.readers {
		select {
		case r.events <- Event{name, text}:
		default:
			r.behind = true
		}
	}
	return nil
}

// Readers counts the open streams.
func (b *Broker) Readers() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.readers)
}

// Serve streams the broker's events until the caller leaves. only, where it is not nil, gives what of
// an event this caller may read, and false for nothing.
func (b *Broker) Serve(c *gin.Context, only func(Event) (Event, bool)) {
	r := &eventReader{events: make(chan Event, 64)}
	b.mu.Lock()
	b.readers[r] = struct{}{}
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		delete(b.readers, r)
		b.mu.Unlock()
	}()
	s := StartEvents(c)
	beat := time.NewTicker(BeatEvery)
	defer beat.Stop()
	for {
		var err error
		select {
		case <-c.Request.Context().Done():
			return
		case <-beat.C:
			err = s.Beat()
		case e := <-r.events:
			ok := true
			if only != nil {
				e, ok = only(e)
			}
			if ok {
				err = s.Send(e)
			}
			b.mu.Lock()
			behind := r.behind && len(r.events) == 0
			if behind {
				r.behind = false
			}
			b.mu.Unlock()
			if behind && err == nil {
				err = s.Send(Event{"resync", []byte("{}")})
			}
		}
		if err != nil {
			return
		}
	}
}

// BeatEvery is how often a stream without events shows that it lives.
const BeatEvery = 20 * time.Second

// EventStream writes server-sent events (HTML standard, 9.2).
type EventStream struct {
	c       *gin.Context
	control *http.ResponseController
}

// StartEvents begins a stream of events as the answer to a request.
func StartEvents(c *gin.Context) *EventStream {
	c.Header("Content-Type", "text/event-stream")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	s := &EventStream{c, http.NewResponseController(c.Writer)}
	s.Beat()
	return s
}

// Send writes one event; a reader that takes none for 30 s is gone.
func (s *EventStream) Send(e Event) error {
	return s.write("event: " + e.Name + "\ndata: " + string(e.Data) + "\n\n")
}

// Beat writes a comment, which readers pass over.
func (s *EventStream) Beat() error { return s.write(":\n\n") }

func (s *EventStream) write(text string) error {
	if err := s.control.SetWriteDeadline(time.Now().Add(30 * time.Second)); err != nil {
		return err
	}
	if _, err := s.c.Writer.WriteString(text); err != nil {
		return err
	}
	return s.control.Flush()
}
