package test

import (
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
)

// body is a simulated computer with hardware of its own.
func body(name string, seed uint64) host.Host {
	return sim.Device{Name: name, Kind: sim.Desk, Seed: seed, Address: "192.0.2.10"}.Host(time.Now)
}

// A copy of a device is kept out until somebody says what it is, and then a device of its own; a device that
// comes back with a new system is asked about, and goes on with its history.
func TestCopiedAndReturned(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	first := w.agent(t, "hay-desk-01", body("hay-desk-01", 31), nil)
	copyDir := t.TempDir()
	if err := os.CopyFS(copyDir, os.DirFS(first.dir)); err != nil {
		t.Fatal(err)
	}
	copied := &running{dir: copyDir, id: first.id}
	w.back(t, copied, body("hay-copy", 32))
	question := func(id uuid.UUID) *api.IdentityQuestion { return w.device(t, id).Question }
	w.await(t, "somebody is asked", func() bool { return question(first.id) != nil })
	q := question(first.id)
	if q.Kind != api.IdentityQuestionKindCopied || q.HostName != "hay-copy" || len(q.Known) != 1 || len(q.Hardware) != 1 ||
		q.Known[0] == q.Hardware[0] {
		t.Errorf("%+v", q)
	}
	if d := w.device(t, first.id); !d.Device.Online || d.Device.Name != "hay-desk-01" {
		t.Errorf("the device itself is %+v", d.Device)
	}
	w.await(t, "it is a finding", func() bool {
		for _, f := range w.device(t, first.id).Findings {
			if strings.Contains(f.Message, "kept out") {
				return true
			}
		}
		return false
	})
	technician := w.person(t, "technician")
	err := client.Done(technician.AnswerIdentityQuestionWithResponse(t.Context(), first.id, api.IdentityAnswer{Question: q.ID, Same: true}))
	refused(t, err, http.StatusForbidden, "It needs the permission")
	err = client.Done(w.owner.AnswerIdentityQuestionWithResponse(t.Context(), first.id,
		api.IdentityAnswer{Question: uuid.New(), Same: true}))
	refused(t, err, http.StatusConflict, "Something else")

	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/devices/" + first.id.String()))
	p.sees("[aria-label='Which computer is it?']", "hay-copy at 127.0.0.1 showed")
	p.until(`!document.querySelector(".animate-pulse")`, "nothing is still being read")
	p.accessible("a question about a copy")
	p.press("[aria-label='Which computer is it?']", "A copy: make it a device of its own")
	p.until(`!document.querySelector("[aria-label='Which computer is it?']")`, "nothing is asked any more")
	var own uuid.UUID
	w.awaitFor(t, 2*time.Minute, "the copy is a device of its own", func() bool { // it asks again every half minute
		i, err := identity.Load(copyDir)
		if err != nil {
			t.Fatal(err)
		}
		own = uuid.MustParse(i.Device)
		return own != first.id && w.device(t, own).Device.Online
	})
	if d := w.device(t, first.id); !d.Device.Online || d.Question != nil {
		t.Errorf("the device itself is %+v", d)
	}
	if d := w.device(t, own); d.Device.Name != "hay-copy" || d.Device.Site != site {
		t.Errorf("the copy is %+v", d.Device)
	}

	// The first one comes back with a new system.
	w.await(t, "its vitals", func() bool { return w.device(t, first.id).Vitals != nil })
	first.stop()
	w.await(t, "it is away", func() bool { return !w.device(t, first.id).Device.Online })
	enrolled := w.device(t, first.id).EnrolledAt
	h := body("hay-new", 31)
	facts, err := h.Informer.Facts(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	i := must(identity.Enrol(t.Context(), dir, w.Service.URL, w.enrolmentToken(t, 1),
		device.Facts{HostName: "hay-new", Hardware: facts.Hardware}))(t)
	again := uuid.MustParse(i.Device)
	w.runs(t, "hay-new", dir, again, h, nil)
	if q := question(again); q == nil || q.Kind != api.IdentityQuestionKindReturned || q.Older == nil || *q.Older != first.id {
		t.Fatalf("it is not recognised: %+v", q)
	}
	out, errs, exit := ran(t, w.moor(t, "agent", "conflicts"))
	if exit != 0 || !strings.Contains(out, "it has the hardware of hay-desk-01: the same device?") {
		t.Errorf("%d %q %q", exit, out, errs)
	}
	if out, errs, exit := ran(t, w.moor(t, "agent", "settle", "hay-new", "--same")); exit != 0 ||
		!strings.Contains(out, "goes on as hay-desk-01") {
		t.Errorf("%d %q %q", exit, out, errs)
	}
	w.await(t, "it goes on as the device that it was", func() bool {
		i, err := identity.Load(dir)
		d := w.device(t, first.id)
		return err == nil && i.Device == first.id.String() && d.Device.Online && d.Device.Name == "hay-new"
	})
	if d := w.device(t, first.id); !d.EnrolledAt.Equal(enrolled) || d.Question != nil {
		t.Errorf("its history is another's: %+v", d)
	}
	_, err = client.Result(w.owner.GetDeviceWithResponse(t.Context(), again))
	refused(t, err, http.StatusNotFound, "")
	if _, errs, exit := ran(t, w.moor(t, "agent", "settle", "hay-new", "--same")); exit == 0 ||
		!strings.Contains(errs, "nothing is asked") {
		t.Errorf("%d %q", exit, errs)
	}
}
