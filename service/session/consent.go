package session

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/session"
	"moorwatch.example/service/front"
)

// rules are the rules of consent as they were last read.
type rules struct {
	all atomic.Pointer[[]session.Rule]
}

func (r *rules) get() []session.Rule {
	if all := r.all.Load(); all != nil {
		return *all
	}
	return nil
}

// refresh reads the rules of consent again, which another node may have changed.
func (s *Service) refresh(ctx context.Context) error {
	all, err := s.store.allRules(ctx)
	if err == nil {
		s.rules.all.Store(&all)
	}
	return err
}

// presentWithin is how long a device has to tell who is signed in, or which desktops it has: longer than one that is
// busy takes, as a session is refused where it is not known whether somebody could be asked.
const presentWithin = 15 * time.Second

// present finds out who could be told or asked at a device.
func (s *Service) present(ctx context.Context, id uuid.UUID) session.Present {
	ctx, cancel := context.WithTimeout(ctx, presentWithin)
	defer cancel()
	list, err := call[link.PresenceList](ctx, s.hub, id, "/people/list", nil)
	if err != nil {
		return session.Present{}
	}
	p := session.Present{Known: list.Means == "dialog" || len(list.Items) == 0}
	for _, one := range list.Items {
		p.Someone = p.Someone || (one.Graphic && !one.Locked && list.Means == "dialog")
	}
	return p
}

// The buttons of the question and of the sign.
const (
	yes = "Allow"
	no  = "Refuse"
	out = "End the session"
)

// consent has the person at the device told or asked as a rule says, and writes the words for the
// record into the session. shown tells whether they are to see the sign while it lasts.
func (s *Service) consent(ctx context.Context, v *activeSession, rule session.Rule, name, reason string) (allowed, shown bool, err error) {
	if rule.Mode == session.Silent {
		_, v.row.Consent = session.Begin(rule, session.Present{})
		return true, false, nil
	}
	here := s.present(ctx, v.key.device)
	step, words := session.Begin(rule, here)
	v.row.Consent = words
	if step != session.AskNow {
		return step == session.Enter, step == session.Enter && here.Someone, nil
	}
	text := fmt.Sprintf("%s asks to work on this computer (%s).", name, title(v.key.tool))
	if reason != "" {
		text += "\n\nReason: " + reason
	}
	ctx, cancel := context.WithTimeout(ctx, rule.Wait()+10*time.Second)
	defer cancel()
	a, err := call[link.MessageAnswer](ctx, s.hub, v.key.device, "/people/show",
		link.Message{Title: "May somebody help?", Text: text, Buttons: []string{yes, no}, Session: v.key.desktop,
			Seconds: int(rule.Wait().Seconds())})
	if err != nil && ctx.Err() == nil {
		a.Reason = err.Error()
	} else if err != nil {
		return false, false, err
	}
	v.row.InterruptedSeconds = a.After
	closed := a.Shown && a.Answer == "" && a.After < rule.Wait().Seconds()-1
	allowed, v.row.Consent = session.Decide(rule,
		session.Reply{Shown: a.Shown, Allowed: a.Answer == yes, Refused: a.Answer == no || closed, By: device.CleanText(a.By)})
	return allowed, allowed && a.Shown, nil
}

func title(tool string) string {
	t, _ := session.Find(tool)
	return t.Title
}

// signLasts is how long one sign stays; while the session lasts another follows it.
const signLasts = 10 * time.Minute

// sign shows the person at the device that somebody works on it, as long as that lasts, and ends
// the session when they say so.
func (s *Service) sign(v *activeSession, d api.Device, name, reason string) {
	text := fmt.Sprintf("%s is working on this computer (%s).", name, title(v.key.tool))
	if reason != "" {
		text += "\n\nReason: " + reason
	}
	for v.ctx.Err() == nil {
		a, err := call[link.MessageAnswer](v.ctx, s.hub, d.ID, "/people/show",
			link.Message{Title: "Somebody helps", Text: text, Buttons: []string{out}, Session: v.key.desktop,
				Seconds: int(signLasts.Seconds())})
		if v.ctx.Err() != nil {
			return
		}
		if err != nil || !a.Shown {
			return // the device went away, or shows nothing any more
		}
		if a.Answer != out {
			continue
		}
		s.sentAway(v, a.By)
		return
	}
}

// sentAway ends a session as somebody at the device wants it.
func (s *Service) sentAway(v *activeSession, name string) {
	by := "the person at the device"
	if name != "" {
		by = device.CleanText(name)
	}
	s.active.mu.Lock()
	s.active.ended[v.key] = time.Now()
	s.active.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := s.finish(ctx, v, "ended by "+by, errEnded); err != nil {
		slog.Warn("the end of a session cannot be written", "error", err)
	}
}

// ListConsentRules lists the rules: GET /consent-rules.
func (s *Service) ListConsentRules(c *gin.Context, in api.ListConsentRulesParams) {
	front.List(c, in.Cursor, in.Limit, uuid.Nil, s.store.consentRules, func(r api.ConsentRule) uuid.UUID { return r.ID },
		func(items []api.ConsentRule, next *string) any {
			items = slices.DeleteFunc(items, func(r api.ConsentRule) bool {
				return !s.devices.Concerns(c.Request.Context(), front.CallerOf(c), r.Scope)
			})
			return api.ConsentRulePage{Items: items, Next: next}
		})
}

// AddConsentRule adds a rule: POST /consent-rules.
func (s *Service) AddConsentRule(c *gin.Context) {
	s.putRule(c, nil, http.StatusCreated, "consent.add")
}

// SetConsentRule changes a rule: PUT /consent-rules/{id}.
func (s *Service) SetConsentRule(c *gin.Context, id api.ID) {
	s.putRule(c, &id, http.StatusOK, "consent.change")
}

func (s *Service) putRule(c *gin.Context, id *uuid.UUID, status int, action string) {
	front.Write(c, s.audit, status, s.ruled(action), func(ctx context.Context, in api.NewConsentRule, x *front.Change) (
		made api.ConsentRule, err error) {
		r := ruleOf(in)
		if err := r.Validate(); err != nil {
			return made, front.Problem(http.StatusBadRequest, "The rule cannot be read.", err.Error()+".")
		}
		if err := s.devices.KnownScope(ctx, r.Scope); err != nil {
			return made, err
		}
		if err := s.maySet(c, id, &r.Scope); err != nil {
			return made, err
		}
		if r.Mode == session.Silent || r.Unrecorded { // people are watched unknown to them, or it leaves no trace
			everywhere := health.Scope{Kind: health.Everywhere}
			if err := s.devices.MayAt(ctx, front.CallerOf(c), access.PolicyManage, everywhere); err != nil {
				return made, err
			}
		}
		x.Taken = front.Problem(http.StatusConflict, "There is a rule for this tool and scope already.", "Change that one.")
		made, err = s.store.setRule(ctx, id, r, front.CallerOf(c).Email)
		x.Detail = fmt.Sprintf("%s for %s at %s", r.Mode, orEvery(r.Tool), made.ScopeName)
		return made, err
	})
}

// ruleOf is a rule as it is asked for.
func ruleOf(in api.NewConsentRule) session.Rule {
	r := session.Rule{Scope: in.Scope, Mode: session.Mode(in.Mode)}
	if in.Tool != nil {
		r.Tool = *in.Tool
	}
	if in.Seconds != nil {
		r.Seconds = *in.Seconds
	}
	r.Unanswered, r.Absent = in.Unanswered != nil && *in.Unanswered, in.Absent != nil && *in.Absent
	r.Unrecorded = in.Unrecorded != nil && *in.Unrecorded
	if in.KeepDays != nil {
		r.KeepDays = *in.KeepDays
	}
	return r
}

func orEvery(tool string) string {
	if tool == "" {
		return "every tool"
	}
	return tool
}

// maySet refuses a caller who may not set a rule for a scope, or change the one of an id.
func (s *Service) maySet(c *gin.Context, id *uuid.UUID, scope *health.Scope) error {
	ctx, scopes := c.Request.Context(), []health.Scope{}
	if scope != nil {
		scopes = append(scopes, *scope)
	}
	if id != nil {
		old, err := s.store.ruleScope(ctx, *id)
		if err != nil {
			return err
		}
		scopes = append(scopes, old)
	}
	return s.devices.MayAt(ctx, front.CallerOf(c), access.PolicyManage, scopes...)
}

// RemoveConsentRule removes a rule: DELETE /consent-rules/{id}.
func (s *Service) RemoveConsentRule(c *gin.Context, id api.ID) {
	front.Do(c, s.audit, s.ruled("consent.remove"), func(ctx context.Context, x *front.Change) (err error) {
		if err = s.maySet(c, &id, nil); err == nil {
			x.Detail, err = s.store.removeRule(ctx, id)
		}
		return err
	})
}

// ruled is a change of the rules, which takes effect once it is made.
func (s *Service) ruled(action string) front.Change {
	return front.Change{Action: action, What: "rule", Then: s.refresh}
}

// scopeInUse names what is set for a scope; "" where nothing is.
func (s *Service) scopeInUse(ctx context.Context, scope health.Scope) (what string, err error) {
	used, err := s.store.scopeInUse(ctx, scope)
	if used {
		what = "a rule of consent"
	}
	return what, err
}
