package sim

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

type simPeople struct{ *simulated }

// People implements host.People.
func (s simPeople) People(context.Context) (link.PresenceList, error) {
	out := link.PresenceList{Items: []link.Presence{}}
	for i, p := range s.At(s.now()).People {
		one := link.Presence{Session: fmt.Sprint(i + 1), Name: p.Name, Kind: "console", Where: p.Where,
			Since: s.now().Add(-3 * time.Hour).Truncate(time.Minute), IdleSeconds: p.IdleSeconds, Locked: p.IdleSeconds > 900,
			Graphic: natures[s.Kind].os != device.Linux}
		if !one.Graphic {
			one.Kind = "terminal"
		} else {
			out.Means = "dialog"
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// Show implements host.People: the people of the sample world answer after a moment with the first
// button, but leave open what does not ask them.
func (s simPeople) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	list, _ := s.People(ctx)
	i := slices.IndexFunc(list.Items, func(p link.Presence) bool {
		return p.Graphic && !p.Locked && (m.Session == "" || m.Session == p.Session)
	})
	if i < 0 {
		return link.MessageAnswer{Reason: "Nobody is signed in at a desktop of this device."}, nil
	}
	answer := link.MessageAnswer{Shown: true, By: list.Items[i].Name}
	wait := 2*time.Second + time.Duration(s.Seed%3)*time.Second
	if len(m.Buttons) == 1 { // a sign, not a question
		wait = time.Duration(cmp.Or(m.Seconds, 120)) * time.Second
	}
	select {
	case <-ctx.Done():
		return answer, ctx.Err()
	case <-time.After(wait):
	}
	answer.After = wait.Seconds()
	if len(m.Buttons) == 1 {
		answer.Reason = "no answer"
		return answer, nil
	}
	answer.Answer = append(m.Buttons, "OK")[0]
	return answer, nil
}

// Clip implements host.People.
func (s simPeople) Clip(_ context.Context, c link.Clip) (link.Outcome, error) {
	if people := s.At(s.now()).People; len(people) > 0 {
		return link.Outcome{Message: fmt.Sprintf("%d characters are on the clipboard of %s.", len([]rune(c.Text)), people[0].Name)}, nil
	}
	return link.Outcome{}, refuse(http.StatusConflict, "Nobody is signed in at a desktop of this device.")
}

type simPower struct{ *simulated }

// Do implements host.Power. A simulated device that is restarted goes away for a while, and comes
// back as it was.
func (s simPower) Do(_ context.Context, d link.PowerAction) (link.Outcome, error) {
	switch d.Action {
	case link.PowerLock:
		return link.Outcome{Message: "The session is locked."}, nil
	case link.PowerCancel:
		return link.Outcome{}, refuse(http.StatusConflict, "Nothing was to come.")
	case link.PowerRestart, link.PowerOff, link.PowerFirmware, link.PowerRecovery:
		if s.Away == nil {
			return link.Outcome{}, refuse(http.StatusNotImplemented, "This simulated device cannot be restarted.")
		}
		t := s.changed()
		t.mu.Lock()
		clear(t.started)
		clear(t.ended)
		clear(t.paused)
		t.restarted, t.restart = s.now(), false
		t.mu.Unlock()
		s.Away(d.Action == link.PowerOff)
		return link.Outcome{Message: map[bool]string{true: "It shuts down now.", false: "It restarts now."}[d.Action == link.PowerOff]}, nil
	}
	return link.Outcome{Message: "The session is signed out."}, nil
}
