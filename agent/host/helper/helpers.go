package helper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// Argument is the command of the agent's program that makes it a helper.
const Argument = "session-helper"

// Pipe is both ends of a connection.
type Pipe struct {
	io.ReadCloser
	Out io.WriteCloser
}

func (p Pipe) Write(b []byte) (int, error) { return p.Out.Write(b) }

// Close closes both ends.
func (p Pipe) Close() error { return errors.Join(p.Out.Close(), p.ReadCloser.Close()) }

// Helper is a helper that runs.
type Helper struct {
	*Client
	Ended func() bool // tells whether its process has
	Gone  func()      // is called when it is used no more, and its end of the pipe is closed
}

// Helpers are the helpers in sessions, each started when it is needed and ended when it was not for a
// while. S names a session.
type Helpers[S comparable] struct {
	Start func(session S) (*Helper, error)

	mu   sync.Mutex
	open map[S]*used
}

type used struct {
	*Helper
	uses int
	idle *time.Timer
}

// helperIdle is how long a helper stays when nothing is asked of it.
const helperIdle = 30 * time.Second

// In returns the helper of a session. done is called when it is not used any more.
func (h *Helpers[S]) In(session S) (desk *Client, done func(), err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	one := h.open[session]
	if one != nil && one.Ended() {
		h.drop(session, one)
		one = nil
	}
	if one == nil {
		started, err := h.Start(session)
		if err != nil {
			return nil, nil, &link.Problem{Status: http.StatusConflict,
				Reason: fmt.Sprintf("The agent has no helper on that desktop: %v.", err)}
		}
		if h.open == nil {
			h.open = map[S]*used{}
		}
		one = &used{Helper: started}
		h.open[session] = one
	}
	if one.idle != nil {
		one.idle.Stop()
	}
	one.uses++
	return one.Client, sync.OnceFunc(func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if one.uses--; one.uses == 0 {
			one.idle = time.AfterFunc(helperIdle, func() {
				h.mu.Lock()
				defer h.mu.Unlock()
				if one.uses == 0 {
					h.drop(session, one)
				}
			})
		}
	}), nil
}

func (h *Helpers[S]) drop(session S, one *used) {
	if h.open[session] == one {
		delete(h.open, session)
	}
	one.Close()
	one.Gone()
}

// With has a helper do one thing.
func (h *Helpers[S]) With(session S, do func(*Client) error) error {
	desk, done, err := h.In(session)
	if err != nil {
		return err
	}
	defer done()
	return do(desk)
}

// Open opens a desktop by a helper, which stays until the screen is closed.
func (h *Helpers[S]) Open(ctx context.Context, session S, desktop string) (host.Screen, error) {
	desk, done, err := h.In(session)
	if err != nil {
		return nil, err
	}
	one, err := desk.Open(ctx, desktop)
	if err != nil {
		done()
		return nil, err
	}
	return held{one, done}, nil
}

// held is a screen that a helper has open, which is let go when it is closed.
type held struct {
	host.Screen
	done func()
}

func (h held) Close() error {
	defer h.done()
	return h.Screen.Close()
}

// Sign opens a sign by a helper, which stays until the sign is closed.
func (h *Helpers[S]) Sign(ctx context.Context, session S, desktop string, acts host.SignActs) (host.Sign, error) {
	desk, done, err := h.In(session)
	if err != nil {
		return nil, err
	}
	one, err := desk.Sign(ctx, desktop, acts)
	if err != nil {
		done()
		return nil, err
	}
	return heldSign{one, done}, nil
}

type heldSign struct {
	host.Sign
	done func()
}

func (s heldSign) Close() error {
	defer s.done()
	return s.Sign.Close()
}
