package test

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
)

// joins adds somebody who chooses a password, and returns their client, signed in as a browser is.
func (w *world) joins(t *testing.T, email string, grants api.Grants) (*client.Client, *api.Person) {
	t.Helper()
	added := must(client.Made(w.owner.AddPersonWithResponse(t.Context(), api.NewPerson{Name: "Ines", Email: email, Grants: grants})))(t)
	c := w.client(t, "")
	_, link, _ := strings.Cut(added.Link, "#")
	must(c.SetUp(t.Context(), api.SetUp{Link: link, Password: password}))(t)
	return c, &added.Person
}

// authenticator gives somebody one, and returns its secret and the recovery codes that came with it.
func authenticator(t *testing.T, c *client.Client) (secret string, codes []string) {
	t.Helper()
	_, err := client.Result(c.BeginCodeWithResponse(t.Context(), api.Password{Password: "wrong password"}))
	refused(t, err, http.StatusForbidden, "password is wrong")
	begun := must(client.Result(c.BeginCodeWithResponse(t.Context(), api.Password{Password: password})))(t)
	_, err = client.Result(c.ConfirmCodeWithResponse(t.Context(), api.Code{Code: "000000"}))
	refused(t, err, http.StatusUnprocessableEntity, "does not fit")
	code := must(totp.GenerateCode(begun.Secret, time.Now()))(t) // that of the step after is left for signing in
	return begun.Secret, must(client.Result(c.ConfirmCodeWithResponse(t.Context(), api.Code{Code: code})))(t).Codes
}

func TestSecondFactor(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	const email = "ines@curlew-sedge.example"
	c, _ := w.joins(t, email, wholly(access.Technician))
	secret, codes := authenticator(t, c)
	if len(codes) != access.RecoveryCodes {
		t.Fatalf("%d recovery codes", len(codes))
	}
	give := func(f api.SecondFactor) func([]api.SecondStepFactors) (api.SecondFactor, error) {
		return func(asked []api.SecondStepFactors) (api.SecondFactor, error) {
			if !slices.Equal(asked, []api.SecondStepFactors{"code", "recovery"}) {
				t.Errorf("asked for %v", asked)
			}
			return f, nil
		}
	}
	k := w.client(t, "")
	_, err := k.SignIn(t.Context(), email, password, give(api.SecondFactor{Code: new("000000")}))
	refused(t, err, http.StatusUnauthorized, "does not fit")
	_, err = client.Result(k.GetMeWithResponse(t.Context())) // the password alone opens nothing
	refused(t, err, http.StatusUnauthorized, "not signed in")
	code := must(totp.GenerateCode(secret, time.Now().Add(30*time.Second)))(t)
	me := must(k.SignIn(t.Context(), email, password, give(api.SecondFactor{Code: &code})))(t)
	if !me.SecondFactor || me.MustAddFactor {
		t.Errorf("signed in as %+v", me)
	}
	_, err = w.client(t, "").SignIn(t.Context(), email, password, give(api.SecondFactor{Code: &code}))
	refused(t, err, http.StatusUnauthorized, "does not fit") // it was used
	typed := strings.ToUpper(strings.ReplaceAll(codes[3], "-", " "))
	must(w.client(t, "").SignIn(t.Context(), email, password, give(api.SecondFactor{Recovery: &typed})))(t)
	_, err = w.client(t, "").SignIn(t.Context(), email, password, give(api.SecondFactor{Recovery: &codes[3]}))
	refused(t, err, http.StatusUnauthorized, "does not fit")
	if f := must(client.Result(k.GetFactorsWithResponse(t.Context())))(t); f.RecoveryCodes != access.RecoveryCodes-1 ||
		f.CodeSince == nil || !strings.Contains(f.PasskeysHere, "http://localhost:") {
		t.Errorf("the factors are %+v", f)
	}
	for range 4 { // with the one above, and the right password each time
		_, _ = w.client(t, "").SignIn(t.Context(), email, password, give(api.SecondFactor{Code: new("000000")}))
	}
	_, err = w.client(t, "").SignIn(t.Context(), email, password, give(api.SecondFactor{Recovery: &codes[4]}))
	refused(t, err, http.StatusTooManyRequests, "Too many failed sign-ins")
}

func TestSecondFactorIsEnforced(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	owner := w.client(t, "")
	must(owner.SignIn(t.Context(), "robin@curlew-sedge.example", password, nil))(t)
	_, err := client.Result(owner.SetSignInPolicyWithResponse(t.Context(), api.SignInPolicy{SecondFactor: "required"}))
	refused(t, err, http.StatusConflict, "no second factor yourself")
	authenticator(t, owner)
	c, _ := w.joins(t, "ines@curlew-sedge.example", wholly(access.Viewer))
	token := w.client(t, must(client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "old", Days: 1})))(t).Secret)
	must(client.Result(owner.SetSignInPolicyWithResponse(t.Context(), api.SignInPolicy{SecondFactor: "required"})))(t)
	for _, x := range []*client.Client{c, token} {
		_, err = client.Result(x.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{}))
		refused(t, err, http.StatusForbidden, "Add a second factor first")
	}
	if me := must(client.Result(c.GetMeWithResponse(t.Context())))(t); !me.MustAddFactor {
		t.Error("the console is not told that a factor is asked for")
	}
	_, err = client.Result(token.BeginCodeWithResponse(t.Context(), api.Password{Password: password}))
	refused(t, err, http.StatusForbidden, "API token")
	authenticator(t, c)
	must(client.Result(c.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t)
	err = client.Done(c.RemoveFactorWithResponse(t.Context(), api.FactorRemoval{Password: password}))
	refused(t, err, http.StatusConflict, "last second factor")
}

func TestPeople(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	c, ines := w.joins(t, "ines@curlew-sedge.example", wholly(access.Technician))
	again := w.client(t, "")
	must(again.SignIn(t.Context(), ines.Email, password, nil))(t)
	list := must(client.Result(c.ListSignInsWithResponse(t.Context())))(t).Items
	if len(list) != 2 || list[0].Address != "127.0.0.1" {
		t.Fatalf("signed in at %+v", list)
	}
	other := list[slices.IndexFunc(list, func(s api.SignInEntry) bool { return !s.Current })]
	err := client.Done(w.person(t, access.Viewer).EndSignInWithResponse(t.Context(), other.ID))
	refused(t, err, http.StatusNotFound, "sign-in of yours")
	if err := client.Done(c.EndSignInWithResponse(t.Context(), other.ID)); err != nil {
		t.Fatal(err)
	}
	_, err = client.Result(again.GetMeWithResponse(t.Context()))
	refused(t, err, http.StatusUnauthorized, "not signed in")

	const fresh = "four other moor words"
	must(again.SignIn(t.Context(), ines.Email, password, nil))(t)
	refused(t, client.Done(c.SetPasswordWithResponse(t.Context(), api.NewPassword{Password: "wrong password", New: fresh})),
		http.StatusForbidden, "password is wrong")
	refused(t, client.Done(c.SetPasswordWithResponse(t.Context(), api.NewPassword{Password: password, New: "short"})),
		http.StatusUnprocessableEntity, "at least 12 characters")
	if err := client.Done(c.SetPasswordWithResponse(t.Context(), api.NewPassword{Password: password, New: fresh})); err != nil {
		t.Fatal(err)
	}
	_, err = client.Result(again.GetMeWithResponse(t.Context()))
	refused(t, err, http.StatusUnauthorized, "not signed in")
	must(again.SignIn(t.Context(), ines.Email, fresh, nil))(t)

	scoped := api.Grants{{Role: access.Helper, Scope: w.siteScope(t, organisation, site)}}
	changed := must(client.Result(w.owner.SetPersonWithResponse(t.Context(), ines.ID,
		api.PersonChange{Name: "Ines Alder", Grants: scoped})))(t)
	if changed.Name != "Ines Alder" || *changed.Grants[0].ScopeName != site {
		t.Errorf("changed to %+v", changed)
	}
	_, err = client.Made(c.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: "x", Site: "y"}))
	refused(t, err, http.StatusForbidden, "fleet.manage")
	for name, grants := range map[string]api.Grants{
		"there is no role": {{Role: "nosuch", Scope: everywhere}},
		"There is no such": {{Role: access.Viewer, Scope: health.Scope{Kind: health.Site, ID: uuid.NewString()}}},
		"held everywhere":  {{Role: access.Viewer, Scope: health.Scope{Kind: health.Device, ID: uuid.NewString()}}},
	} {
		_, err = client.Result(w.owner.SetPersonWithResponse(t.Context(), ines.ID, api.PersonChange{Name: "x", Grants: grants}))
		if err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}

	// A role that may manage people cannot make more of itself, nor touch those above it.
	must(client.Result(w.owner.SetRoleWithResponse(t.Context(), "front-desk",
		api.NewRole{Permissions: []access.Permission{access.PeopleManage}})))(t)
	desk := w.person(t, "front-desk")
	me := must(client.Result(w.owner.GetMeWithResponse(t.Context())))(t)
	_, err = client.Made(desk.AddPersonWithResponse(t.Context(),
		api.NewPerson{Name: "x", Email: "x@curlew-sedge.example", Grants: wholly(access.Owner)}))
	refused(t, err, http.StatusUnprocessableEntity, "cannot be given")
	_, err = client.Result(desk.SetRoleWithResponse(t.Context(), "front-desk",
		api.NewRole{Permissions: []access.Permission{access.FleetManage}}))
	refused(t, err, http.StatusUnprocessableEntity, "cannot be kept")
	must(client.Result(w.owner.SetRoleWithResponse(t.Context(), "lead",
		api.NewRole{Permissions: []access.Permission{access.FleetManage}})))(t)
	_, err = client.Result(desk.SetRoleWithResponse(t.Context(), "lead", api.NewRole{Permissions: []access.Permission{access.FleetRead}}))
	refused(t, err, http.StatusUnprocessableEntity, "cannot be kept")
	refused(t, client.Done(desk.RemovePersonWithResponse(t.Context(), me.ID)), http.StatusForbidden, "may not change this person")
	_, err = client.Result(desk.ResetPersonWithResponse(t.Context(), me.ID))
	refused(t, err, http.StatusForbidden, "may not change this person")
	refused(t, client.Done(w.owner.RemoveRoleWithResponse(t.Context(), "front-desk")), http.StatusConflict, "held")
	refused(t, client.Done(w.owner.RemovePersonWithResponse(t.Context(), me.ID)), http.StatusConflict, "owner everywhere")
	_, err = client.Result(w.owner.SetPersonWithResponse(t.Context(), me.ID, api.PersonChange{Name: "x", Grants: scoped}))
	refused(t, err, http.StatusConflict, "owner everywhere")

	reset := must(client.Result(w.owner.ResetPersonWithResponse(t.Context(), ines.ID)))(t)
	_, err = client.Result(c.GetMeWithResponse(t.Context()))
	refused(t, err, http.StatusUnauthorized, "not signed in")
	_, link, _ := strings.Cut(reset.Link, "#")
	must(c.SetUp(t.Context(), api.SetUp{Link: link, Password: password}))(t)
	token := w.client(t, must(client.Made(c.AddTokenWithResponse(t.Context(), api.NewToken{Name: "x", Days: 1})))(t).Secret)
	if err := client.Done(w.owner.RemovePersonWithResponse(t.Context(), ines.ID)); err != nil {
		t.Fatal(err)
	}
	for _, gone := range []*client.Client{c, token} {
		_, err = client.Result(gone.GetMeWithResponse(t.Context()))
		refused(t, err, http.StatusUnauthorized, "not signed in")
	}
	db := must(pgx.Connect(t.Context(), w.config.Database))(t)
	defer db.Close(t.Context())
	var n int
	if err := db.QueryRow(t.Context(), "SELECT count(*) FROM audit WHERE action IN ('person.change', 'person.reset', 'person.remove', "+
		"'role.set', 'sign-in.end') AND result = 'done'").Scan(&n); err != nil || n != 6 {
		t.Errorf("%d actions are on record, %v", n, err)
	}
}
