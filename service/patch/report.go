package patch

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/service/fleet"
	"moorwatch.example/service/front"
	"moorwatch.example/service/post"
)

// Record counts how current all devices are, for the day of a time. What was released later than that does not
// count. It is run every hour.
func (c *Service) Record(ctx context.Context, at time.Time) error {
	rings, err := c.store.ringOf(ctx)
	if err != nil {
		return err
	}
	all := map[ringed]patch.Tally{}
	err = c.tally(ctx, nil, at, func(m fleet.Target, count func(*patch.Tally)) {
		of := ringed{m.Place.Organisation, rings[m.ID]}
		t := all[of]
		count(&t)
		all[of] = t
	})
	if err != nil {
		return err
	}
	return c.store.setCompliance(ctx, at.UTC().Truncate(24*time.Hour), all)
}

// tally calls each for the devices of a view that told of updates, with what counts the device.
func (c *Service) tally(ctx context.Context, view []uuid.UUID, at time.Time, each func(m fleet.Target, count func(*patch.Tally))) error {
	s, err := c.readDecisions(ctx, at)
	if err != nil {
		return err
	}
	weakest, err := c.store.weakest(ctx)
	if err != nil {
		return err
	}
	return c.store.briefly(ctx, view, nil, func(b brief) {
		m, ok := c.fleet.Known(b.device)
		if !ok {
			return
		}
		var missing iter.Seq2[*update.Update, time.Time] = func(yield func(*update.Update, time.Time) bool) {
			for _, id := range b.updates {
				if u := s.all[id]; u != nil && !yield(&u.Update, u.firstSeen) {
					return
				}
			}
		}
		each(m, func(t *patch.Tally) { t.Count(missing, weakest[b.device].exploited > 0, at) })
	})
}

// about is whom a report is about.
type about struct {
	view          []uuid.UUID // devices; nil for all
	only          *uuid.UUID  // organisation
	name          string
	organisations []uuid.UUID // those of which the past may be told
}

// aboutFor is what a caller may be told of an organisation, or of all.
func (c *Service) aboutFor(ctx context.Context, caller *front.Caller, organisation *uuid.UUID) (a about, err error) {
	if a.view, err = c.fleet.View(ctx, caller, see); err != nil {
		return a, err
	}
	return c.narrow(ctx, a, organisation, func(id uuid.UUID) bool {
		return c.fleet.MayAt(ctx, caller, see, health.Scope{Kind: health.Organisation, ID: id.String()}) == nil
	})
}

func (c *Service) narrow(ctx context.Context, a about, organisation *uuid.UUID, may func(uuid.UUID) bool) (about, error) {
	names, err := c.store.organisations(ctx)
	if err != nil {
		return a, err
	}
	a.only, a.name = organisation, "all organisations"
	if organisation != nil {
		name, there := names[*organisation]
		if !there || a.view != nil && !may(*organisation) && !c.seesOf(a.view, *organisation) {
			return a, front.NotFound("organisation")
		}
		a.name = name
	}
	for id := range names {
		if (organisation == nil || id == *organisation) && may(id) {
			a.organisations = append(a.organisations, id)
		}
	}
	return a, nil
}

// seesOf tells whether a device of an organisation is in a view.
func (c *Service) seesOf(view []uuid.UUID, organisation uuid.UUID) bool {
	return slices.ContainsFunc(view, func(id uuid.UUID) bool {
		m, ok := c.fleet.Known(id)
		return ok && m.Place.Organisation == organisation.String()
	})
}

// standings are how current devices are now, in all and by where they are.
type standings struct {
	now                        patch.Tally
	organisations, sites, ring []patch.NamedTally
	devices                    []uuid.UUID
}

func (c *Service) standings(ctx context.Context, a about, now time.Time) (out standings, err error) {
	rings, err := c.store.ringOf(ctx)
	if err != nil {
		return out, err
	}
	out.devices = []uuid.UUID{}
	by := [3]map[string]*patch.Tally{{}, {}, {}}
	err = c.tally(ctx, a.view, now, func(m fleet.Target, count func(*patch.Tally)) {
		if a.only != nil && m.Place.Organisation != a.only.String() {
			return
		}
		out.devices = append(out.devices, m.ID)
		count(&out.now)
		for i, name := range []string{m.Subject.Organisation, m.Subject.Organisation + ", " + m.Subject.Site, rings[m.ID]} {
			if by[i][name] == nil {
				by[i][name] = &patch.Tally{}
			}
			count(by[i][name])
		}
	})
	for i, list := range []*[]patch.NamedTally{&out.organisations, &out.sites, &out.ring} {
		*list = []patch.NamedTally{}
		for name, t := range by[i] {
			*list = append(*list, patch.NamedTally{Name: name, Tally: *t})
		}
		slices.SortFunc(*list, func(a, b patch.NamedTally) int { return cmp.Compare(a.Name, b.Name) })
	}
	return out, err
}

const usualDays = 30

func daysOf(days *int) int {
	if days == nil {
		return usualDays
	}
	return *days
}

// GetCompliance tells how current devices are: GET /updates/compliance.
func (c *Service) GetCompliance(g *gin.Context, in api.GetComplianceParams) {
	front.Read(g, func(ctx context.Context) (out api.Compliance, err error) {
		now := time.Now()
		a, err := c.aboutFor(ctx, front.CallerOf(g), in.Organisation)
		if err != nil {
			return out, err
		}
		s, err := c.standings(ctx, a, now)
		if err != nil {
			return out, err
		}
		days, err := c.store.compliance(ctx, a.organisations, now.AddDate(0, 0, 1-daysOf(in.Days)))
		return api.Compliance{Now: s.now, Organisations: s.organisations, Sites: s.sites, Rings: s.ring,
			Days: append([]patch.DayTally{}, days...)}, err
	})
}

// MakeReport makes a report: GET /updates/report.
func (c *Service) MakeReport(g *gin.Context, in api.MakeReportParams) {
	front.Serve(g, func() error {
		ctx := g.Request.Context()
		a, err := c.aboutFor(ctx, front.CallerOf(g), in.Organisation)
		if err != nil {
			return err
		}
		s, err := c.summary(ctx, a, daysOf(in.Days), front.CallerOf(g).Name, time.Now())
		if err != nil {
			return err
		}
		kind, write := "text/html; charset=utf-8", s.Document().WriteHTML
		if in.Format == api.Pdf {
			kind, write = "application/pdf", s.Document().WritePDF
		}
		var text bytes.Buffer
		if err := write(&text); err != nil {
			return err
		}
		front.Download(g, fileName(s, string(in.Format)), kind)
		g.Data(http.StatusOK, kind, text.Bytes())
		return nil
	})
}

// fileName is that of a report.
func fileName(s patch.Summary, kind string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(s.About))
	return fmt.Sprintf("updates-%.60s-%s.%s", name, s.To.Format(time.DateOnly), kind)
}

// summary gathers what a report tells.
func (c *Service) summary(ctx context.Context, a about, days int, maker string, now time.Time) (s patch.Summary, err error) {
	s = patch.Summary{About: a.name, From: now.AddDate(0, 0, -days), To: now, Maker: maker}
	at, err := c.standings(ctx, a, now)
	if err != nil {
		return s, err
	}
	s.Now, s.Sites, s.Rings = at.now, at.sites, at.ring
	if s.Days, err = c.store.compliance(ctx, a.organisations, now.AddDate(0, 0, 1-days)); err != nil {
		return s, err
	}
	if s.Rollouts, err = c.store.outcomes(ctx, at.devices, s.From, now); err != nil {
		return s, err
	}
	if s.Installed, err = c.store.installedAt(ctx, at.devices, s.From, now); err != nil {
		return s, err
	}
	all, err := c.exposed(ctx, at.devices, nil)
	if err != nil {
		return s, err
	}
	for _, x := range all {
		if x.Exposure.Security > 0 {
			s.Behind = append(s.Behind, patch.Behind{Device: x.Device, Site: x.Site, Exposure: x.Exposure, Exploited: x.Exploited})
		}
	}
	attacked, err := c.store.advisories(ctx, at.devices, api.ListAdvisoriesParams{Exploited: new(true)}, ranked{}, 50)
	if err != nil {
		return s, err
	}
	for _, x := range attacked {
		var mends []string
		for _, u := range x.Updates {
			mends = append(mends, u.Name+" "+u.To)
		}
		s.Exploited = append(s.Exploited, patch.Attacked{ID: x.ID, Summary: x.Summary, Software: strings.Join(x.Packages, ", "),
			Devices: x.Devices, Mends: strings.Join(mends, ", ")})
	}
	rules, err := c.store.rules(ctx)
	for _, r := range rules {
		if r.Do != patch.Approve && (r.Until.IsZero() || r.Until.After(now)) &&
			(r.Scope.Kind == health.Everywhere || slices.ContainsFunc(at.devices, func(id uuid.UUID) bool {
				m, ok := c.fleet.Known(id)
				return ok && r.Scope.Covers(m.Place)
			})) {
			s.Rules = append(s.Rules, r)
		}
	}
	return s, err
}

// ListReportSchedules lists when reports are sent: GET /report-schedules.
func (c *Service) ListReportSchedules(g *gin.Context, in api.ListReportSchedulesParams) {
	ctx := g.Request.Context()
	front.List(g, in.Cursor, in.Limit, named{}, c.store.schedules,
		func(r api.ReportSchedule) named { return named{r.Schedule.Name, r.ID.String()} },
		func(items []api.ReportSchedule, next *string) any {
			items = slices.DeleteFunc(items, func(r api.ReportSchedule) bool {
				scope := health.Scope{Kind: health.Everywhere}
				if r.Schedule.Organisation != nil {
					scope = health.Scope{Kind: health.Organisation, ID: r.Schedule.Organisation.String()}
				}
				return c.fleet.MayAt(ctx, front.CallerOf(g), see, scope) != nil
			})
			return api.ReportSchedulePage{Items: items, Next: next}
		})
}

// AddReportSchedule adds one: POST /report-schedules.
func (c *Service) AddReportSchedule(g *gin.Context) {
	c.putSchedule(g, nil, http.StatusCreated, "report.schedule")
}

// SetReportSchedule changes one: PUT /report-schedules/{id}.
func (c *Service) SetReportSchedule(g *gin.Context, id api.ID) {
	c.putSchedule(g, &id, http.StatusOK, "report.reschedule")
}

func (c *Service) putSchedule(g *gin.Context, id *uuid.UUID, status int, action string) {
	in, ok := front.Bind[api.NewReportSchedule](g)
	if !ok {
		return
	}
	made, err := c.schedule(g, id, &in)
	if c.done(g, action, fmt.Sprintf("%s to %s", in.Name, strings.Join(in.To, ", ")), err) {
		g.JSON(status, made)
	}
}

// nextOf is when a report is sent next after a time; nil where it is not any more.
func nextOf(in api.NewReportSchedule, after time.Time) *time.Time {
	if next := in.When.Next(after, time.UTC); !next.IsZero() {
		return &next
	}
	return nil
}

func (c *Service) schedule(g *gin.Context, id *uuid.UUID, in *api.NewReportSchedule) (made api.ReportSchedule, err error) {
	ctx, caller := g.Request.Context(), front.CallerOf(g)
	if err := soundSchedule(in); err != nil {
		return made, front.Problem(http.StatusBadRequest, "The schedule cannot be taken.", err.Error()+".")
	}
	if in.Organisation != nil {
		if err := c.fleet.KnownScope(ctx, health.Scope{Kind: health.Organisation, ID: in.Organisation.String()}); err != nil {
			return made, err
		}
	}
	return c.store.setSchedule(ctx, id, *in, nextOf(*in, time.Now()), caller.Email, caller.ID)
}

// soundSchedule refuses a schedule that cannot be kept, and leaves what is written of a name and addresses as it is kept.
func soundSchedule(in *api.NewReportSchedule) error {
	in.Name = device.CleanText(strings.TrimSpace(in.Name))
	in.When.Minutes = 1
	if err := in.When.Validate(); err != nil {
		return err
	}
	for i, to := range in.To {
		address, err := mail.ParseAddress(to)
		if err != nil {
			return fmt.Errorf("%q is no e-mail address", to)
		}
		in.To[i] = address.Address
	}
	if in.Name == "" {
		return errors.New("give it a name")
	}
	return nil
}

// RemoveReportSchedule removes one: DELETE /report-schedules/{id}.
func (c *Service) RemoveReportSchedule(g *gin.Context, id api.ID) {
	name, err := c.store.removeSchedule(g.Request.Context(), id)
	if c.done(g, "report.unschedule", name, err) {
		g.Status(http.StatusNoContent)
	}
}

// SendReport sends one now: POST /report-schedules/{id}/sends.
func (c *Service) SendReport(g *gin.Context, id api.ID) {
	r, err := c.send(g.Request.Context(), id)
	if c.done(g, "report.send", fmt.Sprintf("%s to %s", r.Schedule.Name, strings.Join(r.Schedule.To, ", ")), err) {
		g.JSON(http.StatusOK, r)
	}
}

// send sends the report of a schedule, and returns the schedule as it is then.
func (c *Service) send(ctx context.Context, id uuid.UUID) (r api.ReportSchedule, err error) {
	if r, err = c.store.scheduleOf(ctx, id); err != nil {
		return r, err
	}
	if err := c.mailReport(ctx, r, time.Now()); err != nil {
		return r, front.Problem(http.StatusBadGateway, "The report could not be sent.", err.Error()+".")
	}
	if err := c.store.sent(ctx, id, time.Now(), r.NextAt); err != nil {
		return r, err
	}
	return c.store.scheduleOf(ctx, id)
}

// Times of sending.
const (
	sendWithin = 5 * time.Minute
	sendAgain  = 10 * time.Minute // after it failed
	mostTries  = 12
)

// SendReports sends the reports that are due. It is run every minute.
func (c *Service) SendReports(ctx context.Context) error {
	now := time.Now()
	ids, due, err := c.store.claim(ctx, now, sendWithin)
	if err != nil {
		return err
	}
	var bad []error
	for i, id := range ids {
		r, err := c.store.scheduleOf(ctx, id)
		if err != nil {
			bad = append(bad, err)
			continue
		}
		next := nextOf(r.Schedule, now)
		if err = c.mayBeSent(ctx, id); err == nil {
			err = c.mailReport(ctx, r, due[i])
		}
		if err != nil {
			slog.Warn("a report cannot be sent; trying again", "report", r.Schedule.Name, "error", err)
			bad = append(bad, c.store.notSent(ctx, id, device.CleanLong(err.Error(), 300), now.Add(sendAgain), mostTries, next))
			continue
		}
		entry := front.Entry{Action: "report.send", Detail: fmt.Sprintf("%s to %s", r.Schedule.Name, strings.Join(r.Schedule.To, ", ")),
			Result: "done", Actor: r.ChangedBy, Via: "schedule"}
		bad = append(bad, c.store.sent(ctx, id, now, next), c.audit.Record(ctx, entry))
	}
	return errors.Join(bad...)
}

// mayBeSent refuses to send the report of a schedule whose owner may no longer have any sent.
func (c *Service) mayBeSent(ctx context.Context, id uuid.UUID) error {
	owner, err := c.store.ownerOf(ctx, id)
	if err != nil {
		return err
	}
	rights, err := c.people.RightsOf(ctx, owner)
	if err == nil && !rights.Everywhere(administer) {
		err = errors.New("who set it may no longer have reports sent: save it again to adopt it")
	}
	return err
}

// mailReport makes the report of a schedule and hands it over as mail, as PDF and as a page. The mail of one due
// time has one identity, however often it is sent.
func (c *Service) mailReport(ctx context.Context, r api.ReportSchedule, due time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	a, err := c.narrow(ctx, about{}, r.Schedule.Organisation, func(uuid.UUID) bool { return true })
	if err != nil {
		return err
	}
	s, err := c.summary(ctx, a, r.Schedule.Days, "Moorwatch", time.Now())
	if err != nil {
		return err
	}
	d := s.Document()
	var page, paper bytes.Buffer
	if err := errors.Join(d.WriteHTML(&page), d.WritePDF(&paper)); err != nil {
		return err
	}
	files := []post.File{{Name: fileName(s, "pdf"), Type: "application/pdf", Content: paper.Bytes()},
		{Name: fileName(s, "html"), Type: "text/html", Content: page.Bytes()}}
	return c.post.Mail(ctx, r.Schedule.To, fmt.Sprintf("%s-%d", r.ID, due.Unix()), d.Title+", "+d.Subtitle, s.Letter(), files...)
}
