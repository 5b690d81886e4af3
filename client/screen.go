package client

import (
	"context"
	"encoding/json"
	"net/url"

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
