package test

import (
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/demo/mail"
)

// Finding 6: 16 guesses at once passed where five are allowed.
func TestGuessesAtOnce(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	var all sync.WaitGroup
	var tried, refused atomic.Int64
	start := make(chan struct{})
	for range 32 {
		k := w.client(t, "")
		all.Go(func() {
			<-start
			_, err := k.SignIn(t.Context(), "robin@curlew-sedge.example", "a guess of no use", nil)
			switch p, _ := err.(*client.Problem); {
			case p != nil && p.Status == http.StatusUnauthorized:
				tried.Add(1)
			case p != nil && p.Status == http.StatusTooManyRequests:
				refused.Add(1)
			default:
				t.Errorf("a guess is answered with %v", err)
			}
		})
	}
	close(start)
	all.Wait()
	if tried.Load() > access.FreeFailures || tried.Load()+refused.Load() != 32 {
		t.Errorf("%d guesses were tried, %d refused", tried.Load(), refused.Load())
	}
}

// Finding 6: anybody could lock out anybody whose address they knew. A browser with which somebody has
// signed in, and a second factor, get past; and they are told.
func TestLockedOutByOthers(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	const email = "ines@curlew-sedge.example"
	c, _ := w.joins(t, email, wholly(access.Technician))
	secret, _ := authenticator(t, c)
	w.await(t, "they are told of the second factor", func() bool { return wroteTo(sink, email, "second factor was added") })
	for range access.FreeFailures {
		_, err := w.client(t, "").SignIn(t.Context(), email, "a guess of no use", nil)
		refused(t, err, http.StatusUnauthorized, "wrong")
	}
	w.await(t, "they are told of the failures", func() bool { return wroteTo(sink, email, "failed sign-ins") })
	_, err := w.client(t, "").SignIn(t.Context(), email, password, nil)
	refused(t, err, http.StatusTooManyRequests, "authenticator")
	_, err = client.Result(w.client(t, "").SignInWithResponse(t.Context(),
		api.SignIn{Email: email, Password: password, Code: new("000000")}))
	refused(t, err, http.StatusTooManyRequests, "Too many")
	code := must(totp.GenerateCode(secret, time.Now().Add(30*time.Second)))(t) // the one before confirmed it
	must(client.Result(w.client(t, "").SignInWithResponse(t.Context(), api.SignIn{Email: email, Password: password, Code: &code})))(t)
	// The owner's browser, which signed in before, is let in whatever others do meanwhile.
	const owner = "robin@curlew-sedge.example"
	known := w.client(t, "")
	must(known.SignIn(t.Context(), owner, password, nil))(t)
	for range access.FreeFailures {
		_, _ = w.client(t, "").SignIn(t.Context(), owner, "a guess of no use", nil)
	}
	_, err = w.client(t, "").SignIn(t.Context(), owner, password, nil)
	refused(t, err, http.StatusTooManyRequests, "Too many")
	must(known.SignIn(t.Context(), owner, password, nil))(t)
	// With a new password no browser is known any more.
	check(client.Done(known.SetPasswordWithResponse(t.Context(), api.NewPassword{Password: password, New: "another quiet moor word"})))(t)
	_, err = known.SignIn(t.Context(), owner, "another quiet moor word", nil)
	refused(t, err, http.StatusTooManyRequests, "Too many")
}

// wroteTo tells whether somebody was sent a mail in whose subject a text stands.
func wroteTo(sink *mail.Sink, to, text string) bool {
	all, _ := sink.Taken()
	for _, m := range all {
		if slices.Contains(m.To, to) && strings.Contains(m.Subject, text) {
			return true
		}
	}
	return false
}

// A set-up link chooses a password: name and address were set by whoever invited somebody.
func TestSetUpLinkChangesNoName(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	p := must(client.Made(w.owner.AddPersonWithResponse(t.Context(),
		api.NewPerson{Name: "Alder Fen", Email: "alder@curlew-sedge.example",
			Grants: api.Grants{{Role: access.Viewer, Scope: everywhere}}})))(t)
	_, link, _ := strings.Cut(p.Link, "#")
	for _, in := range []api.SetUp{{Name: new("Somebody Else")}, {Email: new("else@curlew-sedge.example")}} {
		in.Link, in.Password = link, password
		_, err := w.client(t, "").SetUp(t.Context(), in)
		refused(t, err, http.StatusUnprocessableEntity, "set already")
	}
	must(w.client(t, "").SetUp(t.Context(), api.SetUp{Link: link, Password: password}))(t)
}

// Somebody learns of it when others change what they may do, or sign in as them from elsewhere.
func TestPeopleAreToldOfTheirSignIn(t *testing.T) {
	t.Parallel()
	w, sink := withMail(t)
	const email = "wren@curlew-sedge.example"
	c, p := w.joins(t, email, wholly(access.Technician))
	w.await(t, "the set-up", func() bool { return wroteTo(sink, email, "set-up link was used") })
	must(c.SignIn(t.Context(), email, password, nil))(t) // with the browser that it was set up with
	must(client.Result(w.owner.SetPersonWithResponse(t.Context(), p.ID, api.PersonChange{Name: "Wren", Grants: wholly(access.Helper)})))(t)
	w.await(t, "the roles", func() bool { return wroteTo(sink, email, "roles were changed") })
	if wroteTo(sink, email, "new browser") {
		t.Error("the browser with which they chose their password is new to the service")
	}
	must(w.client(t, "").SignIn(t.Context(), email, password, nil))(t)
	w.await(t, "the other browser", func() bool { return wroteTo(sink, email, "new browser") })
	all, _ := sink.Taken()
	for _, m := range all {
		if strings.Contains(m.Subject, "roles were changed") &&
			!strings.Contains(m.Text, "Before: technician everywhere. Now: helper everywhere.") {
			t.Errorf("the mail says %q", m.Text)
		}
	}
}
