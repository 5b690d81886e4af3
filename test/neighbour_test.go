package test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/contract/server"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
)

// mark stands in every text of the neighbour organisation.
const mark = "bogmark"

// asking is how an operation is asked in a test of what it tells: in place of what its path and its body lack.
type asking struct {
	query  string
	body   any
	id     string // of what the path names; "" for that of the caller's own device
	status int    // that is expected; 0 for 200
	stream bool   // it is read for a moment
}

// changes are the operations that change something and tell nothing but of that: TestEveryRoute holds them against
// who may.
var changes = strings.Fields(`addEnrolmentToken revokeEnrolmentToken handleAlert addPolicy setPolicy removePolicy addWindow setWindow removeWindow endSession noteSession
	addConsentRule setConsentRule removeConsentRule saveQuery removeQuery steerJob retryJob askUpdates steerRollout doOnMany`)

// Finding 11: technicians of one site were told of another organisation's rules, queries and counts, and where
// colleagues work from. Every operation that answers within what its caller sees has a case here, by itself or
// below; one without fails.
func TestNothingOfNeighbours(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	mine, other := w.simulated(t, "hay-desk-01"), w.elsewhere(t, mark+"-desk-01")
	org := health.Scope{Kind: health.Organisation, ID: w.organisationID(t, otherOrganisation).String()}
	must(client.Made(w.owner.AddGroupWithResponse(t.Context(),
		api.NewGroup{Name: mark + " group", Expression: new("true"), Organisation: new(uuid.MustParse(org.ID))})))(t)
	w.policy(t, mark+" policy", org, health.Setting{Check: "disk", Above: &health.Limits{Warning: new(1.0)}})
	check(client.Done(w.owner.SetDeviceNoteWithResponse(t.Context(), other.id,
		api.DeviceNote{Alias: mark + " alias", Note: mark + " note"})))(t)
	must(client.Made(w.owner.AddApprovalWithResponse(t.Context(),
		patch.Rule{Name: mark + " rule", Scope: org, Do: patch.Exclude, Reason: mark + " reason"})))(t)
	must(client.Made(w.owner.SaveQueryWithResponse(t.Context(),
		api.NewSavedQuery{Name: mark + " query", Text: `service where state == "failed"`})))(t)
	script := w.scriptID(t, "quiet", "echo quiet", nil)
	everyone := "true"
	both := w.job(t, api.NewJob{Script: script, Where: &everyone})
	theirs := w.job(t, api.NewJob{Script: script, Devices: &[]uuid.UUID{other.id}, Name: new(mark + " job")})
	for d, reason := range map[*running]string{mine: "slow", other: mark + " reason"} { // a session with each, from an address
		s := must(client.Result(w.owner.BeginSessionWithResponse(t.Context(), d.id,
			api.NewToolSession{Tool: "processes", Reason: &reason})))(t)
		check(client.Done(w.owner.EndSessionWithResponse(t.Context(), s.ID)))(t)
	}
	var alert uuid.UUID
	w.await(t, "the neighbour has an alert", func() bool {
		for _, a := range must(client.Result(w.owner.ListAlertsWithResponse(t.Context(),
			&api.ListAlertsParams{Device: &other.id})))(t).Items {
			alert = a.ID
		}
		return alert != uuid.Nil
	})
	rollout := uuid.Nil
	w.await(t, "both have updates to be brought", func() bool {
		r, err := client.Made(w.owner.AddRolloutWithResponse(t.Context(),
			api.NewRollout{Where: &everyone, Spec: patch.Rollout{Name: "monthly", Restart: patch.RestartNever, WaitHours: 1,
				Rings: []patch.Ring{{Name: "all"}}}}))
		if err == nil {
			rollout = r.ID
		}
		return err == nil
	})
	token := w.personWith(t, api.Grants{{Role: access.Technician, Scope: w.siteScope(t, organisation, site)}})
	cases := map[string]asking{
		"exportAudit": {query: "format=jsonl"}, "findDevice": {query: "", id: mark + "-desk-01", status: http.StatusNotFound},
		"streamEvents": {stream: true}, "getAlert": {id: alert.String(), status: http.StatusNotFound},
		"listSuspects":  {id: alert.String(), status: http.StatusNotFound},
		"listInstalled": {query: "name=curl"}, "makeReport": {query: "format=html"},
		"getJob": {id: both.ID.String()}, "listRuns": {id: both.ID.String()}, "exportRuns": {id: both.ID.String(), query: "format=jsonl"},
		"compareJobs": {id: both.ID.String(), query: "with=" + both.ID.String()},
		"getRun":      {id: theirs.ID.String(), status: http.StatusNotFound}, "getRollout": {id: rollout.String()},
		"listRolloutDevices": {id: rollout.String()},
		"getRecording":       {status: http.StatusNotFound}, "playRecording": {status: http.StatusNotFound},
		"getRecordingPiece": {status: http.StatusNotFound}, "getRecordingProof": {status: http.StatusNotFound},
		"getScript": {id: script.String()}, "listScriptVersions": {id: script.String()}, "getPackage": {status: http.StatusNotFound},
		"listPackageVersions": {},
		"getAdvisory":         {status: http.StatusNotFound}, "listAdvisoryDevices": {status: http.StatusNotFound},
		"previewGroup": {body: api.Expression{Expression: "true"}},
		"tryPolicy": {body: api.Trial{Scope: everywhere,
			Setting: health.Setting{Check: "disk", Above: &health.Limits{Warning: new(1.0)}}}},
		"sweep":  {body: api.Sweep{Question: link.Question{Kind: link.AskProcess, Name: "sh"}}},
		"addJob": {body: api.NewJob{Script: script, Where: &everyone, Plan: new(true)}, status: http.StatusCreated},
		"addRollout": {body: api.NewRollout{Where: &everyone, Plan: new(true),
			Spec: patch.Rollout{Name: "monthly", Restart: patch.RestartNever, WaitHours: 1, Rings: []patch.Ring{{Name: "all"}}}},
			status: http.StatusCreated},
	}
	spec := must(server.GetSpec())(t)
	var ids []string
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			name := strings.ToLower(op.OperationID[:1]) + op.OperationID[1:]
			if place, _ := op.Extensions["x-place"].(string); place != "within" {
				continue // TestEveryRoute holds those of a device, and those held everywhere, against who may
			}
			ids = append(ids, name)
			ask, known := cases[name]
			isChange := false
			for _, c := range changes {
				isChange = isChange || c == name
			}
			switch {
			case isChange:
				continue
			case !known && (method != http.MethodGet || strings.Contains(path, "{")):
				t.Errorf("%s %s (%s) has no case here", method, path, name)
				continue
			}
			w.tellsNothing(t, method, path, ask, token, []string{mark, other.id.String(), otherSite, otherOrganisation})
		}
	}
	sort.Strings(ids)
	for name := range cases {
		if i := sort.SearchStrings(ids, name); i == len(ids) || ids[i] != name {
			t.Errorf("%s is no operation that answers within what its caller sees", name)
		}
	}
	// What is counted is counted of what they see.
	c := w.client(t, token)
	if r := must(client.Result(c.GetRolloutWithResponse(t.Context(), rollout)))(t); r.Rings[0].Devices != 1 {
		t.Errorf("the ring has %d devices for them", r.Rings[0].Devices)
	}
	for _, s := range must(client.Result(c.ListDeviceSessionsWithResponse(t.Context(), mine.id,
		&api.ListDeviceSessionsParams{})))(t).Items {
		if s.Address != "" {
			t.Errorf("a colleague works from %s", s.Address)
		}
	}
}

// tellsNothing asks an operation, and looks for words in what it answers.
func (w *world) tellsNothing(t *testing.T, method, path string, ask asking, token string, secrets []string) {
	t.Helper()
	id := ask.id
	if id == "" {
		id = uuid.NewString()
	}
	address := w.Service.URL + "/api/v1" + strings.NewReplacer("{id}", id, "{name}", id, "{run}", uuid.NewString(), "{advisory}", "nosuch",
		"{n}", "0").Replace(path)
	if ask.query != "" {
		address += "?" + ask.query
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var body io.Reader
	if ask.body != nil {
		body = bytes.NewReader(must(json.Marshal(ask.body))(t))
	}
	r := must(http.NewRequestWithContext(ctx, method, address, body))(t)
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Errorf("%s %s: %v", method, path, err)
		return
	}
	defer answer.Body.Close()
	if ask.stream { // what comes while something of the neighbour changes
		time.AfterFunc(2*time.Second, cancel)
		must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: otherOrganisation, Site: mark + " site"})))(t)
		w.policy(t, "for everybody", health.Scope{Kind: health.Everywhere}, health.Setting{Check: "memory", Off: true})
	}
	text, err := io.ReadAll(answer.Body)
	if err != nil && !ask.stream {
		t.Errorf("%s %s: %v", method, path, err)
	}
	want := ask.status
	if want == 0 {
		want = http.StatusOK
	}
	if answer.StatusCode != want {
		t.Errorf("%s %s is answered with %s: %.500s", method, path, answer.Status, text)
	}
	for _, secret := range secrets {
		if at := strings.Index(string(text), secret); at >= 0 && ask.status != http.StatusNotFound {
			t.Errorf("%s %s tells a technician of another site of %q: …%.300s", method, path, secret, text[max(0, at-150):])
		}
	}
}

// Who works at one site learns by no guess which organisations and sites there are beside it.
func TestGuessesOfNeighboursTellNothing(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	must(client.Made(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: otherOrganisation, Site: otherSite})))(t)
	m := w.client(t, w.personWith(t, api.Grants{{Role: access.Technician, Scope: w.siteScope(t, organisation, site)}}))
	d := w.machine(t, "van-board")
	says := func(organisation, site string) string {
		t.Helper()
		_, err := client.Made(m.AddEnrolmentTokenWithResponse(t.Context(), api.NewEnrolmentToken{Organisation: organisation, Site: site}))
		moved := client.Done(m.MoveDeviceWithResponse(t.Context(), d.id, api.NewSite{Organisation: organisation, Site: site}))
		if err == nil || moved == nil {
			t.Fatalf("%s of %s is nothing to them: %v, %v", site, organisation, err, moved)
		}
		return strings.NewReplacer(organisation, "O", site, "S").Replace(err.Error() + "\n" + moved.Error())
	}
	if there, none := says(otherOrganisation, otherSite), says("Nosuch Cooperative", "Nowhere"); there != none {
		t.Errorf("of a site that is there they are told %q, and of another %q", there, none)
	}
}
