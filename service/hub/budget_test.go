package hub

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/test/wait"
)

// few are rates that a test can go beyond at once. Nothing flows, so that what it sees does not depend on the time.
var few = rates{calls: bucket{5, 0}, bytes: bucket{1000, 0}, rows: bucket{20, 0}, pace: bucket{20, 0}, items: bucket{30, 0},
	links: bucket{3, 0}, patience: 0, apart: time.Hour}

// told is what budgets say of devices.
type told struct {
	mu       sync.Mutex
	exceeded map[uuid.UUID][]string
	cut      chan uuid.UUID
}

func tell() *told { return &told{exceeded: map[uuid.UUID][]string{}, cut: make(chan uuid.UUID, 100)} }

func (o *told) budgets(r rates) *budgets {
	return newBudgets(r, func(id uuid.UUID) { o.cut <- id }, func(id uuid.UUID, what string) {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.exceeded[id] = append(o.exceeded[id], what)
	})
}

func (o *told) of(id uuid.UUID) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Join(o.exceeded[id], ", ")
}

// call makes a device's call of a handler.
func call(h http.Handler, device uuid.UUID, body string) int {
	w := httptest.NewRecorder()
	r := httptest.NewRequest(http.MethodPost, "/reports", strings.NewReader(body))
	h.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), deviceKey{}, device)))
	return w.Code
}

// TestBudgets has a device take more than it may of each thing: it is refused, reported, cut off and kept out, and
// another is not.
func TestBudgets(t *testing.T) {
	for what, once := range map[string]struct {
		body   string
		most   int // calls that are served
		charge func(*http.Request) error
	}{
		"calls":   {"", 5, nil},
		"bytes":   {strings.Repeat("x", 400), 2, nil},
		"reports": {"", 2, func(r *http.Request) error { return ChargeReports(r, 10) }},
		"items":   {"", 3, func(r *http.Request) error { return ChargeItems(r, 10) }},
	} {
		t.Run(what, func(t *testing.T) {
			o := tell()
			all := o.budgets(few)
			h := all.serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				_, err := io.Copy(io.Discard, r.Body)
				if err == nil && once.charge != nil {
					err = once.charge(r)
				}
				if err != nil {
					Refuse(w, err)
				}
			}))
			good, bad := uuid.New(), uuid.New()
			for i := range once.most + 3 {
				code, want := call(h, bad, once.body), http.StatusOK
				if i >= once.most {
					want = http.StatusServiceUnavailable
				}
				if code != want {
					t.Errorf("call %d is answered with %d, want %d", i, code, want)
				}
			}
			if code := call(h, good, once.body); code != http.StatusOK {
				t.Errorf("another device is answered with %d", code)
			}
			if got := <-o.cut; got != bad {
				t.Errorf("%s was cut off, not %s", got, bad)
			}
			if !strings.HasPrefix(o.of(bad), what) || o.of(good) != "" {
				t.Errorf("reported: %q, and of the other %q", o.of(bad), o.of(good))
			}
			if all.admit(bad) == nil {
				t.Error("it is let in again at once")
			}
			if err := all.admit(good); err != nil {
				t.Errorf("another device: %v", err)
			}
		})
	}
	t.Run("connections", func(t *testing.T) {
		o := tell()
		all := o.budgets(few)
		id := uuid.New()
		for i := range 5 {
			if err := all.admit(id); (err == nil) != (i < 3) {
				t.Errorf("connection %d: %v", i, err)
			}
		}
		if o.of(id) == "" {
			t.Error("nobody was told")
		}
	})
}

// TestBudgetsWait shows that a device which asks too fast is slowed, and not refused, and that what a device no longer
// uses is forgotten.
func TestBudgetsWait(t *testing.T) {
	o := tell()
	slow := few
	slow.calls, slow.patience = bucket{2, 50}, time.Hour
	all := o.budgets(slow)
	h := all.serve(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	id, began := uuid.New(), time.Now()
	for range 12 {
		if code := call(h, id, ""); code != http.StatusOK {
			t.Fatalf("answered with %d", code)
		}
	}
	if took := time.Since(began); took < 190*time.Millisecond {
		t.Errorf("12 calls, of which 2 at once and 50 a second, took %s", took)
	}
	if o.of(id) != "" {
		t.Errorf("it was reported: %s", o.of(id))
	}
	own := all.of[id]
	if own == nil || own.idle(time.Now()) || !own.idle(time.Now().Add(time.Minute)) {
		t.Error("a budget is idle while it is used, or not when it is full again")
	}
	all.forgotten = time.Time{}
	own.perCall.SetBurst(0)
	all.leave(all.enter(uuid.New()))
	if all.of[id] != nil {
		t.Error("a full budget is kept")
	}
}

// TestWork has many devices work at once: as many as may, and one alone of what is heavy.
func TestWork(t *testing.T) {
	for name, c := range map[string]struct{ rows, most int }{"light": {1, mostWork}, "heavy": {heavyWork, 1}} {
		t.Run(name, func(t *testing.T) {
			all := tell().budgets(usual)
			var mu sync.Mutex
			now, most := 0, 0
			step := func(by int) {
				mu.Lock()
				defer mu.Unlock()
				now += by
				most = max(most, now)
			}
			h := all.serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				err := Work(r, c.rows, func() error {
					step(1)
					defer step(-1)
					wait.Pause(t, 5*time.Millisecond)
					return nil
				})
				if err != nil {
					Refuse(w, err)
				}
			}))
			var running sync.WaitGroup
			for range 20 {
				running.Go(func() {
					if code := call(h, uuid.New(), ""); code != http.StatusOK {
						t.Errorf("answered with %d", code)
					}
				})
			}
			running.Wait()
			if most != c.most {
				t.Errorf("%d worked at once, and %d may", most, c.most)
			}
		})
	}
}

// TestLargeBodiesOfTheSpent has devices without budget begin as many large bodies as are read at once: none of them keeps
// the place of one that has.
func TestLargeBodiesOfTheSpent(t *testing.T) {
	r := usual
	r.bytes = bucket{largeBody + 64<<10, 0}
	all := tell().budgets(r)
	h := all.serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			Refuse(w, err)
		}
	}))
	began := time.Now()
	for range 2 * mostLarge {
		if code := call(h, uuid.New(), strings.Repeat("x", 2*largeBody)); code != http.StatusServiceUnavailable {
			t.Errorf("one without budget is answered with %d", code)
		}
	}
	if code := call(h, uuid.New(), strings.Repeat("x", largeBody+1000)); code != http.StatusOK {
		t.Errorf("one with budget is answered with %d", code)
	}
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("it took %s", took)
	}
	if len(all.large) != 0 {
		t.Errorf("%d places are still held", len(all.large))
	}
}
