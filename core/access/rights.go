package access

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"moorwatch.example/core/health"
)

// Grant is a role that someone has at a scope: everywhere, an organisation, a site or a group.
type Grant struct {
	Role  Role         `json:"role"`
	Scope health.Scope `json:"scope"`
	// Permissions is what the role grants, where it is none of those built in.
	Permissions []Permission `json:"permissions,omitempty"`
	// Limit bounds the grant further, for a caller who comes with an API token; nil for no bound.
	Limit *Limit `json:"-"`
}

// Limit is how an API token is narrower than the person it belongs to.
type Limit struct {
	Permissions []Permission // nil for all that its owner has
	Scope       health.Scope // the zero one for wherever its owner has them
}

// Validate refuses a limit that names what is not there.
func (l Limit) Validate() error {
	for _, p := range l.Permissions {
		if !slices.Contains(Grantable(), p) {
			return fmt.Errorf("there is no permission %q", p)
		}
	}
	if l.Scope.Kind != "" && !l.Scope.Kind.Known() {
		return fmt.Errorf("there is no scope of the kind %q", l.Scope.Kind)
	}
	return nil
}

// Limited bounds every grant.
func (r Rights) Limited(l Limit) Rights {
	out := slices.Clone(r)
	for i := range out {
		out[i].Limit = &l
	}
	return out
}

// held lists what the grant's role permits, before its limit.
func (g Grant) held() []Permission {
	if g.Role.BuiltIn() {
		return granted[g.Role]
	}
	return g.Permissions
}

// Grants lists what the grant permits, within its limit.
func (g Grant) Grants() []Permission {
	if g.Limit == nil || g.Limit.Permissions == nil {
		return g.held()
	}
	return slices.DeleteFunc(slices.Clone(g.held()), func(p Permission) bool { return !slices.Contains(g.Limit.Permissions, p) })
}

// permits tells whether the grant permits p, wherever it is held.
func (g Grant) permits(p Permission) bool {
	return slices.Contains(g.held(), p) && (g.Limit == nil || g.Limit.Permissions == nil || slices.Contains(g.Limit.Permissions, p))
}

// covers tells whether the grant is held at a place.
func (g Grant) covers(at *health.Place) bool {
	return g.Scope.Covers(at) && (g.Limit == nil || g.Limit.Scope.Kind == "" || g.Limit.Scope.Covers(at))
}

// Rights is everything that someone is granted.
type Rights []Grant

// May tells whether someone may do what needs p at a place. The place of something that belongs to
// the whole service is the zero one, which only a grant everywhere covers.
func (r Rights) May(p Permission, at *health.Place) bool {
	if p == Anyone || p == Self {
		return true
	}
	return slices.ContainsFunc(r, func(g Grant) bool { return g.covers(at) && g.permits(p) })
}

// Somewhere tells whether someone may do what needs p at any place at all.
func (r Rights) Somewhere(p Permission) bool {
	return p == Anyone || p == Self || slices.ContainsFunc(r, func(g Grant) bool { return g.permits(p) })
}

// Everywhere tells whether someone may do what needs p at every place.
func (r Rights) Everywhere(p Permission) bool { return r.May(p, &health.Place{}) }

// Include tells whether r grants all that before granted: each of its permissions at the same scope or
// everywhere, and under no narrower limit. Where it does not, something was taken away.
func (r Rights) Include(before Rights) bool {
	for _, old := range before {
		for _, p := range old.Grants() {
			if !slices.ContainsFunc(r, func(g Grant) bool {
				return (g.Scope == old.Scope || g.Scope.Kind == health.Everywhere) && g.permits(p) &&
					(g.Limit == nil || old.Limit != nil && g.Limit.Scope == old.Limit.Scope)
			}) {
				return false
			}
		}
	}
	return true
}

// MayGrant refuses a grant of what someone does not have everywhere themselves, so that nobody
// raises themselves or another above what they are.
func (r Rights) MayGrant(g Grant) error {
	for _, p := range g.Grants() {
		if !r.Everywhere(p) {
			return fmt.Errorf("the role %q grants %s, which you do not have everywhere yourself", g.Role, p)
		}
	}
	return nil
}

// List lists, in order, the permissions for which may says yes.
func List(may func(Permission) bool) []Permission {
	return slices.DeleteFunc(Grantable(), func(p Permission) bool { return !may(p) })
}

// CheckScope refuses a grant at a scope that people cannot be bound to.
func (g Grant) CheckScope() error {
	if g.Scope.Kind == health.Device || !g.Scope.Kind.Known() {
		return fmt.Errorf("a role is held everywhere, at an organisation, a site or a group, and not at %q", g.Scope.Kind)
	}
	return nil
}

var roleName = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)

// Complete checks a role of one's own and completes it: acting with a tool includes seeing,
// administering includes acting, and whatever is permitted, the device must be found first.
func Complete(name Role, wanted []Permission) ([]Permission, error) {
	if !roleName.MatchString(string(name)) {
		return nil, errors.New("a role's name is 2 to 40 small letters, digits and hyphens, with a letter first")
	}
	if name.BuiltIn() {
		return nil, fmt.Errorf("the role %q is built in", name)
	}
	has := map[Permission]bool{FleetRead: true}
	for _, p := range wanted {
		if !slices.Contains(Grantable(), p) {
			return nil, fmt.Errorf("there is no permission %q", p)
		}
		has[p] = true
		tool, level, _ := strings.Cut(string(p), ".")
		i := slices.IndexFunc(tools, func(t toolLevels) bool { return t.name == tool })
		if i < 0 {
			continue
		}
		for _, below := range tools[i].levels[:max(0, slices.Index(tools[i].levels, Level(level)))] {
			has[Of(tool, below)] = true
		}
	}
	return List(func(p Permission) bool { return has[p] }), nil
}
