package test

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
)

// seats is a computer at which several people sit, each at a desktop of their own: it keeps whom it asked and whose
// desktop it showed.
type seats struct {
	host.Screens
	mu           sync.Mutex
	all          []link.Desktop
	asked, shown []string
	onAsk        func() // happens before the person answers
}

func (s *seats) change(all ...link.Desktop) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = all
}

func (s *seats) Desktops(context.Context) (link.DesktopList, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return link.DesktopList{Items: slices.Clone(s.all)}, nil
}

func (s *seats) Open(ctx context.Context, id string) (host.Screen, error) {
	s.mu.Lock()
	i := slices.IndexFunc(s.all, func(d link.Desktop) bool { return d.Missing == "" && (id == "" || d.ID == id) })
	if i >= 0 {
		s.shown = append(s.shown, s.all[i].ID)
	}
	s.mu.Unlock()
	if i < 0 {
		return nil, &link.Problem{Status: http.StatusNotFound, Reason: "The desktop " + id + " has ended."}
	}
	return s.Screens.Open(ctx, "1")
}

func (s *seats) People(context.Context) (link.PresenceList, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := link.PresenceList{Means: "dialog"}
	for _, d := range s.all {
		out.Items = append(out.Items, link.Presence{Session: d.ID, Name: d.Name, Kind: "console", Graphic: true})
	}
	return out, nil
}

func (*seats) Clip(context.Context, link.Clip) (link.Outcome, error) { return link.Outcome{}, nil }

func (s *seats) Show(_ context.Context, m link.Message) (link.MessageAnswer, error) {
	s.mu.Lock()
	id := m.Session
	if id == "" && len(s.all) > 0 {
		id = s.all[0].ID
	}
	onAsk := s.onAsk
	s.onAsk = nil
	if len(m.Buttons) == 2 {
		s.asked = append(s.asked, id)
	}
	s.mu.Unlock()
	if onAsk != nil {
		onAsk()
	}
	return link.MessageAnswer{Shown: true, By: id, Answer: m.Buttons[0]}, nil
}

// Whoever said that their screen may be seen is who is seen: not their neighbour, whose desktop comes to be the
// first one, or is the first that can be shown.
func TestConsentIsOfTheDesktopThatIsShown(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	h := sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 1}.Host(time.Now)
	s := &seats{Screens: h.Screens}
	h.Screens, h.People = s, s
	ada, bo := link.Desktop{ID: "ada", Name: "ada", Active: true}, link.Desktop{ID: "bo", Name: "bo", Active: true}
	hidden := ada
	hidden.Missing = "It cannot be shown."
	s.change(hidden, bo)
	d := w.agent(t, "hay-desk-01", h, nil)
	must(client.Made(w.owner.AddConsentRuleWithResponse(t.Context(),
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("screen"), Mode: "ask"})))(t)
	open := func(desktop string) error {
		v, err := w.owner.Screen(t.Context(), d.id, client.ScreenOptions{Desktop: desktop})
		if err != nil {
			return err
		}
		defer v.Close()
		_, err = v.Next(t.Context())
		return err
	}
	agreed := func(what string) {
		t.Helper()
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, id := range s.shown {
			if !slices.Contains(s.asked, id) {
				t.Errorf("%s: %q were asked, and %q shown", what, s.asked, s.shown)
			}
		}
		s.asked, s.shown = nil, nil
	}
	if err := open(""); err != nil {
		t.Error(err)
	}
	agreed("the first desktop cannot be shown")

	s.change(ada)
	s.onAsk = func() { s.change(bo) }
	if err := open(""); err == nil {
		t.Error("somebody's screen was opened when who had been asked was gone")
	}
	agreed("who was asked went away")

	s.change(bo)
	if err := open("ada"); err == nil || !strings.Contains(err.Error(), "has ended") {
		t.Errorf("a desktop that has ended is refused with %v", err)
	}
	if agreed("a desktop that has ended"); len(s.asked) > 0 {
		t.Errorf("%q were asked about a desktop that has ended", s.asked)
	}
	s.change()
	if err := open(""); err == nil || !strings.Contains(err.Error(), "no desktop") {
		t.Errorf("without a desktop it is refused with %v", err)
	}
}
