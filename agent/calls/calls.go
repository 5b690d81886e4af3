// Package calls is how the agent calls the service over its link, and what goes on across several links.
package calls

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"moorwatch.example/uplink"
)

// Within is how long a call of the service may take.
const Within = 30 * time.Second

// Service calls the service over one link.
type Service struct {
	client *http.Client
	link   *uplink.Link // nil where notes are posted too
}

// Over calls the service over a link.
func Over(l *uplink.Link) Service {
	transport := uplink.Transport(func(ctx context.Context, _ string) (net.Conn, error) { return l.Open(ctx) })
	// half a minute lies between two calls; a stream kept open would cost the service more than a new one
	transport.DisableKeepAlives = true
	return Service{&http.Client{Transport: transport}, l}
}

// By calls the service by a transport of another kind.
func By(t http.RoundTripper) Service { return Service{client: &http.Client{Transport: t}} }

// Transport is what carries calls.
func (c Service) Transport() http.RoundTripper { return c.client.Transport }

// Current is the connection of now, for what goes on across several. Its zero value has none yet.
type Current struct {
	mu    sync.Mutex
	here  Service
	ended <-chan struct{}
	came  chan struct{} // closed when a connection is made; nil while nobody waits
}

// Set takes a new connection, which ends when ended is closed.
func (c *Current) Set(service Service, ended <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.here, c.ended = service, ended
	if c.came != nil {
		close(c.came)
		c.came = nil
	}
}

// wait returns the connection of now and what tells of its end, waiting for one.
func (c *Current) wait(ctx context.Context) (Service, <-chan struct{}, error) {
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
			return Service{}, nil, context.Cause(ctx)
		case <-came:
		}
	}
}

// During is wait, with a context that ends with the connection; the Service ends it otherwise.
func (c *Current) During(ctx context.Context) (Service, context.Context, context.CancelFunc, error) {
	here, ended, err := c.wait(ctx)
	if err != nil {
		return Service{}, nil, nil, err
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

// Post sends a value and reads the answer into out, where that is not nil. An answer other than success is a *Refused.
func (c Service) Post(ctx context.Context, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return c.Call(ctx, http.MethodPost, path, bytes.NewReader(body), out)
}

// Tell is Post with fewer bytes, for what is said again and again and nearly the same.
func (c Service) Tell(ctx context.Context, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	within, cancel := context.WithTimeout(ctx, Within)
	defer cancel()
	if c.link == nil {
		return c.Call(ctx, http.MethodPost, path, bytes.NewReader(body), out)
	}
	status, answer, err := c.link.Tell(within, path, body)
	switch {
	case errors.Is(err, uplink.ErrNoNote):
		return c.Call(ctx, http.MethodPost, path, bytes.NewReader(body), out)
	case err != nil:
		return err
	case status >= 300:
		return &Refused{status, string(bytes.TrimSpace(answer))}
	}
	return json.Unmarshal(answer, out)
}

// Refused is an answer of the service other than success.
type Refused struct {
	Status int
	Text   string
}

// RefusalOf reads the beginning of an answer other than success.
func RefusalOf(answer *http.Response) *Refused {
	text, _ := io.ReadAll(io.LimitReader(answer.Body, 500))
	return &Refused{answer.StatusCode, string(bytes.TrimSpace(text))}
}

func (r *Refused) Error() string {
	return fmt.Sprintf("the service answers %d: %s", r.Status, r.Text)
}

// Call is a call by any method.
func (c Service) Call(ctx context.Context, method, path string, body io.Reader, out any) error {
	ctx, cancel := context.WithTimeout(ctx, Within)
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
		return RefusalOf(answer)
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(out)
}

// Sleep waits, and returns false where ctx ends before.
func Sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}
