package front

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/service/doors"
)

// reached is what a request is answered with that came through the gate.
const reached = 299

// fakePeople knows callers by their credentials, and where devices stand.
type fakePeople struct {
	mu     sync.Mutex
	by     map[string]*Caller // by bearer token, or session
	at     map[uuid.UUID]health.Place
	broken error
	asked  atomic.Int64
}

func (f *fakePeople) Authenticate(r *http.Request) (*Caller, error) {
	f.asked.Add(1)
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.broken != nil {
		return nil, f.broken
	}
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return f.by[token], nil
	}
	return f.by[SessionOf(r)], nil
}

func (f *fakePeople) Place(_ context.Context, device uuid.UUID) (health.Place, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.at[device], nil
}

// set changes who somebody is from now on; nil for nobody.
func (f *fakePeople) set(credential string, c *Caller) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.by[credential] = c
}

// guarded is the gate before handlers that answer reached, over HTTP.
type guarded struct {
	*gate
	people *fakePeople
	log    *book
	url    string
	handle func(c *gin.Context) // what else they do; nil for nothing
}

// keep is a book that several write to.
type keep struct {
	mu sync.Mutex
	*book
}

func (k *keep) Record(ctx context.Context, e Entry) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.book.Record(ctx, e)
}

func guard(t *testing.T) *guarded {
	t.Helper()
	w := &guarded{people: &fakePeople{by: map[string]*Caller{}, at: map[uuid.UUID]health.Place{}}, log: &book{}}
	var err error
	if w.gate, err = newGate(Parts{Sessions: w.people, Places: w.people, Doors: doors.New(nil), Audit: &keep{book: w.log}}); err != nil {
		t.Fatal(err)
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.UseRawPath = true
	for route := range w.routes {
		method, path, _ := strings.Cut(route, " ")
		r.Handle(method, path, w.check, func(c *gin.Context) {
			if w.handle != nil {
				w.handle(c)
			}
			if !c.Writer.Written() {
				c.Status(reached)
			}
		})
	}
	server := httptest.NewUnstartedServer(r)
	server.Config.ConnContext = func(ctx context.Context, c net.Conn) context.Context { return w.doors.ConnContext(ctx, c) }
	server.Start()
	t.Cleanup(server.Close)
	w.url = server.URL
	return w
}

// ask makes a request with headers, and returns its status and the problem that it is answered with.
func (w *guarded) ask(t *testing.T, method, path, body string, headers ...string) (int, Error) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, w.url+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var told Error
	if answer.StatusCode != reached {
		if kind := answer.Header.Get("Content-Type"); kind != "application/problem+json" {
			t.Errorf("%s %s: %d as %q", method, path, answer.StatusCode, kind)
		}
		if err := json.NewDecoder(answer.Body).Decode(&told); err != nil || told.Status != answer.StatusCode || told.Title == "" {
			t.Errorf("%s %s: %+v, %v", method, path, told, err)
		}
	}
	return answer.StatusCode, told
}

// device is what paths name; it stands at a site of an organisation.
var aDevice, itsPlace = uuid.New(), health.Place{Site: uuid.NewString(), Organisation: uuid.NewString()}

// filled is a route's path with something in place of its parameters.
func filled(path string) string {
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if strings.HasPrefix(p, ":") {
			parts[i] = aDevice.String()
		}
	}
	return strings.Join(parts, "/")
}

// holding is somebody with permissions at a scope.
func holding(scope health.Scope, permissions ...access.Permission) *Caller {
	return &Caller{ID: uuid.New(), Email: "robin@moor.example", Via: "test", Token: uuid.New(),
		Rights: access.Rights{{Role: "made up", Scope: scope, Permissions: permissions}}}
}

var anywhere = health.Scope{Kind: health.Everywhere}

// Each operation of the contract is open to whoever holds its permission, where it must be held, and to nobody else.
func TestEveryOperationAsksForItsPermission(t *testing.T) {
	w := guard(t)
	w.people.at[aDevice] = itsPlace
	site := health.Scope{Kind: health.Site, ID: itsPlace.Site}
	otherSite := health.Scope{Kind: health.Site, ID: uuid.NewString()}
	as := func(route string, who *Caller) (int, Error) {
		method, path, _ := strings.Cut(route, " ")
		if who == nil {
			return w.ask(t, method, filled(path), "")
		}
		w.people.set("mw-token", who)
		return w.ask(t, method, filled(path), "", "Authorization", "Bearer mw-token")
	}
	// What is let in may still be refused for what it asks.
	in := func(status int) bool { return status == reached || status == http.StatusBadRequest }
	for _, route := range slices.Sorted(maps.Keys(w.routes)) {
		op := w.routes[route]
		if op.permission == access.Anyone {
			if status, _ := as(route, nil); !in(status) {
				t.Errorf("%s for a stranger: %d", route, status)
			}
			continue
		}
		if status, _ := as(route, nil); status != http.StatusUnauthorized {
			t.Errorf("%s for a stranger: %d", route, status)
		}
		if op.permission == access.Self {
			if status, _ := as(route, holding(site)); !in(status) {
				t.Errorf("%s for anybody who is signed in: %d", route, status)
			}
			continue
		}
		others := slices.DeleteFunc(access.Grantable(), func(p access.Permission) bool { return p == op.permission })
		needs := []access.Permission{op.permission, access.FleetRead}
		if status, told := as(route, holding(anywhere, needs...)); !in(status) {
			t.Errorf("%s with %s everywhere: %d %s", route, op.permission, status, told.Title)
		}
		if status, told := as(route, holding(anywhere, others...)); status != http.StatusForbidden &&
			(op.permission != access.FleetRead || status != http.StatusNotFound) {
			t.Errorf("%s with all but %s: %d %s", route, op.permission, status, told.Title)
		} else if status == http.StatusForbidden && !strings.Contains(told.Detail, string(op.permission)) {
			t.Errorf("%s does not say that it needs %s: %s", route, op.permission, told.Detail)
		}
		limited := holding(anywhere, needs...)
		limited.Rights = limited.Rights.Limited(access.Limit{Permissions: others})
		if status, _ := as(route, limited); in(status) {
			t.Errorf("%s with a token that may do all but %s: %d", route, op.permission, status)
		}
		status, _ := as(route, holding(site, needs...))
		elsewhere, told := as(route, holding(otherSite, needs...))
		switch op.reach {
		case everywhere:
			if status != http.StatusForbidden || elsewhere != http.StatusForbidden {
				t.Errorf("%s with %s at a site: %d, %d", route, op.permission, status, elsewhere)
			}
		case within:
			if !in(status) || !in(elsewhere) {
				t.Errorf("%s with %s at a site: %d, %d", route, op.permission, status, elsewhere)
			}
		case atDevice:
			if !in(status) {
				t.Errorf("%s with %s at the device's site: %d", route, op.permission, status)
			}
			if elsewhere != http.StatusNotFound || told.Title != NotFound("device").Title {
				t.Errorf("%s with %s at another site: %d %s", route, op.permission, elsewhere, told.Title)
			}
		}
	}
	if len(w.routes) < 200 {
		t.Errorf("only %d operations were asked", len(w.routes))
	}
}

// A browser proves with each change that it was asked for by the console, and with grave ones that its person is there.
func TestChangesOfABrowser(t *testing.T) {
	w := guard(t)
	w.people.at[aDevice] = itsPlace
	const session = "mw-session"
	cookie := plainCookie + "=" + session
	who := holding(anywhere, access.Grantable()...)
	who.Session, who.Token, who.Via = session, uuid.Nil, "browser"
	for _, route := range slices.Sorted(maps.Keys(w.routes)) {
		op := w.routes[route]
		if op.permission == access.Anyone {
			continue
		}
		method, path, _ := strings.Cut(route, " ")
		who.Proved = time.Now()
		w.people.set(session, who)
		status, told := w.ask(t, method, filled(path), "", "Cookie", cookie)
		if forged := "This change does not come from the console."; (method == http.MethodGet) == (told.Title == forged) {
			t.Errorf("%s without the token of the console: %d %s", route, status, told.Title)
		}
		for _, wrong := range []string{"", access.CSRF("mw-another"), access.CSRF(session) + "0"} {
			if status, _ := w.ask(t, method, filled(path), "", "Cookie", cookie, CSRFHeader, wrong); method != http.MethodGet &&
				status != http.StatusForbidden {
				t.Errorf("%s with the token %q: %d", route, wrong, status)
			}
		}
		status, told = w.ask(t, method, filled(path), "", "Cookie", cookie, CSRFHeader, access.CSRF(session))
		if status == http.StatusForbidden || status == http.StatusUnauthorized {
			t.Errorf("%s from the console: %d %s", route, status, told.Title)
		}
		old := *who
		old.Proved = time.Now().Add(-ProofLasts - time.Second)
		w.people.set(session, &old)
		_, told = w.ask(t, method, filled(path), "", "Cookie", cookie, CSRFHeader, access.CSRF(session))
		if op.recent != (told.Type == proofNeeded) {
			t.Errorf("%s a while after signing in: %s", route, told.Title)
		}
		poor := *who
		poor.MustAddFactor = true
		w.people.set(session, &poor)
		status, told = w.ask(t, method, filled(path), "", "Cookie", cookie, CSRFHeader, access.CSRF(session))
		if (op.permission == access.Self) == (told.Title == "Add a second factor first.") {
			t.Errorf("%s without the second factor that is asked for: %d %s", route, status, told.Title)
		}
	}
}

// Who is refused is on record, once for what they repeat; who has no credentials is not, as any page may ask.
func TestRefusalsAreOnRecord(t *testing.T) {
	w := guard(t)
	w.people.set("mw-token", holding(anywhere, access.FleetRead))
	for range 5 {
		w.ask(t, http.MethodGet, Base+"/people", "", "Authorization", "Bearer mw-token")
		w.ask(t, http.MethodGet, Base+"/people", "")
		w.ask(t, http.MethodGet, Base+"/people", "", "Authorization", "Bearer mw-unknown")
	}
	w.ask(t, http.MethodGet, Base+"/roles", "", "Authorization", "Bearer mw-token")
	var seen []string
	for _, e := range w.log.entries {
		seen = append(seen, e.Actor+" "+e.Action)
	}
	slices.Sort(seen)
	want := []string{"nobody request.refuse", "robin@moor.example request.refuse", "robin@moor.example request.refuse"}
	if !slices.Equal(seen, want) {
		t.Errorf("on record are %q", seen)
	}
	for _, e := range w.log.entries {
		if strings.Contains(fmt.Sprintf("%+v", e), "mw-") {
			t.Errorf("a secret is on record: %+v", e)
		}
	}
}

// Nobody is let in where it cannot be found out who they are, and they are not told why.
func TestNobodyEntersWhileItIsUnknownWhoTheyAre(t *testing.T) {
	w := guard(t)
	w.people.broken = errors.New("dial tcp 127.0.0.1:5432: connection refused to moorwatch_owner")
	status, told := w.ask(t, http.MethodGet, Base+"/people", "", "Authorization", "Bearer mw-token")
	if status != http.StatusInternalServerError && status != http.StatusServiceUnavailable ||
		strings.Contains(told.Title+told.Detail, "5432") {
		t.Errorf("%d %+v", status, told)
	}
}

// What is sent is bounded before anything reads it, and what does not fit the contract never reaches a handler.
func TestWhatIsSentFitsTheContract(t *testing.T) {
	w := guard(t)
	w.people.set("mw-token", holding(anywhere, access.Grantable()...))
	deep := strings.Repeat("[", 100_000)
	for _, k := range []struct {
		name, method, path, body string
		status                   int
		says                     string
	}{
		{"an order that fits", "POST", "/groups", `{"name": "Kiosks", "about": "", "query": "os == \"linux\""}`, reached, ""},
		{"no JSON", "POST", "/groups", `{"name": `, 400, ""},
		{"a number for a name", "POST", "/groups", `{"name": 7, "about": "", "query": ""}`, 400, "name"},
		{"nothing", "POST", "/groups", "", 400, ""},
		{"depth without end", "POST", "/groups", deep, 400, ""},
		{"more than is read", "POST", "/groups", `{"name": "` + strings.Repeat("a", maxBody) + `"}`, 413, fmt.Sprint(maxBody)},
		{"more than a stranger may send", "POST", "/session", `{"email": "` + strings.Repeat("a", publicBody) + `"}`, 413,
			fmt.Sprint(publicBody)},
		{"a limit that is no number", "GET", "/people?limit=many", "", 400, "limit"},
		{"a limit below one", "GET", "/people?limit=0", "", 400, "limit"},
	} {
		status, told := w.ask(t, k.method, Base+k.path, k.body, "Authorization", "Bearer mw-token")
		if status != k.status || !strings.Contains(told.Detail, k.says) {
			t.Errorf("%s: %d %s %.200s", k.name, status, told.Title, told.Detail)
		}
	}
}

// A request that lasts ends within a moment when its caller may no longer make it, and goes on when they still may.
func TestRequestsEndWithTheirRights(t *testing.T) {
	for name, k := range map[string]struct {
		change func(w *guarded, who Caller)
		ends   bool
	}{
		"they are out":         {func(w *guarded, _ Caller) { w.people.set("mw-token", nil) }, true},
		"a role is taken":      {func(w *guarded, c Caller) { c.Rights = nil; w.people.set("mw-token", &c) }, true},
		"the role is narrower": {func(w *guarded, c Caller) { c.Rights = at(c.Rights, health.Site); w.people.set("mw-token", &c) }, true},
		"the device moves": {func(w *guarded, _ Caller) {
			w.people.mu.Lock()
			w.people.at[aDevice] = health.Place{Site: uuid.NewString(), Organisation: uuid.NewString()}
			w.people.mu.Unlock()
		}, true},
		"a factor is asked for": {func(w *guarded, c Caller) { c.MustAddFactor = true; w.people.set("mw-token", &c) }, true},
		"a role is added": {func(w *guarded, c Caller) {
			c.Rights = append(slices.Clone(c.Rights), access.Grant{Role: access.Viewer, Scope: anywhere})
			w.people.set("mw-token", &c)
		}, false},
		"nothing changes": {func(*guarded, Caller) {}, false},
		"it cannot be found out": {func(w *guarded, _ Caller) {
			w.people.mu.Lock()
			w.people.broken = io.ErrUnexpectedEOF
			w.people.mu.Unlock()
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			w := guard(t)
			w.people.at[aDevice] = itsPlace
			who := holding(health.Scope{Kind: health.Organisation, ID: itsPlace.Organisation}, access.Grantable()...)
			w.people.set("mw-token", who)
			inside, leave := make(chan context.Context, 1), make(chan struct{})
			w.handle = func(c *gin.Context) {
				inside <- c.Request.Context()
				select {
				case <-c.Request.Context().Done():
				case <-leave:
				}
			}
			var asked sync.WaitGroup
			asked.Go(func() {
				w.ask(t, http.MethodGet, Base+"/devices/"+aDevice.String(), "", "Authorization", "Bearer mw-token")
			})
			ctx := <-inside
			k.change(w, *who)
			w.review(t.Context(), who.ID)
			if why := context.Cause(ctx); k.ends != errors.Is(why, ErrRightsChanged) {
				t.Errorf("it ended by %v", why)
			}
			close(leave)
			asked.Wait()
			if len(w.calls.open) != 0 {
				t.Errorf("%d requests are still held", len(w.calls.open))
			}
		})
	}
}

// at is rights at a site alone.
func at(all access.Rights, kind health.ScopeKind) access.Rights {
	out := slices.Clone(all)
	for i := range out {
		out[i].Scope = health.Scope{Kind: kind, ID: itsPlace.Site}
	}
	return out
}

// A change between the look at the caller and the note of the request is not missed.
func TestNoChangeIsMissedAtTheGate(t *testing.T) {
	w := guard(t)
	who := holding(anywhere, access.Grantable()...)
	w.people.set("mw-token", who)
	slow := &slowPeople{fakePeople: w.people, first: make(chan struct{}), onward: make(chan struct{})}
	w.sessions = slow
	result := make(chan int, 1)
	go func() {
		status, _ := w.ask(t, http.MethodGet, Base+"/people", "", "Authorization", "Bearer mw-token")
		result <- status
	}()
	<-slow.first // it was read who they are, and is not noted yet
	w.people.set("mw-token", nil)
	w.review(t.Context(), who.ID)
	close(slow.onward)
	if status := <-result; status != http.StatusUnauthorized {
		t.Errorf("somebody who was put out meanwhile is answered %d", status)
	}
}

// slowPeople takes its time to tell who the first caller is.
type slowPeople struct {
	*fakePeople
	once          sync.Once
	first, onward chan struct{}
}

func (s *slowPeople) Authenticate(r *http.Request) (*Caller, error) {
	who, err := s.fakePeople.Authenticate(r)
	s.once.Do(func() { close(s.first); <-s.onward })
	return who, err
}
