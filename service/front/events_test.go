package front

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"moorwatch.example/test/wait"
)

// stream reads the events of a broker as a browser does.
type stream struct {
	lines *bufio.Scanner
	close func()
}

// listen opens a stream; only is as Serve's.
func listen(t *testing.T, b *Broker, only func(Event) (Event, bool)) *stream {
	t.Helper()
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.GET("/", func(c *gin.Context) { b.Serve(c, only) })
	server := httptest.NewServer(r)
	ctx, cancel := context.WithCancel(t.Context())
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, server.URL, nil)
	if err != nil {
		t.Fatal(err)
	}
	before := b.Readers()
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	if kind := answer.Header.Get("Content-Type"); kind != "text/event-stream" {
		t.Errorf("it is %q", kind)
	}
	end := sync.OnceFunc(func() { cancel(); answer.Body.Close(); server.Close() })
	t.Cleanup(end)
	wait.Until(t, time.Minute, "it is listened to", func() bool { return b.Readers() > before })
	return &stream{bufio.NewScanner(answer.Body), end}
}

// next is the next event.
func (s *stream) next(t *testing.T) (name, data string) {
	t.Helper()
	for s.lines.Scan() {
		line := s.lines.Text()
		if rest, ok := strings.CutPrefix(line, "event: "); ok {
			name = rest
		}
		if rest, ok := strings.CutPrefix(line, "data: "); ok {
			return name, rest
		}
	}
	t.Fatalf("the stream ended: %v", s.lines.Err())
	return "", ""
}

// Everybody reads all that is for them, in order, and nothing else.
func TestEventsReachWhomTheyAreFor(t *testing.T) {
	b := NewBroker()
	all := listen(t, b, nil)
	some := listen(t, b, func(e Event) (Event, bool) {
		return Event{e.Name, []byte(`"without what is not theirs"`)}, e.Name == "device"
	})
	for i := range 20 {
		for _, name := range []string{"device", "alert"} {
			if err := b.Publish(name, i); err != nil {
				t.Fatal(err)
			}
		}
		if name, data := all.next(t); name != "device" || data != fmt.Sprint(i) {
			t.Fatalf("%s %s, want device %d", name, data, i)
		}
		if name, data := all.next(t); name != "alert" || data != fmt.Sprint(i) {
			t.Fatalf("%s %s, want alert %d", name, data, i)
		}
		if name, data := some.next(t); name != "device" || data != `"without what is not theirs"` {
			t.Fatalf("somebody who may not see it reads %s %s", name, data)
		}
	}
	if err := b.Publish("bad", func() {}); err == nil {
		t.Error("what cannot be written as JSON is published")
	}
	all.close()
	wait.Until(t, time.Minute, "who left is forgotten", func() bool { return b.Readers() == 1 })
	some.close()
	wait.Until(t, time.Minute, "nobody listens", func() bool { return b.Readers() == 0 })
}

// Data of several lines stays one event: no device's text begins an event of its own.
func TestEventsCannotBeForged(t *testing.T) {
	b := NewBroker()
	s := listen(t, b, nil)
	text := "a\nevent: alert\ndata: {}\n\r\n: \u2028"
	b.Publish("device", text)
	b.Publish("device", "last")
	name, data := s.next(t)
	var got string
	if err := json.Unmarshal([]byte(data), &got); err != nil || name != "device" || got != text {
		t.Errorf("%s %q, %v", name, got, err)
	}
	if name, data := s.next(t); name != "device" || data != `"last"` {
		t.Errorf("after it came %s %s", name, data)
	}
}

// Who reads too slowly holds nobody up, loses events, and is told to read all anew.
func TestSlowReadersAreToldToReadAnew(t *testing.T) {
	b := NewBroker()
	open := make(chan struct{})
	slow := listen(t, b, func(e Event) (Event, bool) { <-open; return e, true })
	const many = 500
	for i := range many {
		b.Publish("device", i)
	}
	close(open)
	read := 0
	for {
		name, _ := slow.next(t)
		if name == "resync" {
			break
		}
		if read++; read > many {
			t.Fatal("nobody is told that events were lost")
		}
	}
	if read == many {
		t.Error("nothing was lost")
	}
	b.Publish("device", "now")
	if name, data := slow.next(t); name != "device" || data != `"now"` {
		t.Errorf("afterwards comes %s %s", name, data)
	}
}
