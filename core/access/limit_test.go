package access

import (
	"math/rand/v2"
	"slices"
	"testing"

	"moorwatch.example/core/health"
)

var (
	all    = health.Scope{Kind: health.Everywhere}
	north  = health.Scope{Kind: health.Site, ID: "north"}
	south  = health.Scope{Kind: health.Site, ID: "south"}
	acme   = health.Scope{Kind: health.Organisation, ID: "o"}
	places = []health.Place{{}, {Device: "a", Site: "north", Organisation: "o"},
		{Device: "b", Site: "south", Organisation: "o", Groups: []string{"g"}}, {Device: "c", Site: "west", Organisation: "p"}}
)

// What was taken away is seen, and what was only added is not taken for it.
func TestInclude(t *testing.T) {
	technician, viewer := Grant{Role: Technician, Scope: all}, Grant{Role: Viewer, Scope: all}
	own := func(scope health.Scope, p ...Permission) Grant {
		return Grant{Role: "own", Scope: scope, Permissions: p}
	}
	for _, c := range []struct {
		name        string
		now, before Rights
		want        bool
	}{
		{"the same", Rights{technician}, Rights{technician}, true},
		{"nothing was there", nil, nil, true},
		{"all was taken", nil, Rights{viewer}, false},
		{"more was given", Rights{viewer, technician}, Rights{viewer}, true},
		{"a role was taken", Rights{viewer}, Rights{viewer, technician}, false},
		{"a greater role holds it", Rights{technician}, Rights{viewer}, true},
		{"the scope was narrowed", Rights{own(north, FleetRead)}, Rights{own(all, FleetRead)}, false},
		{"the scope was widened", Rights{own(all, FleetRead)}, Rights{own(north, FleetRead)}, true},
		{"another scope", Rights{own(south, FleetRead)}, Rights{own(north, FleetRead)}, false},
		{"a permission of one's own role was taken", Rights{own(all, FleetRead)}, Rights{own(all, FleetRead, AuditRead)}, false},
		{"in two parts", Rights{own(all, FleetRead), own(all, AuditRead)}, Rights{own(all, FleetRead, AuditRead)}, true},
		{"a limit came", Rights{viewer}.Limited(Limit{Scope: north}), Rights{viewer}, false},
		{"a limit stays", Rights{viewer}.Limited(Limit{Scope: north}), Rights{viewer}.Limited(Limit{Scope: north}), true},
	} {
		if got := c.now.Include(c.before); got != c.want {
			t.Errorf("%s: %t", c.name, got)
		}
	}
}

// Whatever somebody has, a limited token of theirs has no more, anywhere; and where rights include others, nothing
// that those allow is refused.
func TestLimitsAndInclusion(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	scopes := []health.Scope{all, north, south, acme, {Kind: health.Group, ID: "g"}, {Kind: health.Device, ID: "c"}}
	some := func() (out []Permission) {
		for _, p := range Grantable() {
			if r.IntN(3) == 0 {
				out = append(out, p)
			}
		}
		return out
	}
	rights := func() (out Rights) {
		for range r.IntN(4) {
			g := Grant{Role: BuiltInRoles()[r.IntN(4)], Scope: scopes[r.IntN(len(scopes)-1)]}
			if r.IntN(2) == 0 {
				g.Role, g.Permissions = "own", some()
			}
			out = append(out, g)
		}
		return out
	}
	for range 2000 {
		before, now := rights(), rights()
		limit := Limit{}
		if r.IntN(2) == 0 {
			limit.Permissions = some()
		}
		if r.IntN(2) == 0 {
			limit.Scope = scopes[r.IntN(len(scopes))]
		}
		narrow, includes := before.Limited(limit), now.Include(before)
		for _, at := range places {
			for _, p := range Grantable() {
				may := narrow.May(p, &at)
				switch {
				case may && !before.May(p, &at):
					t.Fatalf("a token limited to %+v may %s at %+v, and its owner with %+v may not", limit, p, at, before)
				case may && limit.Permissions != nil && !slices.Contains(limit.Permissions, p):
					t.Fatalf("a token limited to %v may %s", limit.Permissions, p)
				case may && limit.Scope.Kind != "" && !limit.Scope.Covers(&at):
					t.Fatalf("a token limited to %v may %s at %+v", limit.Scope, p, at)
				case includes && before.May(p, &at) && !now.May(p, &at):
					t.Fatalf("%+v include %+v, and do not allow %s at %+v", now, before, p, at)
				}
			}
		}
		for _, g := range narrow {
			for _, p := range g.Grants() {
				if !g.permits(p) {
					t.Fatalf("%+v grants %s and does not permit it", g, p)
				}
			}
		}
	}
	for _, bad := range []Limit{{Permissions: []Permission{"moon.walk"}}, {Permissions: []Permission{Anyone}},
		{Scope: health.Scope{Kind: "galaxy"}}} {
		if bad.Validate() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}
