package response

import (
	"strings"
	"testing"
	"time"
)

func TestResponsesThatCannotBe(t *testing.T) {
	good := func() Response {
		return Response{Name: "Restart it", Check: "service", Subject: "cata*", Steps: []Step{{Do: RestartService}, {Do: Wait, Watch: 60}}}
	}
	if err := good().Validate(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(r *Response){
		"a name of 1":      func(r *Response) { r.Name = "" },
		"to which check":   func(r *Response) { r.Check = "" },
		"1 to 10 steps":    func(r *Response) { r.Steps = nil },
		"up to 50 times":   func(r *Response) { r.Attempts = mostAttempts + 1 },
		"within 1":         func(r *Response) { r.Hours = -1 },
		"cannot be read":   func(r *Response) { r.Subject = "[" },
		"it does one of":   func(r *Response) { r.Steps[0].Do = "guess" },
		"which script":     func(r *Response) { r.Steps[1] = Step{Do: Script} },
		"which package":    func(r *Response) { r.Steps[1] = Step{Do: Remove} },
		"is watched for":   func(r *Response) { r.Steps[1].Watch = mostWatch + 1 },
		"text of it is to": func(r *Response) { r.Steps[0].Service = strings.Repeat("x", mostText+1) },
	} {
		r := good()
		if change(&r); r.Validate() == nil || !strings.Contains(r.Validate().Error(), want) {
			t.Errorf("%s: %v", want, r.Validate())
		}
	}
	for subject, want := range map[string]bool{"catalogue": true, "cron": false, "": false} {
		if good().Matches("service", subject) != want || good().Matches("disk", subject) {
			t.Errorf("%q matches: %v", subject, !want)
		}
	}
	if r := (Response{Check: "cpu"}); !r.Matches("cpu", "") || !r.Matches("cpu", "x") {
		t.Error("a response without a subject matches all")
	}
	if n, within := (Response{}).Limit(); n != usualAttempts || within != usualHours*time.Hour {
		t.Errorf("%d within %s", n, within)
	}
	if n, within := (Response{Attempts: 1, Hours: 2}).Limit(); n != 1 || within != 2*time.Hour {
		t.Errorf("%d within %s", n, within)
	}
}

func TestStepsSay(t *testing.T) {
	for want, s := range map[string]Step{
		"run a script": {Do: Script}, "restart the service": {Do: RestartService},
		"restart the service cron": {Do: RestartService, Service: "cron"},
		"start the service cron":   {Do: StartService, Service: "cron"}, "install a package": {Do: Install},
		"remove a package": {Do: Remove},
		"set a/b":          {Do: Set, Path: "a/b"}, "restart the device": {Do: RestartDevice}, "wait": {Do: Wait},
		"restart the device in its window": {Do: RestartDevice, Windows: true},
	} {
		if s.String() != want {
			t.Errorf("%q, and not %q", s, want)
		}
	}
}

// A response changes by the passing of time alone only while it is watched.
func TestDue(t *testing.T) {
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	p := Begin(Response{Steps: []Step{{Do: Wait, Watch: 60}, {Do: Wait}}}, 0, now)
	if !p.Due().IsZero() || p.State.Over() {
		t.Errorf("%+v", p)
	}
	p.Did(true, "", now) // which nothing did
	if p.State != Due || len(p.Said) != 0 {
		t.Errorf("%+v", p)
	}
	p.State = Doing
	p.Did(false, "", now)
	if !p.Due().Equal(now.Add(time.Minute)) || p.Said[0] != "Step 1, wait: failed" {
		t.Errorf("%+v", p)
	}
	p.Check(true, now.Add(time.Minute))
	p.State = Doing
	p.Did(false, "it broke", now)
	if !p.Due().Equal(now.Add(usualWatch*time.Second)) || p.Said[1] != "Step 2, wait: failed: it broke" {
		t.Errorf("%+v", p)
	}
	if p.Check(true, now.Add(time.Hour)); p.State != GaveUp || !p.State.Over() {
		t.Errorf("%+v", p)
	}
}
