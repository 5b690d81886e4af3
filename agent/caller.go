package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"

	"moorwatch.example/uplink"
)

// caller calls the service over the link.
type caller struct {
	client *http.Client
	link   *uplink.Link
}

// current is the connection of now, for what goes on across several.
type current struct {
	mu    sync.Mutex
	here  caller
	ended <-chan struct{}
	came  chan struct{} // closed when a connection is made; nil while nobody waits
}

func (c *current) set(service caller, ended <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.here, c.ended = service, ended
	if c.came != nil {
		close(c.came)
		c.came = nil
	}
}

// wait returns the connection of now and what tells of its end, waiting for one.
func (c *current) wait(ctx context.Context) (caller, <-chan struct{}, error) {
	for {
		c.mu.Lock()
		here, ended := c.here, c.ended
		if ended != nil {
			select {
			case <-ended:
			default:
				c.mu.Unlock()
				return here, ended, nil
			}
		}
		if c.came == nil {
			c.came = make(chan struct{})
		}
		came := c.came
		c.mu.Unlock()
		select {
		case <-ctx.Done():
			return caller{}, nil, context.Cause(ctx)
		case <-came:
		}
	}
}

// during is wait, with a context that ends with the connection; the caller ends it otherwise.
func (c *current) during(ctx context.Context) (caller, context.Context, context.CancelFunc, error) {
	here, ended, err := c.wait(ctx)
	if err != nil {
		return caller{}, nil, nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	return here, ctx, cancel, nil
}

func (c caller) post(ctx context.Context, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return c.call(ctx, http.MethodPost, path, bytes.NewReader(body), out)
}

// tell is post with fewer bytes, for what is said again and again and nearly the same.
func (c caller) tell(ctx context.Context, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	within, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	status, answer, err := c.link.Tell(within, path, body)
	switch {
	case errors.Is(err, uplink.ErrNoNote):
		return c.call(ctx, http.MethodPost, path, bytes.NewReader(body), out)
	case err != nil:
		return err
	case status >= 300:
		return &refused{status, string(bytes.TrimSpace(answer))}
	}
	return json.Unmarshal(answer, out)
}

// refused is an answer of the service other than success.
type refused struct {
	status int
	text   string
}

func (r *refused) Error() string {
	return fmt.Sprintf("the service answers %d: %s", r.status, r.text)
}

func (c caller) call(ctx context.Context, method, path string, body io.Reader, out any) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, "http://service"+path, body)
	if err != nil {
		return err
	}
	answer, err := c.client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, 500))
		return &refused{answer.StatusCode, string(bytes.TrimSpace(text))}
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(out)
}
