// Package client calls the public API of a Moorwatch service: the generated calls, with problems
// turned into errors, pages into sequences, and the streaming calls made easy. The command line
// and the tests use nothing else.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"moorwatch.example/client/calls"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/recording"
)

// Client may be used by many goroutines at once.
type Client struct {
	*calls.ClientWithResponses
	url   string
	token string
	csrf  string
	http  *http.Client
	slow  *http.Client // of transfers, whose answer may come after hours
}

// Options of New.
type Options struct {
	URL   string
	Token string // an API token; empty before signing in
	CA    string // file of the service's own authority, PEM; empty for the system's authorities
}

// Problem is an error that the service told, as an RFC 9457 problem document.
type Problem struct{ api.Problem }

func (p *Problem) Error() string {
	s := p.Title
	if p.Detail != nil {
		s += " " + *p.Detail
	}
	if p.Candidates != nil {
		s += "\n  " + strings.Join(*p.Candidates, "\n  ")
	}
	return s
}

// New makes a client. It does not call the service.
func New(o Options) (*Client, error) {
	u, err := url.Parse(o.URL)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("%q is no address of a service: write it as https://moorwatch.example", o.URL)
	}
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 64, IdleConnTimeout: 30 * time.Second,
		ReadBufferSize: 64 << 10, TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 60 * time.Second}
	if o.CA != "" {
		pem, err := os.ReadFile(o.CA)
		if err != nil {
			return nil, fmt.Errorf("reading the service's authority: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", o.CA)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS13}
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	slow := transport.Clone()
	slow.ResponseHeaderTimeout = 0
	slow.WriteBufferSize, slow.ReadBufferSize = 256<<10, 256<<10
	c := &Client{url: u.Scheme + "://" + u.Host, token: o.Token, http: &http.Client{Transport: transport, Jar: jar},
		slow: &http.Client{Transport: slow, Jar: jar}}
	c.ClientWithResponses, err = calls.NewClientWithResponses(c.url+"/api/v1", calls.WithHTTPClient(c.http),
		calls.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			c.authorise(r.Header)
			return nil
		}))
	return c, err
}

func (c *Client) authorise(h http.Header) {
	if c.token != "" {
		h.Set("Authorization", "Bearer "+c.token)
	}
	if c.csrf != "" {
		h.Set("X-Moorwatch-Csrf", c.csrf)
	}
}

// Close lets go of idle connections.
func (c *Client) Close() {
	c.http.CloseIdleConnections()
	c.slow.CloseIdleConnections()
}

// SetUp spends a one-time set-up link's secret; the client is signed in after it.
func (c *Client) SetUp(ctx context.Context, in api.SetUp) (*api.Me, error) {
	return c.begun(Result(c.SetUpWithResponse(ctx, in)))
}

// SignIn begins a session; the client is signed in after it. Where the service asks for a second
// factor, second is asked for one of those that it names; it may be nil for people who have none.
func (c *Client) SignIn(ctx context.Context, email, password string,
	second func(factors []api.SecondStepFactors) (api.SecondFactor, error)) (*api.Me, error) {
	r, err := c.SignInWithResponse(ctx, api.SignIn{Email: email, Password: password})
	if err != nil || r.JSON202 == nil {
		return c.begun(Result(r, err))
	}
	if second == nil {
		return nil, errors.New("this person signs in with a second factor, and none is given")
	}
	factor, err := second(r.JSON202.Factors)
	if err != nil {
		return nil, err
	}
	return c.begun(Result(c.SignInSecondWithResponse(ctx, factor)))
}

func (c *Client) begun(me *api.Me, err error) (*api.Me, error) {
	if err == nil {
		c.csrf = me.Csrf
	}
	return me, err
}

// Response is what every generated call returns.
type Response interface {
	StatusCode() int
	GetBody() []byte
}

// Result takes what a generated call returned, and gives its answer or the problem that the
// service told:
//
//	d, err := client.Result(c.GetDeviceWithResponse(ctx, id))
func Result[T any, R interface {
	Response
	GetJSON200() *T
}](r R, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	if v := r.GetJSON200(); v != nil {
		return v, nil
	}
	return nil, problem(r.StatusCode(), r.GetBody())
}

// Made is Result for calls that make something.
func Made[T any, R interface {
	Response
	GetJSON201() *T
}](r R, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	if v := r.GetJSON201(); v != nil {
		return v, nil
	}
	return nil, problem(r.StatusCode(), r.GetBody())
}

// Done is Result for calls without an answer.
func Done[R Response](r R, err error) error {
	if err == nil && r.StatusCode() >= 300 {
		err = problem(r.StatusCode(), r.GetBody())
	}
	return err
}

func problem(status int, body []byte) error {
	p := &Problem{}
	if json.Unmarshal(body, &p.Problem) != nil || p.Title == "" {
		return fmt.Errorf("the service answers %d %s, and nothing that this client understands: is its address right?", status,
			http.StatusText(status))
	}
	return p
}

// Devices gives all devices for which a CEL expression holds (all when it is empty), by name,
// reading page after page.
func (c *Client) Devices(ctx context.Context, where string) iter.Seq2[api.Device, error] {
	return c.Chosen(ctx, &where, nil)
}

// Chosen gives the devices of a group for which a CEL expression holds, by name; nil is no bound.
func (c *Client) Chosen(ctx context.Context, where *string, group *uuid.UUID) iter.Seq2[api.Device, error] {
	limit := 1000
	params := api.ListDevicesParams{Limit: &limit, Group: group}
	if where != nil && *where != "" {
		params.Where = where
	}
	return Pages(func(cursor *string) (*api.DevicePage, error) {
		params.Cursor = cursor
		return Result(c.ListDevicesWithResponse(ctx, &params))
	})
}

// A page of a list has rows, and the cursor of the next page; nil after the last.
type page[T any] interface{ Rows() ([]T, *string) }

// Pages gives the rows of page after page. read reads the page of a cursor, nil for the first.
func Pages[T any, P page[T]](read func(cursor *string) (*P, error)) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for cursor := (*string)(nil); ; {
			p, err := read(cursor)
			if err != nil {
				var none T
				yield(none, err)
				return
			}
			items, next := (*p).Rows()
			for _, item := range items {
				if !yield(item, nil) {
					return
				}
			}
			if cursor = next; next == nil {
				return
			}
		}
	}
}

// All gathers rows, until one fails.
func All[T any](rows iter.Seq2[T, error]) (all []T, err error) {
	for row, err := range rows {
		if err != nil {
			return nil, err
		}
		all = append(all, row)
	}
	return all, nil
}

// Each gives the items of a list that comes whole as rows.
func Each[T any](items []T) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for _, item := range items {
			if !yield(item, nil) {
				return
			}
		}
	}
}

// Find returns the device of a name or id.
func (c *Client) Find(ctx context.Context, name string) (*api.Device, error) {
	return Result(c.FindDeviceWithResponse(ctx, name))
}

// Device returns a device whole.
func (c *Client) Device(ctx context.Context, id uuid.UUID) (*api.DeviceDetail, error) {
	return Result(c.GetDeviceWithResponse(ctx, id))
}

// Run runs a command at a device and writes its output as it comes. When ctx ends the command is
// ended at the device. An error means that it could not be started, or was ended by a limit or a
// lost connection; else exit is its exit status.
func (c *Client) Run(ctx context.Context, id uuid.UUID, order link.Command, stdout, stderr io.Writer) (exit int, err error) {
	body, err := json.Marshal(order)
	if err != nil {
		return 0, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.url+"/api/v1/devices/"+id.String()+"/commands", bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	r.Header.Set("Content-Type", "application/json")
	c.authorise(r.Header)
	answer, err := c.http.Do(r)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return 0, Refusal(answer)
	}
	for in := json.NewDecoder(answer.Body); ; {
		var e link.CommandEvent
		if err := in.Decode(&e); err != nil {
			lost := fmt.Errorf("the connection to the service was lost: whether the command ended is not known: %w", err)
			return 0, errors.Join(ctx.Err(), lost)
		}
		if _, err := stdout.Write(e.Stdout); err != nil {
			return 0, err
		}
		if _, err := stderr.Write(e.Stderr); err != nil {
			return 0, err
		}
		if e.Error != "" {
			return 0, errors.New(e.Error)
		}
		if e.Exit != nil {
			io.Copy(io.Discard, answer.Body) // so that the connection is used again
			return *e.Exit, nil
		}
	}
}

// Sweep puts a question to many devices, and calls each with what comes back, until all have
// answered or the time is over. When ctx ends it returns its error.
func (c *Client) Sweep(ctx context.Context, in api.Sweep, each func(api.SweepEvent) error) error {
	r, err := c.ClientWithResponses.ClientInterface.Sweep(ctx, in)
	return Lines(ctx, r, err, "before all had answered", func(e api.SweepEvent) (bool, error) { return e.Done != nil, each(e) })
}

// DoOnMany does one thing on many devices, and calls each with what comes back, until all have
// answered or the time is over.
func (c *Client) DoOnMany(ctx context.Context, in api.ManyAction, each func(api.SweepEvent) error) error {
	r, err := c.ClientWithResponses.ClientInterface.DoOnMany(ctx, in)
	return Lines(ctx, r, err, "before all had answered", func(e api.SweepEvent) (bool, error) { return e.Done != nil, each(e) })
}

// Lines calls each with the objects of a streamed answer as they come, until each says that one was
// the last or fails, or the stream ends. what says, where the connection breaks, what is missing.
func Lines[T any](ctx context.Context, r *http.Response, err error, what string, each func(T) (last bool, err error)) error {
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return Refusal(r)
	}
	for lines := json.NewDecoder(r.Body); ; {
		var line json.RawMessage
		if err := lines.Decode(&line); err != nil {
			return errors.Join(ctx.Err(), fmt.Errorf("the connection to the service was lost %s: %w", what, err))
		}
		var v T
		var broken struct{ Error string }
		if err := json.Unmarshal(line, &v); err != nil {
			return err
		}
		if last, err := each(v); err != nil || last {
			return err
		}
		if len(line) < 4096 && json.Unmarshal(line, &broken) == nil && broken.Error != "" && alone(line) {
			return errors.New(broken.Error)
		}
	}
}

// alone tells whether a line holds an error alone, as the service ends a stream that broke.
func alone(line []byte) bool {
	var fields map[string]json.RawMessage
	return json.Unmarshal(line, &fields) == nil && len(fields) == 1
}

// Refusal reads the problem of an answer that is no success.
func Refusal(r *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	return problem(r.StatusCode, text)
}

// ShellOptions of ShellWith.
type ShellOptions struct {
	Size            link.TerminalSize
	ID              uuid.UUID // made by the caller; by it a shell whose connection was lost is joined again
	From            int64     // the byte of all that it printed to go on from
	Person, Program string    // empty for the agent itself, and the usual interpreter
}

// Shell opens a terminal at a device; the messages on the connection are as the contract says.
// Closing it normally ends the shell.
func (c *Client) Shell(ctx context.Context, id uuid.UUID, size link.TerminalSize) (*websocket.Conn, error) {
	return c.ShellWith(ctx, id, ShellOptions{Size: size, ID: uuid.New()})
}

// ShellWith is Shell with options.
func (c *Client) ShellWith(ctx context.Context, id uuid.UUID, o ShellOptions) (*websocket.Conn, error) {
	query := url.Values{"columns": {strconv.Itoa(o.Size.Columns)}, "rows": {strconv.Itoa(o.Size.Rows)}, "shell": {o.ID.String()},
		"from": {strconv.FormatInt(o.From, 10)}}
	for name, value := range map[string]string{"person": o.Person, "program": o.Program} {
		if value != "" {
			query.Set(name, value)
		}
	}
	return c.dial(ctx, "/devices/"+id.String()+"/shell", query, 1<<20)
}

// dial opens a WebSocket whose messages are at most so long.
func (c *Client) dial(ctx context.Context, path string, query url.Values, limit int64) (*websocket.Conn, error) {
	header := http.Header{}
	c.authorise(header)
	conn, answer, err := websocket.Dial(ctx, c.url+"/api/v1"+path+"?"+query.Encode(),
		&websocket.DialOptions{HTTPClient: c.http, HTTPHeader: header})
	if err != nil {
		if answer != nil && answer.StatusCode != http.StatusSwitchingProtocols {
			return nil, Refusal(answer)
		}
		return nil, err
	}
	conn.SetReadLimit(limit)
	return conn, nil
}

// LinkBytes reads n bytes from a device over its link, and returns how long the first and all of
// them took.
func (c *Client) LinkBytes(ctx context.Context, id uuid.UUID, n int64) (first, all time.Duration, err error) {
	began := time.Now()
	r, err := c.TestLink(ctx, id, &api.TestLinkParams{Bytes: &n})
	if err != nil {
		return 0, 0, err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return 0, 0, Refusal(r)
	}
	first = time.Since(began)
	got, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, r.Body, make([]byte, 256<<10))
	if err == nil && got != n {
		err = fmt.Errorf("%d of %d bytes came", got, n)
	}
	return first, time.Since(began), err
}

// Replay calls each with the events of a recording, in their order.
func (c *Client) Replay(ctx context.Context, id uuid.UUID, each func(recording.Event) error) error {
	r, err := c.PlayRecording(ctx, id)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return Refusal(r)
	}
	for lines := json.NewDecoder(r.Body); ; {
		var e recording.Event
		if err := lines.Decode(&e); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return errors.Join(ctx.Err(), fmt.Errorf("the connection to the service was lost: %w", err))
		}
		if err := each(e); err != nil {
			return err
		}
	}
}

// InstallFile gets a file that devices are installed from, by its path. Closing it is the caller's.
func (c *Client) InstallFile(ctx context.Context, path string) (io.ReadCloser, error) {
	if !strings.HasPrefix(path, "/install/") {
		return nil, fmt.Errorf("%q is no file that devices are installed from", path)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+path, nil)
	if err != nil {
		return nil, err
	}
	answer, err := c.slow.Do(r)
	if err != nil {
		return nil, err
	}
	if answer.StatusCode != http.StatusOK {
		answer.Body.Close()
		return nil, fmt.Errorf("the service answers %s for %s", answer.Status, path)
	}
	return answer.Body, nil
}
