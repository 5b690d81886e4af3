package hub

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/time/rate"

	"moorwatch.example/contract/link"
)

// What devices may have of the service at once. A device is not trusted to be the agent that it was enrolled with: it
// may open as many streams as it likes, and leave each unfinished.
const (
	// mostCalls is how many calls of one device are served at once, and mostBodies of how many a body is read; others
	// wait, and are told to come again after callWaits.
	mostCalls, mostBodies = 16, 2
	callWaits             = 30 * time.Second
	// largeBody is a body, in bytes, of which mostLarge are read at once of all devices together. Each must come within
	// largeWithin; a device whose does not is cut off.
	largeBody   = 1 << 20
	mostLarge   = 4
	largeWithin = 30 * time.Second
	// mostWork is how many calls of all devices that change what is known of them are served at once, so that the
	// database answers people meanwhile. Reports have a queue of their own.
	mostWork  = 4
	heavyWork = 500
	heavyRest = 4 // times as long as it took
	mostRest  = 10 * time.Second
)

// rates are what one device may have in time. Each is a bucket: what it holds at most, and how much flows into it a
// second. A device whose bucket is empty waits; one that keeps it empty is cut off and reported.
type rates struct {
	calls, bytes, links bucket
	// rows are reports: pace is how many come in a short time, and rows in a long one. items are those of inventories.
	rows, pace, items bucket
	// patience is how long a device may keep a bucket empty, and apart is how long it then stays cut off.
	patience, apart time.Duration
}

type bucket struct {
	holds int
	flow  rate.Limit
}

// usual is many times what an agent needs. The largest that it ever sends is its first inventory, of 16 MiB at most, and
// what it kept while it was away: 32 MiB of reports, one each 30 s, in batches of 500, which take a quarter of an hour.
var usual = rates{
	calls:    bucket{100, 2},
	bytes:    bucket{20 << 20, 64 << 10},
	rows:     bucket{50_000, 0.2},
	pace:     bucket{2500, 50},
	items:    bucket{20_000, 5},
	links:    bucket{30, 0.2},
	patience: time.Minute,
	apart:    5 * time.Minute,
}

// forgetEvery is how often the budgets of devices that took nothing lately are forgotten.
const forgetEvery = time.Minute

// budgets keep devices within what they may have.
type budgets struct {
	rates              rates
	large, work, heavy chan struct{}
	// cut ends a device's link, and exceeded reports what it had too much of.
	cut      func(device uuid.UUID)
	exceeded func(device uuid.UUID, what string)

	mu        sync.Mutex
	of        map[uuid.UUID]*budget
	forgotten time.Time
}

// budget is one device's.
type budget struct {
	device        uuid.UUID
	all           *budgets
	calls, bodies chan struct{}
	large         chan struct{} // one large body at a time
	users         int           // calls that hold or wait for a part of it
	heavy         atomic.Int32  // how often it had heavy work done

	perCall, perByte, perRow, perPace, perItem, perLink *rate.Limiter

	mu    sync.Mutex
	empty map[*rate.Limiter]time.Time // since when
	apart time.Time                   // until when it is cut off
}

func newBudgets(r rates, cut func(uuid.UUID), exceeded func(uuid.UUID, string)) *budgets {
	return &budgets{rates: r, large: make(chan struct{}, mostLarge), work: make(chan struct{}, mostWork), heavy: make(chan struct{}, 1),
		cut: cut, exceeded: exceeded, of: map[uuid.UUID]*budget{}}
}

func (b *budgets) enter(device uuid.UUID) *budget {
	b.mu.Lock()
	defer b.mu.Unlock()
	if now := time.Now(); now.Sub(b.forgotten) > forgetEvery {
		b.forgotten = now
		for id, own := range b.of {
			if own.idle(now) {
				delete(b.of, id)
			}
		}
	}
	own := b.of[device]
	if own == nil {
		limiter := func(of bucket) *rate.Limiter { return rate.NewLimiter(of.flow, of.holds) }
		own = &budget{device: device, all: b, calls: make(chan struct{}, mostCalls), bodies: make(chan struct{}, mostBodies),
			large: make(chan struct{}, 1), empty: map[*rate.Limiter]time.Time{},
			perCall: limiter(b.rates.calls), perByte: limiter(b.rates.bytes), perRow: limiter(b.rates.rows),
			perPace: limiter(b.rates.pace), perItem: limiter(b.rates.items), perLink: limiter(b.rates.links)}
		b.of[device] = own
	}
	own.users++
	return own
}

func (b *budgets) leave(own *budget) {
	b.mu.Lock()
	defer b.mu.Unlock()
	own.users--
}

// idle tells whether a budget is as a new one would be.
func (own *budget) idle(now time.Time) bool {
	if own.users > 0 || now.Before(own.apart) {
		return false
	}
	for _, l := range []*rate.Limiter{own.perCall, own.perByte, own.perRow, own.perPace, own.perItem, own.perLink} {
		if l.TokensAt(now) < float64(l.Burst()) {
			return false
		}
	}
	return true
}

// take takes n of a bucket, and waits while it is empty. It fails when ctx ends first, or when the device has kept it
// empty for too long; then the device is cut off and reported, as one that has too much of what.
func (own *budget) take(ctx context.Context, l *rate.Limiter, n int, what string) error {
	now := time.Now()
	own.mu.Lock()
	switch left := l.TokensAt(now); {
	case left >= float64(l.Burst())/2:
		delete(own.empty, l)
	case left < float64(n) && own.empty[l].IsZero():
		own.empty[l] = now
	}
	since := own.empty[l]
	over := !since.IsZero() && now.Sub(since) > own.all.rates.patience
	if over {
		own.apart = now.Add(own.all.rates.apart)
		delete(own.empty, l)
	}
	own.mu.Unlock()
	if over {
		own.all.exceeded(own.device, what)
		go own.all.cut(own.device)
		return errTooMuch
	}
	waits, cancel := context.WithTimeout(ctx, callWaits)
	defer cancel()
	for n > 0 { // a bucket gives no more at once than it holds
		some := min(n, l.Burst())
		if err := l.WaitN(waits, some); err != nil {
			return fmt.Errorf("%w (%s)", errTooMuch, what)
		}
		n -= some
	}
	return nil
}

// admit tells whether a device may connect now.
func (b *budgets) admit(device uuid.UUID) error {
	own := b.enter(device)
	defer b.leave(own)
	own.mu.Lock()
	apart := own.apart
	own.mu.Unlock()
	switch now := time.Now(); {
	case now.Before(apart):
		return &link.Refusal{Status: http.StatusTooManyRequests,
			Reason: "this device sent more than a device may, and is kept out for some minutes"}
	case !own.perLink.AllowN(now, 1):
		b.exceeded(device, "connections")
		return &link.Refusal{Status: http.StatusTooManyRequests,
			Reason: "this device connects too often; it is let in again in some seconds"}
	}
	return nil
}

type budgetKey struct{}

// budgetOf is that of the device that makes a call; nil where none does.
func budgetOf(r *http.Request) *budget {
	own, _ := r.Context().Value(budgetKey{}).(*budget)
	return own
}

// ChargeReports takes reports that a call would store from the budget of the device that makes it, and waits while there
// are none. An error is to be answered with Refuse.
func ChargeReports(r *http.Request, n int) error {
	own := budgetOf(r)
	if own == nil {
		return nil
	}
	if err := own.take(r.Context(), own.perPace, n, "reports"); err != nil {
		return err
	}
	return own.take(r.Context(), own.perRow, n, "reports")
}

// ChargeItems is ChargeReports for items of an inventory that differ.
func ChargeItems(r *http.Request, n int) error {
	own := budgetOf(r)
	if own == nil {
		return nil
	}
	return own.take(r.Context(), own.perItem, n, "items of its inventory")
}

// Work does what changes what is known of a device once few enough others do. Of what is as heavy as heavyWork rows, one
// is done at a time; after that of a device which had such before, none is for a while: what it does again and again takes
// a fifth of one processor at most.
func Work(r *http.Request, rows int, do func() error) error {
	own := budgetOf(r)
	if own == nil {
		return do()
	}
	waits, cancel := context.WithTimeout(r.Context(), callWaits)
	defer cancel()
	if rows >= heavyWork {
		if !hold(waits, own.all.heavy) {
			return errTooMuch
		}
		began := time.Now()
		defer func() {
			if own.heavy.Add(1) == 1 { // as any device has, when it is new
				<-own.all.heavy
				return
			}
			time.AfterFunc(min(heavyRest*time.Since(began), mostRest), func() { <-own.all.heavy })
		}()
	}
	if !hold(waits, own.all.work) {
		return errTooMuch
	}
	defer func() { <-own.all.work }()
	return do()
}

// serve has a handler serve devices' calls within their budgets.
func (b *budgets) serve(handler http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		own := b.enter(Device(r))
		defer b.leave(own)
		if err := own.take(r.Context(), own.perCall, 1, "calls"); err != nil {
			Refuse(w, err)
			return
		}
		waits, cancel := context.WithTimeout(r.Context(), callWaits)
		defer cancel()
		if !hold(waits, own.calls) {
			Refuse(w, errTooMuch)
			return
		}
		defer func() { <-own.calls }()
		r = r.WithContext(context.WithValue(r.Context(), budgetKey{}, own))
		if r.ContentLength != 0 {
			if !hold(waits, own.bodies) {
				Refuse(w, errTooMuch)
				return
			}
			defer func() { <-own.bodies }()
			body := &metered{ReadCloser: r.Body, budget: own, ctx: r.Context(), control: http.NewResponseController(w)}
			defer body.done()
			r.Body = body
		}
		handler.ServeHTTP(w, r)
	})
}

func hold(ctx context.Context, slots chan struct{}) bool {
	select {
	case slots <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

// Errors that end a call for which there was no room; both are answered with 503.
var (
	errTooMuch = errors.New("too much is asked at once; keep it and send it later")
	errBudget  = errors.New("too many large bodies are being read; keep it and send it later")
)

// TooMuch tells whether err is that a device asks for more than it may have now.
func TooMuch(err error) bool { return errors.Is(err, errTooMuch) || errors.Is(err, errBudget) }

// metered is the body of a device's call. What is large waits until few others are read.
type metered struct {
	io.ReadCloser
	budget  *budget
	ctx     context.Context
	control *http.ResponseController
	read    int64
	large   bool
}

func (m *metered) Read(p []byte) (int, error) {
	if !m.large && m.read >= largeBody {
		waits, cancel := context.WithTimeout(m.ctx, callWaits)
		defer cancel()
		if !hold(waits, m.budget.large) {
			return 0, errBudget
		}
		if !hold(waits, m.budget.all.large) {
			<-m.budget.large
			return 0, errBudget
		}
		m.large = true
		m.control.SetReadDeadline(time.Now().Add(largeWithin))
	}
	n, err := m.ReadCloser.Read(p)
	m.read += int64(n)
	if m.large && errors.Is(err, os.ErrDeadlineExceeded) {
		slog.Warn("a device is cut off: it did not finish what it sent", "device", m.budget.device, "bytes", m.read)
		go m.budget.all.cut(m.budget.device)
	}
	switch {
	case n == 0:
	case m.large: // others wait for its place: it does not wait for its budget meanwhile
		if !m.budget.perByte.AllowN(time.Now(), n) {
			return 0, errTooMuch
		}
	default:
		if short := m.budget.take(m.ctx, m.budget.perByte, n, "bytes"); short != nil {
			return 0, short
		}
	}
	return n, err
}

func (m *metered) done() {
	if m.large {
		<-m.budget.all.large
		<-m.budget.large
		m.large = false
	}
}
