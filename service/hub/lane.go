package hub

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/service/doors"
	"moorwatch.example/uplink"
)

// lanesKnown are the names that a link beside a device's first one may have.
var lanesKnown = []string{link.LaneScreen}

type laneKey struct {
	device uuid.UUID
	name   string
}

// lane is a link of a device beside its first one, that is there or is awaited.
type lane struct {
	ready chan struct{} // closed when link or err is set
	link  *uplink.Link
	err   error
}

// LaneURL addresses a path at a device, called over a lane that the device opens for it.
func LaneURL(device uuid.UUID, name, path string, query url.Values) string {
	return (&url.URL{Scheme: "http", Host: name + "." + device.String() + ":80", Path: path, RawQuery: query.Encode()}).String()
}

// openLane opens a stream on a lane, after having the device open the lane where it is not there.
func (h *Hub) openLane(ctx context.Context, key laneKey) (net.Conn, error) {
	if !slices.Contains(lanesKnown, key.name) {
		return nil, fmt.Errorf("there is no lane %q", key.name)
	}
	h.mu.Lock()
	l := h.lanes[key]
	if l == nil {
		l = &lane{ready: make(chan struct{})}
		h.lanes[key] = l
		go h.ask(key, l)
	}
	h.mu.Unlock()
	select {
	case <-l.ready:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if l.err != nil {
		return nil, l.err
	}
	return l.link.Open(ctx)
}

// ask has a device open a lane, and forgets the lane where it does not.
func (h *Hub) ask(key laneKey, l *lane) {
	ctx, cancel := context.WithTimeout(context.Background(), uplink.GreetWithin)
	defer cancel()
	body, err := json.Marshal(link.Lane{Name: key.name})
	if err != nil {
		h.settle(key, l, nil, err)
		return
	}
	answer, err := h.Call(ctx, http.MethodPost, key.device, "/lanes", nil, bytes.NewReader(body))
	if err == nil {
		defer answer.Body.Close()
		if answer.StatusCode >= 300 {
			text, _ := io.ReadAll(io.LimitReader(answer.Body, 1000))
			err = fmt.Errorf("the device opens no lane: %s", bytes.TrimSpace(text))
		}
	}
	if err != nil {
		h.settle(key, l, nil, err)
		return
	}
	select {
	case <-l.ready: // the device says that it is there once it has been told so itself
	case <-ctx.Done():
		h.settle(key, l, nil, ctx.Err())
	}
}

// settle tells those who wait for a lane that it is there, or why not; once.
func (h *Hub) settle(key laneKey, l *lane, made *uplink.Link, err error) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	select {
	case <-l.ready:
		return false
	default:
	}
	l.link, l.err = made, err
	close(l.ready)
	if err != nil && h.lanes[key] == l {
		delete(h.lanes, key)
	}
	return true
}

// serveLane accepts a lane that was asked for, and holds it until it ends.
func (h *Hub) serveLane(w http.ResponseWriter, r *http.Request, name string) {
	ctx := context.WithoutCancel(r.Context())
	var key laneKey
	var awaited *lane
	made, err := uplink.Accept(w, r, h.audience, func(device string) (ed25519.PublicKey, error) {
		id, err := uuid.Parse(device)
		if err != nil {
			return nil, err
		}
		key = laneKey{id, name}
		return h.registry.Key(ctx, id)
	}, func(string, string, link.Proof) (string, error) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if awaited = h.lanes[key]; awaited == nil || h.closed {
			return "", &link.Refusal{Status: http.StatusConflict, Reason: "no lane of that name is awaited"}
		}
		return "", nil
	})
	if err != nil {
		slog.Info("lane refused", "device", key.device, "from", r.RemoteAddr, "error", err)
		return
	}
	doors.Proven(ctx)
	if !h.settle(key, awaited, made, nil) {
		made.Close()
		return
	}
	go func() {
		// Nothing is served on it: what devices call goes over their first link.
		go func() {
			for l := made.Listener(); ; {
				c, err := l.Accept()
				if err != nil {
					return
				}
				c.Close()
			}
		}()
		<-made.Done()
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.lanes[key] == awaited {
			delete(h.lanes, key)
		}
	}()
}

// closeLanes ends lanes.
func (h *Hub) closeLanes(which func(laneKey) bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, l := range h.lanes {
		if !which(key) {
			continue
		}
		delete(h.lanes, key)
		select {
		case <-l.ready:
			if l.link != nil {
				go l.link.Close()
			}
		default:
		}
	}
}
