package health

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/hub"
)

// Rules is what devices are judged by and who is told, kept in memory: policies, windows, rules,
// and the sets that policies resolve to.
type Rules struct {
	store    store
	mu       sync.Mutex
	policies []health.Policy
	windows  []window
	rules    []rule
	newest   string // version of an agent
	sets     map[string]*resolved
	digests  map[uuid.UUID]string
	mutes    map[mute]muted
}

// window is a maintenance window with its scope.
type window struct {
	scope health.Scope
	span  calendar.Window
}

// rule is a rule with its channels.
type rule struct {
	health.Rule
	channel, escalate uuid.UUID
}

// resolved is a set of checks with the digest of what it asks agents to look at.
type resolved struct {
	set    *health.Set
	digest string
}

// mute is a window in a time zone, and muted what is known of it until a time.
type mute struct {
	window int
	zone   string
}
type muted struct {
	known time.Time // until when this holds
	until time.Time // zero outside the window
}

// NewRules makes rules that are empty until they are read.
func NewRules(pool *pgxpool.Pool) *Rules {
	return &Rules{store: store{pool: pool}, sets: map[string]*resolved{}, digests: map[uuid.UUID]string{}, mutes: map[mute]muted{}}
}

// read reads everything anew.
func (r *Rules) read(ctx context.Context) error {
	s := r.store
	policies, err := s.allPolicies(ctx)
	if err != nil {
		return err
	}
	windows, err := s.allWindows(ctx)
	if err != nil {
		return err
	}
	told, err := s.allRules(ctx)
	if err != nil {
		return err
	}
	versions, err := s.agentVersions(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.policies, r.windows, r.rules, r.newest = policies, windows, told, health.NewestVersion(versions)
	r.sets, r.mutes = map[string]*resolved{}, map[mute]muted{}
	return nil
}

// set is what a device at a place is judged by.
func (r *Rules) set(p *health.Place) *resolved {
	r.mu.Lock()
	defer r.mu.Unlock()
	own := ""
	if slices.ContainsFunc(r.policies, func(y health.Policy) bool { return y.Scope.Kind == health.Device && y.Scope.ID == p.Device }) {
		own = p.Device
	}
	key := strings.Join(append([]string{p.Organisation, p.Site, own}, p.Groups...), " ")
	found := r.sets[key]
	if found == nil {
		found = &resolved{set: health.Resolve(r.policies, p)}
		text, _ := json.Marshal(found.told()) // of texts and numbers
		sum := sha256.Sum256(text)
		found.digest = hex.EncodeToString(sum[:8])
		r.sets[key] = found
	}
	if id, err := uuid.Parse(p.Device); err == nil {
		r.digests[id] = found.digest
	}
	return found
}

func (r *Rules) newestAgent() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.newest
}

// WindowUntil is when the maintenance windows end that a place lies in now; zero outside any.
func (r *Rules) WindowUntil(p *health.Place, zone string, now time.Time) (until time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, w := range r.windows {
		if !w.scope.Covers(p) {
			continue
		}
		key := mute{i, zone}
		m, ok := r.mutes[key]
		if !ok || !now.Before(m.known) {
			at := calendar.Zone(zone)
			m = muted{known: now.Add(time.Minute)}
			if end, in := w.span.Contains(now, at); in {
				m.until = end
				m.known = end
			} else if next := w.span.Next(now, at); !next.IsZero() && next.Before(m.known) {
				m.known = next
			}
			r.mutes[key] = m
		}
		if m.until.After(until) {
			until = m.until
		}
	}
	return until
}

// WindowNext is when the next maintenance window of a place opens; zero where none ever does.
func (r *Rules) WindowNext(p *health.Place, zone string, now time.Time) (next time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	at := calendar.Zone(zone)
	for _, w := range r.windows {
		if !w.scope.Covers(p) {
			continue
		}
		if opens := w.span.Next(now, at); !opens.IsZero() && (next.IsZero() || opens.Before(next)) {
			next = opens
		}
	}
	return next
}

func (r *Rules) all() []rule {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.rules
}

func (r *Rules) escalates() bool {
	return slices.ContainsFunc(r.all(), func(x rule) bool { return x.EscalateMinutes > 0 })
}

// SettingsDigest identifies what the agent of a device is asked to look at.
func (r *Rules) SettingsDigest(id uuid.UUID) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.digests[id]
}

// serveSettings tells an agent over its link what it is asked to look at: GET /settings.
func (h *Service) serveSettings(w http.ResponseWriter, r *http.Request) {
	p, err := h.fleet.Place(r.Context(), hub.Device(r))
	if err != nil {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	told := h.rules.set(&p).told()
	if told.Agent.Protect {
		sum := sha256.Sum256([]byte(h.removal(hub.Device(r))))
		told.Agent.RemovalDigest = hex.EncodeToString(sum[:])
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(told)
}

// told is what an agent is told.
func (r *resolved) told() link.Settings {
	probes := r.set.Probes()
	if probes == nil {
		probes = []device.Probe{}
	}
	return link.Settings{Digest: r.digest, Probes: probes, Agent: r.set.Agent()}
}
