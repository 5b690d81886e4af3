package client

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// Screen is a desktop that is looked at. Its methods but Send are for one goroutine.
type Screen struct {
	conn    *websocket.Conn
	decoder screen.Decoder
	// Bytes counts what updates took, and Updates them.
	Bytes   int64
	Updates int
}

// ScreenOptions of Screen.
type ScreenOptions struct {
	Desktop string // one of those that are listed; the first where it is empty
	Mode    string // how the caller takes part at first; share, where they may, where it is empty
}

// Screen opens a desktop of a device. It waits for the consent of the person there, where the policy
// wants it. Closing it is the caller's.
func (c *Client) Screen(ctx context.Context, id uuid.UUID, o ScreenOptions) (*Screen, error) {
	query := url.Values{}
	for name, value := range map[string]string{"desktop": o.Desktop, "mode": o.Mode} {
		if value != "" {
			query.Set(name, value)
		}
	}
	conn, err := c.dial(ctx, "/devices/"+id.String()+"/screen", query, link.MaxScreenEvent)
	if err != nil {
		return nil, err
	}
	return &Screen{conn: conn}, nil
}

// Next waits for what comes next: an event, or nil when the picture has changed. The update is
// acknowledged.
func (s *Screen) Next(ctx context.Context) (*link.ScreenEvent, error) {
	kind, data, err := s.conn.Read(ctx)
	if err != nil {
		return nil, err
	}
	if kind == websocket.MessageText {
		e := &link.ScreenEvent{}
		return e, json.Unmarshal(data, e)
	}
	if err := s.decoder.Update(data); err != nil {
		return nil, err
	}
	s.Bytes += int64(len(data))
	s.Updates++
	return nil, s.Send(ctx, link.ScreenInput{Drawn: s.decoder.Number()})
}

// Picture is what is shown; nil before the first update. It is changed by Next.
func (s *Screen) Picture() *screen.Picture { return s.decoder.Shown() }

// Send sends an input.
func (s *Screen) Send(ctx context.Context, in link.ScreenInput) error {
	text, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return s.conn.Write(ctx, websocket.MessageText, text)
}

// Close leaves the screen.
func (s *Screen) Close() error { return s.conn.Close(websocket.StatusNormalClosure, "") }

// Still looks on until the picture has not changed for a while, or for as long as is waited at most;
// there is a picture then. The screen is read no more after it.
func (s *Screen) Still(ctx context.Context, quiet, most time.Duration) error {
	type step struct {
		changed bool
		err     error
	}
	steps := make(chan step)
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	defer func() { cancel(); <-done }() // nothing changes the picture after that
	go func() {
		defer close(done)
		for {
			e, err := s.Next(ctx)
			if e != nil && e.End != "" {
				err = errors.New(e.End)
			}
			select {
			case steps <- step{e == nil && err == nil, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	end := time.After(most)
	still := time.NewTimer(most)
	defer still.Stop()
	for shown := false; ; {
		select {
		case n := <-steps:
			if n.err != nil {
				return n.err
			}
			if n.changed {
				shown = true
				still.Reset(quiet)
			}
		case <-still.C:
			if shown {
				return nil
			}
		case <-end:
			if !shown {
				return errors.New("no picture came")
			}
			return nil
		}
	}
}
