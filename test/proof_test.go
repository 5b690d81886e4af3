package test

import (
	"context"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
)

// ago has what is known of all sessions of a world be as if an interval had passed since: when their people proved who
// they are, or when they were used.
func (w *world) ago(t *testing.T, column, interval string) {
	t.Helper()
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(context.Background())
	must(db.Exec(t.Context(), "UPDATE sessions SET "+column+" = now() - $1::interval", interval))(t)
}

// Somebody at an unattended browser could take over the whole service: change roles, make tokens, reset owners. What is
// grave asks for the password again.
func TestGraveThingsAskForAProof(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	c := w.client(t, "")
	must(c.SignIn(t.Context(), "robin@curlew-sedge.example", password, nil))(t)
	helper := must(client.Made(w.owner.AddPersonWithResponse(t.Context(),
		api.NewPerson{Name: "Wren", Email: "wren@curlew-sedge.example",
			Grants: api.Grants{{Role: access.Helper, Scope: wholly(access.Helper)[0].Scope}}})))(t)
	grave := map[string]func() error{
		"a role": func() error {
			_, err := client.Result(c.SetRoleWithResponse(t.Context(), "night",
				api.NewRole{Permissions: []access.Permission{access.FleetRead}}))
			return err
		},
		"a token": func() error {
			_, err := client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "desk", Days: 1}))
			return err
		},
		"a reset": func() error {
			_, err := client.Result(c.ResetPersonWithResponse(t.Context(), helper.Person.ID))
			return err
		},
		"the policy": func() error {
			_, err := client.Result(c.SetSignInPolicyWithResponse(t.Context(), api.SignInPolicy{SecondFactor: "optional"}))
			return err
		},
	}
	for what, do := range grave {
		if err := do(); err != nil {
			t.Errorf("%s, just signed in: %v", what, err)
		}
	}
	w.ago(t, "proved_at", "16 minutes")
	for what, do := range grave {
		err := do()
		refused(t, err, http.StatusForbidden, "Prove that it is you")
		if p, ok := err.(*client.Problem); !ok || p.Type == nil || *p.Type != "urn:moorwatch:proof-needed" {
			t.Errorf("%s: programs cannot know what is asked: %v", what, err)
		}
	}
	must(client.Result(c.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t) // what is not grave goes on
	power := api.ManyAction{Where: new(string), Power: &api.PowerAction{Action: "restart"}}
	refused(t, c.DoOnMany(t.Context(), power, func(api.SweepEvent) error { return nil }), http.StatusForbidden, "Prove that it is you")
	refused(t, client.Done(c.ProveSelfWithResponse(t.Context(), api.Password{Password: "wrong password"})), http.StatusForbidden,
		"password is wrong")
	refused(t, grave["a role"](), http.StatusForbidden, "Prove that it is you")
	if err := client.Done(c.ProveSelfWithResponse(t.Context(), api.Password{Password: password})); err != nil {
		t.Fatal(err)
	}
	for what, do := range grave {
		if err := do(); err != nil {
			t.Errorf("%s, after the proof: %v", what, err)
		}
	}
	refused(t, client.Done(w.owner.ProveSelfWithResponse(t.Context(), api.Password{Password: password})), http.StatusForbidden,
		"done in the console")
}

// The console asks for the password, and then does what was asked of it.
func TestConsoleAsksForAProof(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/people"))
	p.sees("main", "Signed out after")
	w.ago(t, "proved_at", "1 hour")
	p.choose("select.w-36", "120")
	p.sees("[role=dialog]", "Prove that it is you")
	p.accessible("the question for a proof")
	p.write("[role=dialog] input[type=password]", "wrong password")
	p.press("[role=dialog]", "Go on")
	p.sees("[role=dialog]", "password is wrong")
	p.write("[role=dialog] input[type=password]", password)
	p.press("[role=dialog]", "Go on")
	w.await(t, "what was asked for is done", func() bool {
		policy := must(client.Result(w.owner.GetSignInPolicyWithResponse(t.Context())))(t)
		return policy.IdleMinutes != nil && *policy.IdleMinutes == 120
	})
}

// A sign-in that nobody uses ends; one whose console is open, and at which nobody is, ends too.
func TestIdleSignInsEnd(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	c := w.client(t, "")
	me := must(c.SignIn(t.Context(), "robin@curlew-sedge.example", password, nil))(t)
	if me.IdleMinutes != 60 {
		t.Errorf("it ends after %d minutes", me.IdleMinutes)
	}
	must(client.Result(c.GetMeWithResponse(t.Context())))(t)
	w.ago(t, "last_used_at", "59 minutes")
	must(client.Result(c.GetMeWithResponse(t.Context())))(t) // which uses it
	w.ago(t, "last_used_at", "61 minutes")
	_, err := client.Result(c.GetMeWithResponse(t.Context()))
	refused(t, err, http.StatusUnauthorized, "not signed in")

	five := 5
	must(client.Result(w.owner.SetSignInPolicyWithResponse(t.Context(), api.SignInPolicy{SecondFactor: "optional", IdleMinutes: &five})))(t)
	p := w.open(t)
	p.signIn()
	p.sees("nav", "Devices")
	p.do(chromedp.Evaluate[chromedp.Void](`localStorage.setItem("moorwatch-last-input", String(Date.now() - 5 * 60_000 - 1000))`))
	p.sees("main", "You were signed out: nothing was done for 5 minutes.")
	w.await(t, "nothing is signed in", func() bool {
		db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
		defer db.Close(context.Background())
		n := 0
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM sessions WHERE coalesce(last_used_at, created_at) > now() - interval "+
			"'5 minutes'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n == 0
	})
}
