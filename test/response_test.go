package test

import (
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/response"
	"moorwatch.example/core/work"
)

const screenService = "catalogue-screen.service"

// kiosk is a simulated kiosk with files and settings of its own.
func (w *world) kiosk(t *testing.T, name string) (*running, sim.Device) {
	t.Helper()
	d := sim.Device{Name: name, Kind: sim.Kiosk, Seed: 4, Address: "192.0.2.14", Dir: t.TempDir()}
	return w.agent(t, name, d.Host(time.Now), nil), d
}

// respond sets a policy whose response is told.
func (w *world) respond(t *testing.T, settings []health.Setting, responses ...response.Response) *api.Policy {
	t.Helper()
	responses = append([]response.Response{}, responses...)
	return must(client.Made(w.owner.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "Kiosks", Scope: health.Scope{Kind: health.Everywhere}, Settings: settings, Responses: &responses})))(t)
}

func (w *world) responses(t *testing.T) []api.ResponseRun {
	t.Helper()
	return must(client.Result(w.owner.ListResponsesWithResponse(t.Context(), &api.ListResponsesParams{})))(t).Items
}

var watched = health.Setting{Check: health.CheckService, Subject: screenService, Level: health.Critical, EverySeconds: 10}

// A service that stops is started again by its policy: nobody is told meanwhile, and once it is healed the
// alert is over. What does not help leads to the next step, and in the end to a person; what was tried too
// often is not tried again.
func TestResponses(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d, _ := w.kiosk(t, "hay-kiosk")
	stop := func() {
		t.Helper()
		must(client.Result(w.owner.ChangeServiceWithResponse(t.Context(), d.id,
			link.ServiceAction{Action: link.ServiceStop, Name: screenService})))(t)
	}
	breaks := *w.scriptID(t, "Does not help", "exit 7\n", nil)
	y := w.respond(t, []health.Setting{watched}, response.Response{Name: "Bring it back", Check: health.CheckService,
		Subject: "catalogue-*", Attempts: 2, Hours: 1,
		Steps: []response.Step{{Do: response.Script, Script: breaks.String(), Watch: 1}, {Do: response.RestartService, Watch: 15}}})
	w.await(t, "the service is watched", func() bool {
		checks := must(client.Result(w.owner.ListDeviceChecksWithResponse(t.Context(), d.id)))(t).Items
		for _, c := range checks {
			if c.Setting.Subject == screenService {
				return true
			}
		}
		return false
	})
	stop()
	var r api.ResponseRun
	w.awaitFor(t, 2*time.Minute, "the response has healed it", func() bool {
		all := w.responses(t)
		if len(all) == 1 {
			r = all[0]
		}
		return r.State == "healed"
	})
	said := strings.Join(r.Said, " ")
	if r.Step != 2 || !strings.Contains(said, "Step 1, run a script: failed: exit status 7") ||
		!strings.Contains(said, "Step 2, restart the service: done") || r.Job == nil {
		t.Errorf("%+v", r)
	}
	alerts := must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
		&api.ListAlertsParams{Check: new(health.CheckService)})))(t).Items
	if len(alerts) != 1 || alerts[0].State != "resolved" || alerts[0].Response == nil || alerts[0].Response.State != "healed" {
		t.Errorf("%+v", alerts)
	}
	actions := must(client.Result(w.owner.ListAuditWithResponse(t.Context(),
		&api.ListAuditParams{Device: &d.id, Text: new("response.start")})))(t).Items
	if len(actions) != 2 || actions[0].Actor != "policy Kiosks" {
		t.Errorf("on record: %+v", actions)
	}
	jobs := must(client.Result(w.owner.ListJobsWithResponse(t.Context(),
		&api.ListJobsParams{Origin: new(api.ListJobsParamsOrigin("response"))})))(t).Items
	if len(jobs) != 2 || jobs[0].CreatedBy != "policy Kiosks" {
		t.Errorf("%+v", jobs)
	}

	// It stops for a second time, and for a third: then a person is told at once.
	stop()
	w.awaitFor(t, 2*time.Minute, "it is healed again",
		func() bool { all := w.responses(t); return len(all) == 2 && all[0].State == "healed" })
	stop()
	w.awaitFor(t, 2*time.Minute, "it is not tried a third time, and needs a person", func() bool {
		all := w.responses(t)
		now := must(client.Result(w.owner.ListAttentionWithResponse(t.Context(), &api.ListAttentionParams{})))(t).Items
		return len(all) == 3 && all[0].State == "held" && len(now) == 1 && now[0].Alert.Check == health.CheckService && !now[0].Alert.Muted
	})
	policy := must(client.Result(w.owner.ListPoliciesWithResponse(t.Context(), &api.ListPoliciesParams{})))(t).Items[0]
	if o := *policy.Outcomes; policy.ID != y.ID || len(o) != 1 || o[0].Healed != 2 || o[0].Held != 1 {
		t.Errorf("%+v", policy.Outcomes)
	}
}

// What a policy wants is put in place where it is not, and only told of where that is all that is asked.
func TestWanted(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	deb := w.content(t, "catalogue-fonts_1.4_all.deb", []byte("a package"))
	fonts := w.pack(t, pack.Package{Name: "Catalogue Fonts", Version: "1.4", Files: []pack.File{deb},
		There:   pack.There{Condition: work.Condition{Kind: work.OfSoftware, Of: "catalogue-fonts"}},
		Install: []work.Step{{Do: work.Install, File: "catalogue-fonts_1.4_all.deb"}},
		Remove:  []work.Step{{Do: work.Uninstall, Name: "catalogue-fonts"}}})
	d, _ := w.kiosk(t, "hay-kiosk")
	w.respond(t, []health.Setting{
		{Check: health.CheckSoftware, Subject: "catalogue-fonts", Value: "1.4", Fix: fonts.ID.String()},
		{Check: health.CheckSoftware, Subject: "openssl*", Absent: true, Level: health.Warning},
		{Check: health.CheckSetting, Subject: "kernel/vm/swappiness", Value: "10", Fix: health.Self, EverySeconds: 10},
		{Check: health.CheckSetting, Subject: "kernel/vm/overcommit_memory", Value: "2", EverySeconds: 10},
	})
	w.awaitFor(t, 2*time.Minute, "both are put right", func() bool {
		healed := 0
		for _, r := range w.responses(t) {
			if r.State == "healed" {
				healed++
			}
		}
		return healed == 2
	})
	page := must(client.Result(w.owner.ListSettingsWithResponse(t.Context(), d.id,
		&api.ListSettingsParams{At: &[]string{"kernel", "vm"}})))(t)
	for _, s := range page.Items {
		if s.Name == "swappiness" && s.Value != "10" || s.Name == "overcommit_memory" && s.Value != "0" {
			t.Errorf("%+v", s)
		}
	}
	var alerts []api.Alert
	w.await(t, "the others are told of", func() bool {
		alerts = must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
			&api.ListAlertsParams{State: new("current"), Device: &d.id})))(t).Items
		return len(alerts) == 2
	})
	text := alerts[0].Message + alerts[1].Message
	if !strings.Contains(text, "openssl is installed, in version") ||
		!strings.Contains(text, `kernel/vm/overcommit_memory is "0", and must be "2"`) {
		t.Errorf("%s", text)
	}
	drift := must(client.Result(w.owner.ListJobsWithResponse(t.Context(),
		&api.ListJobsParams{Origin: new(api.ListJobsParamsOrigin("drift"))})))(t).Items
	if len(drift) != 2 {
		t.Errorf("%+v", drift)
	}
}

// A policy that could not do what it says is refused, and so is one who may not do it.
func TestResponsesAreRefused(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	one := func(s response.Step) api.NewPolicy {
		return api.NewPolicy{Name: "x", Scope: health.Scope{Kind: health.Everywhere}, Settings: []health.Setting{watched},
			Responses: &[]response.Response{{Name: "It", Check: health.CheckService, Steps: []response.Step{s}}}}
	}
	for words, s := range map[string]response.Step{
		"one of script":       {Do: "dance"},
		"does not have":       {Do: response.Script, Script: uuid.NewString()},
		"package, or version": {Do: response.Install, Package: uuid.NewString()},
		"named by its id":     {Do: response.Script, Script: "x"},
	} {
		_, err := client.Made(w.owner.AddPolicyWithResponse(t.Context(), one(s)))
		refused(t, err, http.StatusBadRequest, words)
	}
	setter := w.person(t, w.role(t, "setter", access.FleetRead, access.PolicyManage))
	_, err := client.Made(setter.AddPolicyWithResponse(t.Context(), one(response.Step{Do: response.RestartService})))
	refused(t, err, http.StatusForbidden, "")
	in := one(response.Step{Do: response.Wait})
	if _, err := client.Made(setter.AddPolicyWithResponse(t.Context(), in)); err != nil {
		t.Errorf("one who may set policies sets one that only waits: %v", err)
	}
	for words, s := range map[string]health.Setting{
		"needs the value":     {Check: health.CheckSetting, Subject: "kernel/vm/swappiness"},
		"is a pattern":        {Check: health.CheckSoftware, Subject: "open*"},
		"only what is wanted": {Check: "cpu", Above: &health.Limits{Warning: new(90.0)}, Fix: "set"},
		"its fix is":          {Check: health.CheckSetting, Subject: "a/b", Value: "1", Fix: "pray"},
	} {
		_, err := client.Made(w.owner.AddPolicyWithResponse(t.Context(),
			api.NewPolicy{Name: "y", Scope: health.Scope{Kind: health.Everywhere}, Settings: []health.Setting{s}}))
		refused(t, err, http.StatusBadRequest, words)
	}
}

// An agent behaves as its policy says: it reports at another pace, and does not offer what it is to
// withhold.
func TestAgentBehaviour(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d, _ := w.kiosk(t, "hay-kiosk")
	y := must(client.Made(w.owner.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "Quiet", Scope: health.Scope{Kind: health.Everywhere}, Settings: []health.Setting{},
			Agent: &health.Agent{ReportSeconds: 10, Withhold: []string{"services", "screen"}}})))(t)
	offers := func(name string) bool {
		for _, c := range must(w.owner.Device(t.Context(), d.id))(t).Device.Capabilities {
			if c == name {
				return true
			}
		}
		return false
	}
	w.awaitFor(t, 2*time.Minute, "it withholds its services and its screen",
		func() bool { return !offers("services") && !offers("screen") && offers("shell") })
	var err error
	w.await(t, "it refuses to list them", func() bool {
		_, err = client.Result(w.owner.ListServicesWithResponse(t.Context(), d.id))
		p := (*client.Problem)(nil)
		return errors.As(err, &p) && p.Status == http.StatusConflict && strings.Contains(p.Error(), "does not offer Services")
	})
	if err := client.Done(w.owner.RemovePolicyWithResponse(t.Context(), y.ID)); err != nil {
		t.Fatal(err)
	}
	w.awaitFor(t, 2*time.Minute, "it offers them again", func() bool { return offers("services") && offers("screen") })
	_, err = client.Made(w.owner.AddPolicyWithResponse(t.Context(),
		api.NewPolicy{Name: "Bad", Scope: health.Scope{Kind: health.Everywhere}, Settings: []health.Setting{},
			Agent: &health.Agent{Withhold: []string{"vitals"}}}))
	refused(t, err, http.StatusBadRequest, "can withhold")
}
