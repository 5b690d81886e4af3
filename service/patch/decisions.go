package patch

import (
	"context"
	"slices"
	"time"

	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
)

// decisions is all updates and rules at one moment, by which it is decided what may be installed where.
type decisions struct {
	all   catalogue
	rules []patch.Rule
	now   time.Time
	// decided are decisions that were made before, by which rules cover a place, and then by update.
	decided map[string]map[int32]string
}

// readDecisions reads all updates and rules.
func (c *Service) readDecisions(ctx context.Context, now time.Time) (s *decisions, err error) {
	s = &decisions{now: now, decided: map[string]map[int32]string{}}
	if s.all, err = c.store.catalogue(ctx); err == nil {
		s.rules, err = c.store.rules(ctx)
	}
	return s, err
}

// at decides at a place: many devices stand at places that the same rules cover.
func (s *decisions) at(p *health.Place) func(id int32) string {
	covered := make([]byte, len(s.rules))
	for i := range s.rules {
		if s.rules[i].Scope.Covers(p) {
			covered[i] = 1
		}
	}
	known := s.decided[string(covered)]
	if known == nil {
		known = map[int32]string{}
		s.decided[string(covered)] = known
	}
	return func(id int32) string {
		state, ok := known[id]
		if !ok {
			u := s.all[id]
			state = patch.Decide(s.rules, &u.Update, p, u.firstSeen, s.now).State
			known[id] = state
		}
		return state
	}
}

// each calls for all updates that a device misses and that are known.
func (s *decisions) each(b brief, do func(id int32, u *known, blocked bool)) {
	for _, id := range b.updates {
		if u := s.all[id]; u != nil {
			do(id, u, slices.Contains(b.blocked, id))
		}
	}
}
