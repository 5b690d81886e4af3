package test

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
)

// Finding 13: whoever found a token of many uses had as many devices in the fleet as they liked. Devices of such a token
// are kept out until somebody lets them in.
func TestDevicesWaitToBeLetIn(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	uses := 5
	made := must(client.Made(w.owner.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: organisation, Site: site, Uses: &uses})))(t)
	if !made.Token.Approval {
		t.Fatal("the devices of a token of five uses are let in without a question")
	}
	one := must(client.Made(w.owner.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: organisation, Site: site})))(t)
	if one.Token.Approval {
		t.Error("a token of one use asks")
	}
	enrol := func(name string, seed uint64) (string, uuid.UUID, host.Host) {
		h := body(name, seed)
		facts := must(h.Informer.Facts(t.Context()))(t)
		dir := t.TempDir()
		i := must(identity.Enrol(t.Context(), dir, w.Service.URL, made.Secret, device.Facts{HostName: name, Hardware: facts.Hardware}))(t)
		return dir, uuid.MustParse(i.Device), h
	}
	firstDir, first, h := enrol("hay-desk-41", 41)
	dialer := must(identity.Load(firstDir))(t).Dialer()
	dialer.HostName = "hay-desk-41"
	_, err := dialer.Dial(t.Context())
	if refusal := refusalOf(err); refusal == nil || refusal.Status != http.StatusTooEarly ||
		!strings.Contains(refusal.Reason, "let it in") {
		t.Fatalf("a device that nobody let in is answered with %v", err)
	}
	_, second, _ := enrol("hay-desk-42", 42)
	_, third, _ := enrol("hay-desk-43", 43)
	kind := api.ListIdentityQuestionsParamsKindEnrolled
	waiting := func() []api.IdentityQuestion {
		return must(client.Result(w.owner.ListIdentityQuestionsWithResponse(t.Context(),
			&api.ListIdentityQuestionsParams{Kind: &kind})))(t).Items
	}
	if all := waiting(); len(all) != 3 || all[0].Device != first || all[0].HostName != "hay-desk-41" || len(all[0].Hardware) == 0 {
		t.Fatalf("%+v", all)
	}
	w.await(t, "its finding says that it waits, and not that it is silent", func() bool {
		found := w.device(t, first).Findings
		return len(found) == 1 && strings.Contains(found[0].Message, "lets it in")
	})
	technician := w.person(t, "technician")
	err = client.Done(technician.AnswerIdentityQuestionWithResponse(t.Context(), first,
		api.IdentityAnswer{Question: waiting()[0].ID, Same: true}))
	refused(t, err, http.StatusForbidden, "It needs the permission")

	p := w.open(t)
	p.signIn()
	p.do(chromedp.Navigate(p.url + "/enrol"))
	p.sees("[aria-labelledby='waiting']", "hay-desk-41")
	p.accessible("devices that wait")
	p.press("[aria-labelledby='waiting']", "Let in")
	p.until(`!document.querySelector("[aria-label='Let in hay-desk-41']")`, "it is let in")
	w.runs(t, "hay-desk-41", firstDir, first, h, nil)

	if out, errs, exit := ran(t, w.moor(t, "agent", "conflicts")); exit != 0 || !strings.Contains(out, "hay-desk-42") ||
		!strings.Contains(out, "let it in?") {
		t.Errorf("%d %q %q", exit, out, errs)
	}
	if _, errs, exit := ran(t, w.moor(t, "agent", "admit", "hay-desk-99")); exit == 0 ||
		!strings.Contains(errs, `0 devices named "hay-desk-99" wait`) {
		t.Errorf("%d %q", exit, errs)
	}
	if _, errs, exit := ran(t, w.moor(t, "agent", "settle", "hay-desk-42", "--same")); exit == 0 ||
		!strings.Contains(errs, "moor agent admit") {
		t.Errorf("%d %q", exit, errs)
	}
	if out, errs, exit := ran(t, w.moor(t, "agent", "refuse", "hay-desk-42")); exit != 0 || !strings.Contains(out, "refused and retired") {
		t.Errorf("%d %q %q", exit, out, errs)
	}
	if out, errs, exit := ran(t, w.moor(t, "agent", "admit", "--all")); exit != 0 || !strings.Contains(out, "hay-desk-43 is let in") {
		t.Errorf("%d %q %q", exit, out, errs)
	}
	if all := waiting(); len(all) != 0 {
		t.Errorf("%d still wait", len(all))
	}
	_, err = client.Result(w.owner.GetDeviceWithResponse(t.Context(), second))
	refused(t, err, http.StatusNotFound, "")
	if q := w.device(t, third).Question; q != nil {
		t.Errorf("of one that was let in is asked %+v", q)
	}
}

func refusalOf(err error) *link.Refusal {
	var r *link.Refusal
	errors.As(err, &r)
	return r
}

// Finding 13: a copy that told nothing of its hardware was taken for the device. One that tells less than the device did
// is asked about; where a device has nothing to tell, it and its copy are told apart by what each was given last.
func TestCopiesThatTellNothing(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	first := w.agent(t, "hay-desk-51", body("hay-desk-51", 51), nil)
	first.stop()
	w.await(t, "it is away", func() bool { return !w.device(t, first.id).Device.Online })
	dial := func(dir string) error {
		d := must(identity.Load(dir))(t).Dialer()
		d.HostName = "hay-copy"
		d.Mark, d.Keep = identity.Mark(dir), func(mark string) error { return identity.KeepMark(dir, mark) }
		l, err := d.Dial(t.Context())
		if err == nil {
			l.Close()
			w.await(t, "it is gone again", func() bool { return w.Service.Online() == 0 })
		}
		return err
	}
	if refusal := refusalOf(dial(first.dir)); refusal == nil || refusal.Status != http.StatusTooEarly {
		t.Errorf("one that tells nothing of its hardware any more: %v", refusal)
	}
	if q := w.device(t, first.id).Question; q == nil || q.Kind != api.IdentityQuestionKindCopied || q.HostName != "hay-copy" {
		t.Errorf("%+v", q)
	}

	dir, id := w.enrol(t, "hay-box-01")
	for range 2 {
		if err := dial(dir); err != nil {
			t.Fatalf("a device that has nothing to tell: %v", err)
		}
	}
	copyDir := t.TempDir()
	if err := os.CopyFS(copyDir, os.DirFS(dir)); err != nil {
		t.Fatal(err)
	}
	if err := dial(copyDir); err != nil {
		t.Fatalf("who comes first is the device: %v", err)
	}
	if err := dial(copyDir); err != nil {
		t.Fatal(err)
	}
	if refusal := refusalOf(dial(dir)); refusal == nil || refusal.Status != http.StatusTooEarly {
		t.Errorf("who comes second with the same mark: %v", refusal)
	}
	q := w.device(t, id).Question
	if q == nil {
		t.Fatal("nobody is asked")
	}
	if err := client.Done(w.owner.AnswerIdentityQuestionWithResponse(t.Context(), id,
		api.IdentityAnswer{Question: q.ID, Same: true})); err != nil {
		t.Fatal(err)
	}
	if err := dial(dir); err != nil {
		t.Errorf("the one that was said to be the device: %v", err)
	}
	if err := dial(copyDir); refusalOf(err) == nil {
		t.Errorf("the other: %v", err)
	}
}

// Whoever has a device's key and shows it with ever other hardware fills no table with questions.
func TestQuestionsAreBounded(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	first := w.agent(t, "hay-desk-61", body("hay-desk-61", 61), nil)
	first.stop()
	w.await(t, "it is away", func() bool { return !w.device(t, first.id).Device.Online })
	d := must(identity.Load(first.dir))(t).Dialer()
	for i := range 25 { // fewer than connections at once
		d.HostName, d.Hardware = "hay-copy", []string{fmt.Sprintf("serial:fennick d3/copy-%d", i)}
		_, err := d.Dial(t.Context())
		if refusal := refusalOf(err); refusal == nil || refusal.Status != http.StatusTooEarly {
			t.Fatalf("copy %d: %v", i, err)
		}
	}
	limit := 100
	if all := must(client.Result(w.owner.ListIdentityQuestionsWithResponse(t.Context(),
		&api.ListIdentityQuestionsParams{Limit: &limit})))(t).Items; len(all) != 20 {
		t.Errorf("%d questions are asked", len(all))
	}
}

// A token of somebody who was removed, or may not enrol devices any more, lets no device in by itself: a computer of
// theirs would receive what is done at the whole site, with its secrets.
func TestDevicesByTokensOfTheRemovedWait(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	m := w.mate(t, "alder@curlew-sedge.example", access.Technician, everywhere)
	uses := 5
	made := must(client.Made(m.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: organisation, Site: site, Uses: &uses, Approval: new(bool)})))(t)
	waiting := func() (names []string) {
		t.Helper()
		kind := api.ListIdentityQuestionsParamsKindEnrolled
		for _, q := range must(client.Result(w.owner.ListIdentityQuestionsWithResponse(t.Context(),
			&api.ListIdentityQuestionsParams{Kind: &kind})))(t).Items {
			names = append(names, q.HostName)
		}
		return names
	}
	w.enrolWith(t, "hay-desk-51", made.Secret)
	if len(waiting()) != 0 {
		t.Fatalf("%q wait, and their technician is there", waiting())
	}
	check(client.Done(w.owner.RemovePersonWithResponse(t.Context(), m.id)))(t)
	dir, _ := w.enrolWith(t, "hay-desk-52", made.Secret)
	if got := waiting(); !slices.Equal(got, []string{"hay-desk-52"}) {
		t.Errorf("%q wait", got)
	}
	if _, err := must(identity.Load(dir))(t).Dialer().Dial(t.Context()); refusalOf(err) == nil {
		t.Errorf("a device that nobody let in is answered with %v", err)
	}
}
