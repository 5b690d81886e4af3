package access

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

var errLastOwner = errors.New("nobody would be left who is owner everywhere")

// place is where a page of people ended.
type place struct {
	Name string
	ID   uuid.UUID
}

func describeGrants(rights access.Rights) []api.Grant {
	out := make([]api.Grant, len(rights))
	for i, g := range rights {
		out[i] = api.Grant{Role: g.Role, Scope: g.Scope}
	}
	return out
}

func describe(p person) api.Person {
	return api.Person{ID: p.ID, Name: p.Name, Email: p.Email, Grants: describeGrants(p.Rights), CreatedAt: p.CreatedAt,
		Ready:        p.Hash != nil,
		SecondFactor: p.SecondFactor, LastSeenAt: p.LastSeenAt}
}

// described describes people with the names of the places where they hold their roles.
func (a *Service) described(ctx context.Context, people ...person) ([]api.Person, error) {
	var all access.Rights
	for _, p := range people {
		all = append(all, p.Rights...)
	}
	names, err := a.store.scopeNames(ctx, all)
	out := make([]api.Person, len(people))
	for i, p := range people {
		out[i] = describe(p)
		for k := range out[i].Grants {
			if len(names) > 0 {
				out[i].Grants[k].ScopeName, names = &names[0], names[1:]
			}
		}
	}
	return out, err
}

// ListPeople lists who may sign in: GET /people.
func (a *Service) ListPeople(c *gin.Context, in api.ListPeopleParams) {
	front.List(c, in.Cursor, in.Limit, place{}, func(ctx context.Context, after place, limit int) ([]api.Person, error) {
		found, err := a.store.people(ctx, after, limit)
		if err != nil {
			return nil, err
		}
		return a.described(ctx, found...)
	}, func(p api.Person) place { return place{p.Name, p.ID} },
		func(items []api.Person, next *string) any { return api.PersonPage{Items: items, Next: next} })
}

// grants reads roles that somebody is to hold, and refuses those that are not there, that hold more
// than the caller may give, or that are held at nothing.
func (a *Service) grants(c *gin.Context, in api.Grants) (access.Rights, error) {
	ctx := c.Request.Context()
	own, err := a.store.roles(ctx)
	if err != nil {
		return nil, err
	}
	bad := func(why string) error {
		return front.Problem(http.StatusUnprocessableEntity, "These roles cannot be given.", why+".")
	}
	var rights access.Rights
	for _, x := range in {
		g := access.Grant{Role: x.Role, Scope: x.Scope}
		i := slices.IndexFunc(own, func(r role) bool { return r.Name == g.Role })
		switch {
		case i >= 0:
			g.Permissions = own[i].Permissions
		case !g.Role.BuiltIn():
			return nil, bad(fmt.Sprintf("there is no role %q", g.Role))
		}
		if err := g.CheckScope(); err != nil {
			return nil, bad(err.Error())
		}
		if err := front.CallerOf(c).Rights.MayGrant(g); err != nil {
			return nil, bad(err.Error())
		}
		if err := a.scopes.KnownScope(ctx, g.Scope); err != nil {
			return nil, err
		}
		if err := a.scopes.TrustedScope(ctx, "A role", g.Scope); err != nil {
			return nil, err
		}
		rights = append(rights, g)
	}
	return rights, nil
}

// above refuses to change somebody who may more than the caller.
func (a *Service) above(c *gin.Context, id uuid.UUID) (person, error) {
	p, err := a.store.personByID(c.Request.Context(), id)
	if db.Missing(err) {
		return p, front.NotFound("person")
	}
	if err != nil {
		return p, err
	}
	for _, g := range p.Rights {
		if err := front.CallerOf(c).Rights.MayGrant(g); err != nil {
			return p, front.Problem(http.StatusForbidden, "You may not change this person.", "They hold a role above yours: "+err.Error()+
				".")
		}
	}
	return p, nil
}

func told(rights access.Rights) string {
	words := make([]string, len(rights))
	for i, g := range rights {
		words[i] = strings.TrimSpace(fmt.Sprintf("%s at %s %s", g.Role, g.Scope.Kind, g.Scope.ID))
	}
	return strings.Join(words, ", ")
}

// plainly says to somebody what they may do, without the names of places.
func plainly(rights access.Rights) string {
	words := []string{}
	for _, g := range rights {
		where := "everywhere"
		if g.Scope.Kind != health.Everywhere {
			where = "at one " + string(g.Scope.Kind)
		}
		words = append(words, string(g.Role)+" "+where)
	}
	if len(words) == 0 {
		return "nothing"
	}
	return strings.Join(words, ", ")
}

// owned says in words that nobody would be left who is owner everywhere.
func owned(err error) error {
	if errors.Is(err, errLastOwner) {
		return front.Problem(http.StatusConflict, "Nobody would be left who is owner everywhere.", "Make somebody else owner first.")
	}
	return err
}

// done notes an action to people and roles, or answers why it failed.
func (a *Service) done(c *gin.Context, action, detail string, err error) bool {
	err = owned(err)
	taken := front.Problem(http.StatusConflict, "Somebody has this e-mail address already.", "Each person needs an address of their own.")
	return front.Changed(c, a.log, front.Change{Action: action, Detail: detail, Taken: taken}, err)
}

// AddPerson adds someone who may sign in: POST /people.
func (a *Service) AddPerson(c *gin.Context) {
	in, ok := front.Bind[api.NewPerson](c)
	if !ok {
		return
	}
	p, link, err := a.add(c, in)
	a.answer(c, http.StatusCreated, "person.add", p, &link, err)
}

func (a *Service) add(c *gin.Context, in api.NewPerson) (p person, link string, err error) {
	email, err := address(in.Email)
	if err != nil {
		return p, "", err
	}
	rights, err := a.grants(c, in.Grants)
	if err != nil {
		return p, "", err
	}
	return a.invite(c.Request.Context(), email, strings.TrimSpace(in.Name), rights)
}

// SetPerson changes the name and the roles of a person: PUT /people/{id}.
func (a *Service) SetPerson(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.PersonChange](c)
	if !ok {
		return
	}
	p, err := a.change(c, id, in)
	a.answer(c, http.StatusOK, "person.change", p, nil, err)
}

func (a *Service) change(c *gin.Context, id uuid.UUID, in api.PersonChange) (p person, err error) {
	before, err := a.above(c, id)
	if err != nil {
		return p, err
	}
	rights, err := a.grants(c, in.Grants)
	if err != nil {
		return p, err
	}
	p, err = a.store.setPerson(c.Request.Context(), id, device.CleanText(strings.TrimSpace(in.Name)), rights)
	if err == nil && told(before.Rights) != told(p.Rights) {
		a.tell(c, p.Email, "your roles were changed", front.CallerOf(c).Name+" changed what you may do. Before: "+plainly(before.Rights)+
			". Now: "+plainly(p.Rights)+".")
	}
	return p, err
}

// answer finishes a change of a person; link is set where they have a new set-up link.
func (a *Service) answer(c *gin.Context, status int, action string, p person, link *string, err error) {
	if !a.done(c, action, p.Email+": "+told(p.Rights), err) {
		return
	}
	a.changed(c.Request.Context(), bus.RightsChanged{Person: p.ID, Revoked: action == "person.reset"})
	if action == "person.reset" {
		a.tell(c, p.Email, "your sign-in was reset", front.CallerOf(c).Name+
			" made a new set-up link for you. Your password, second factors and API tokens hold no more.")
	}
	items, err := a.described(c.Request.Context(), p)
	switch {
	case err != nil:
		front.Fail(c, err)
	case link != nil:
		c.JSON(status, api.AddedPerson{Person: items[0], Link: *link})
	default:
		c.JSON(status, items[0])
	}
}

// RemovePerson removes a person: DELETE /people/{id}.
func (a *Service) RemovePerson(c *gin.Context, id api.ID) {
	change := front.Change{Action: "person.remove", What: "person", Then: a.rights(bus.RightsChanged{Person: id, Revoked: true})}
	front.Do(c, a.log, change, func(ctx context.Context, x *front.Change) error {
		p, err := a.above(c, id)
		if err != nil {
			return err
		}
		x.Detail = p.Email
		return owned(a.store.removePerson(ctx, id))
	})
}

// rights tells others that what somebody may do has changed, once a change is made.
func (a *Service) rights(what bus.RightsChanged) func(context.Context) error {
	return func(ctx context.Context) error { a.changed(ctx, what); return nil }
}

// ResetPerson gives a person a new set-up link: POST /people/{id}/link.
func (a *Service) ResetPerson(c *gin.Context, id api.ID) {
	p, link, err := a.reset(c, id)
	a.answer(c, http.StatusOK, "person.reset", p, &link, err)
}

func (a *Service) reset(c *gin.Context, id uuid.UUID) (p person, link string, err error) {
	if p, err = a.above(c, id); err != nil {
		return p, "", err
	}
	hash, link, err := a.setUpLink()
	if err != nil {
		return p, "", err
	}
	p, err = a.store.resetPerson(c.Request.Context(), id, hash, time.Now().Add(setUpLasts))
	return p, link, err
}

// abouts are the built-in roles in words.
var abouts = map[access.Role]string{
	access.Owner:      "Everything, with people, roles and the service itself.",
	access.Technician: "Every tool on every device, groups, alerts and policies.",
	access.Helper:     "Looks with every tool, and acts where little can be lost.",
	access.Viewer:     "Looks at devices, alerts and reports.",
}

// ListRoles lists roles and permissions: GET /roles.
func (a *Service) ListRoles(c *gin.Context) {
	front.Read(c, func(ctx context.Context) (out api.RoleList, err error) {
		own, err := a.store.roles(ctx)
		if err != nil {
			return out, err
		}
		holders, err := a.store.holders(ctx)
		if err != nil {
			return out, err
		}
		for _, r := range access.BuiltInRoles() {
			out.Items = append(out.Items, api.RoleEntry{Name: r, About: abouts[r], Permissions: r.Permissions(), BuiltIn: true,
				People: holders[r]})
		}
		for _, r := range own {
			out.Items = append(out.Items, describeRole(r))
		}
		for _, p := range access.Grantable() {
			out.Permissions = append(out.Permissions, api.PermissionEntry{Name: p, About: p.About()})
		}
		return out, nil
	})
}

func describeRole(r role) api.RoleEntry {
	return api.RoleEntry{Name: r.Name, About: r.About, Permissions: r.Permissions, People: r.People}
}

// SetRole adds or changes a role: PUT /roles/{name}.
func (a *Service) SetRole(c *gin.Context, name string) {
	caller := front.CallerOf(c)
	change := front.Change{Action: "role.set", Then: a.rights(bus.RightsChanged{})}
	front.Write(c, a.log, http.StatusOK, change, func(ctx context.Context, in api.NewRole, x *front.Change) (out api.RoleEntry, err error) {
		about := ""
		if in.About != nil {
			about = device.CleanText(*in.About)
		}
		own, err := a.store.roles(ctx)
		if err != nil {
			return out, err
		}
		all, err := access.Complete(access.Role(name), in.Permissions)
		if i := slices.IndexFunc(own, func(r role) bool { return r.Name == access.Role(name) }); err == nil && i >= 0 {
			// nor is anything taken from those above
			err = caller.Rights.MayGrant(access.Grant{Role: access.Role(name), Permissions: own[i].Permissions})
		}
		if err == nil {
			err = caller.Rights.MayGrant(access.Grant{Role: access.Role(name), Permissions: all})
		}
		if err != nil {
			return out, front.Problem(http.StatusUnprocessableEntity, "The role cannot be kept.", err.Error()+".")
		}
		x.Detail = fmt.Sprint(name, ": ", all)
		r, err := a.store.setRole(ctx, access.Role(name), about, all, caller.Email)
		return describeRole(r), err
	})
}

// RemoveRole removes a role that nobody holds: DELETE /roles/{name}.
func (a *Service) RemoveRole(c *gin.Context, name string) {
	front.Do(c, a.log, front.Change{Action: "role.remove", Detail: name, What: "role"}, func(ctx context.Context, _ *front.Change) error {
		n, err := a.store.removeRole(ctx, access.Role(name))
		if err == nil && n > 0 {
			err = front.Problem(http.StatusConflict, "The role is held.", fmt.Sprintf("%d people hold it: give them another first.", n))
		}
		return err
	})
}

// GetSignInPolicy tells what signing in asks: GET /sign-in-policy.
func (a *Service) GetSignInPolicy(c *gin.Context) {
	front.Read(c, func(ctx context.Context) (out api.SignInPolicy, err error) {
		policy, err := a.store.factorPolicy(ctx)
		if err != nil {
			return out, err
		}
		idle, err := a.store.idleMinutes(ctx)
		return api.SignInPolicy{SecondFactor: api.SignInPolicySecondFactor(policy), IdleMinutes: &idle}, err
	})
}

// SetSignInPolicy changes it: PUT /sign-in-policy. Who asks for a second factor must have one, so as
// not to lock everybody out.
func (a *Service) SetSignInPolicy(c *gin.Context) {
	change := front.Change{Action: "sign-in-policy.set", Then: a.rights(bus.RightsChanged{})}
	front.Write(c, a.log, http.StatusOK, change, func(ctx context.Context, in api.SignInPolicy, x *front.Change) (api.SignInPolicy, error) {
		if in.SecondFactor == "required" && !front.CallerOf(c).SecondFactor {
			return in, front.Problem(http.StatusConflict, "You have no second factor yourself.", "Add one to your own account first.")
		}
		if err := a.store.setFactorPolicy(ctx, string(in.SecondFactor)); err != nil {
			return in, err
		}
		x.Detail = "second factor " + string(in.SecondFactor)
		if in.IdleMinutes == nil {
			return in, nil
		}
		x.Detail += fmt.Sprintf(", idle for %d minutes", *in.IdleMinutes)
		return in, a.store.setIdleMinutes(ctx, *in.IdleMinutes)
	})
}

func (a *Service) listSignIns(c *gin.Context, person uuid.UUID) {
	front.Read(c, func(ctx context.Context) (out api.SignInList, err error) {
		found, err := a.store.signIns(ctx, person)
		own := access.HashSecret(front.CallerOf(c).Session)
		out.Items = []api.SignInEntry{}
		for _, s := range found {
			out.Items = append(out.Items, api.SignInEntry{ID: s.ID, CreatedAt: s.CreatedAt, ExpiresAt: s.ExpiresAt,
				LastUsedAt: s.LastUsedAt, Address: s.Address, Browser: s.Browser, Current: slices.Equal(s.Hash, own)})
		}
		return out, err
	})
}

// ListSignIns lists where the caller is signed in: GET /me/sign-ins.
func (a *Service) ListSignIns(c *gin.Context) { a.listSignIns(c, front.CallerOf(c).ID) }

// EndSignIn signs the caller out in one place: DELETE /me/sign-ins/{id}.
func (a *Service) EndSignIn(c *gin.Context, id api.ID) {
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	err := a.store.endSignIn(ctx, caller.ID, id)
	if db.Missing(err) {
		err = front.NotFound("sign-in of yours")
	}
	if a.done(c, "sign-in.end", caller.Email, err) {
		a.changed(ctx, bus.RightsChanged{Person: caller.ID})
		c.Status(http.StatusNoContent)
	}
}

// ListPersonSignIns lists where a person is signed in: GET /people/{id}/sign-ins.
func (a *Service) ListPersonSignIns(c *gin.Context, id api.ID) { a.listSignIns(c, id) }

// EndPersonSignIns ends all sign-ins and API tokens of a person: DELETE /people/{id}/sign-ins. It is open
// to whoever manages people, whatever the person is: to end is less than to grant.
func (a *Service) EndPersonSignIns(c *gin.Context, id api.ID) {
	ctx := c.Request.Context()
	p, err := a.store.personByID(ctx, id)
	if err == nil {
		err = a.store.revokeAll(ctx, id)
	}
	if a.done(c, "sign-in.end", "all of "+p.Email, err) {
		a.changed(ctx, bus.RightsChanged{Person: id, Revoked: true})
		c.Status(http.StatusNoContent)
	}
}

// holderAt implements fleet.RoleHolder.
func (a *Service) holderAt(ctx context.Context, scope health.Scope) (name string, err error) {
	name, _, err = a.store.holderAt(ctx, scope)
	return name, err
}

// scopeInUse implements fleet.ScopeUser.
func (a *Service) scopeInUse(ctx context.Context, scope health.Scope) (what string, err error) {
	name, role, err := a.store.holderAt(ctx, scope)
	if name != "" {
		what = "the role " + role + " of " + name
	}
	return what, err
}
