package fleet

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
)

// Hardware of made-up computers.
var (
	desk    = []string{"board:5f2c1a90-11aa-4b6e-9c1d-77aa10b2c3d4", "mac:02:5e:00:00:00:01"}
	deskToo = []string{"board:5f2c1a90-11aa-4b6e-9c1d-77aa10b2c3d4", "mac:02:5e:00:00:00:02"} // with another adapter
	laptop  = []string{"board:9d11e7c2-3c4d-4e5f-8a9b-a1b2c3d4e5f6", "mac:02:5e:00:00:00:09"}
	adapter = []string{"mac:02:5e:00:00:00:01"}
)

// shows has a computer with some hardware and mark show a device's key, and returns the mark that it is given, or how it
// is refused.
func (w *world) shows(id uuid.UUID, hardware []string, mark string) (given string, refused *link.Refusal) {
	w.t.Helper()
	given, err := w.Admit(w.t.Context(), id, "192.0.2.7:40000", link.Proof{Hardware: hardware, HostName: "heron", Mark: mark})
	if err != nil && !errors.As(err, &refused) {
		w.t.Fatal(err)
	}
	return given, refused
}

func (w *world) questionsOf(id uuid.UUID) (all []api.IdentityQuestion) {
	w.t.Helper()
	var at askedPlace
	for {
		page, err := w.store.questions(w.t.Context(), []uuid.UUID{id}, nil, at, 3)
		if err != nil {
			w.t.Fatal(err)
		}
		if len(page) == 0 {
			return all
		}
		all = append(all, page...)
		at = askedPlace{page[len(page)-1].AskedAt, page[len(page)-1].ID}
	}
}

// settle answers the oldest question about a device.
func (w *world) settle(id uuid.UUID, same bool) {
	w.t.Helper()
	q, err := w.store.question(w.t.Context(), id)
	if err == nil {
		err = w.store.answer(w.t.Context(), q, same, "wren")
	}
	if err != nil {
		w.t.Fatal(err)
	}
}

// A device may change its adapters, and tell more than before; a computer that is another, or tells less, is asked about
// once, and is kept out until somebody has said which it is.
func TestComputersThatShowAnothersKey(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	for _, hardware := range [][]string{adapter, desk, deskToo, desk} {
		if _, refused := w.shows(id, hardware, "m"); refused != nil && device.Telling(hardware) {
			t.Fatalf("with %q it is refused: %v", hardware, refused)
		}
	}
	if left := w.questionsOf(id); len(left) != 0 && device.Telling(left[0].Hardware) {
		t.Errorf("asked about: %+v", left)
	}
	before := len(w.questionsOf(id))
	for range 3 {
		if _, refused := w.shows(id, laptop, ""); refused == nil || refused.Status != http.StatusTooEarly || refused.Anew != "" {
			t.Fatalf("another computer: %v", refused)
		}
	}
	if n := len(w.questionsOf(id)); n != before+1 {
		t.Errorf("%d questions about one computer", n-before)
	}
	if _, refused := w.shows(id, adapter, ""); refused == nil {
		t.Error("a computer that tells less than the device did is let in")
	}
	if _, refused := w.shows(id, nil, ""); refused == nil {
		t.Error("a computer that tells nothing is let in")
	}
	if _, refused := w.shows(id, desk, ""); refused != nil {
		t.Errorf("the device itself is kept out: %v", refused)
	}
	entries := 0
	for _, e := range w.entries {
		if e.Action == "device.connect" {
			entries++
		}
	}
	if entries != len(w.questionsOf(id)) {
		t.Errorf("%d refusals are on record, of %d computers", entries, len(w.questionsOf(id)))
	}
}

// A copy is told how to become a device of its own, and does so once a token; the device stays what it is.
func TestACopyBecomesADeviceOfItsOwn(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	w.shows(id, desk, "")
	w.shows(id, laptop, "")
	w.settle(id, false)
	_, lost := w.shows(id, laptop, "")
	_, refused := w.shows(id, laptop, "")
	if refused == nil || refused.Status != http.StatusMisdirectedRequest || refused.Anew == "" {
		t.Fatalf("a copy is told %v", refused)
	}
	if _, err := w.store.enrol(t.Context(), access.HashSecret(lost.Anew), uuid.New(), "egret", key(t)); !errors.Is(err, errRevoked) {
		t.Errorf("a copy has two tokens at once: %v", err)
	}
	for i := range 2 {
		e, err := w.store.enrol(t.Context(), access.HashSecret(refused.Anew), uuid.New(), "egret", key(t))
		if i == 0 && (err != nil || e.Site != "Quay" || e.Organisation != "Wader") || i == 1 && !errors.Is(err, errUsedUp) {
			t.Errorf("enrolled anew %+v, %v", e, err)
		}
	}
	if _, refused := w.shows(id, desk, ""); refused != nil {
		t.Errorf("the device is kept out: %v", refused)
	}
	if len(w.questionsOf(id)) != 0 {
		t.Error("it is asked again")
	}
	// Whoever has the key enrols no second device by that answer: somebody is asked anew.
	for range 3 {
		if _, again := w.shows(id, laptop, ""); again == nil || again.Anew != "" || again.Status != http.StatusTooEarly {
			t.Fatalf("a copy that was enrolled anew is told %+v", again)
		}
	}
	if len(w.questionsOf(id)) != 1 {
		t.Error("nobody is asked about a copy that was enrolled anew and came again")
	}
	w.settle(id, false)
	if _, again := w.shows(id, laptop, ""); again == nil || again.Anew == "" {
		t.Errorf("after another answer it is told %+v", again)
	}
}

// The same device in another body is it from then on, and what it was in before is a stranger.
func TestTheSameDeviceInAnotherBody(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	w.shows(id, desk, "")
	w.shows(id, laptop, "")
	w.settle(id, true)
	if _, refused := w.shows(id, laptop, ""); refused != nil {
		t.Errorf("in its new body it is kept out: %v", refused)
	}
	if _, refused := w.shows(id, desk, ""); refused == nil || refused.Anew != "" {
		t.Errorf("its old body is told %v", refused)
	}
	// An answer is given once, and asked for again where it has become wrong.
	q, err := w.store.question(t.Context(), id)
	if err != nil || !slices.Equal(q.Hardware, desk) || q.HostName != "heron" || q.Address != "192.0.2.7" {
		t.Fatalf("%+v, %v", q, err)
	}
	w.settle(id, true)
	if err := w.store.answer(t.Context(), q, false, "robin"); !db.Missing(err) {
		t.Errorf("a question was answered twice: %v", err)
	}
	if _, refused := w.shows(id, laptop, ""); refused == nil || len(w.questionsOf(id)) != 1 {
		t.Errorf("where the device was before, it is told %v, and asked %d times", refused, len(w.questionsOf(id)))
	}
}

// Whoever has a device's key cannot fill the table of questions.
func TestQuestionsAreBounded(t *testing.T) {
	w := begin(t)
	id, other := w.device("heron"), w.device("egret")
	w.shows(id, desk, "")
	w.shows(other, laptop, "")
	var all sync.WaitGroup
	for i := range 3 * mostQuestions {
		all.Go(func() {
			hardware := []string{fmt.Sprintf("board:%s", uuid.NewSHA1(id, []byte{byte(i)}))}
			if _, refused := w.shows(id, hardware, ""); refused == nil || refused.Status != http.StatusTooEarly {
				t.Errorf("told %v", refused)
			}
		})
	}
	all.Wait()
	// Those that come at the same moment may each be the last: no more of them than there are connections.
	if n := len(w.questionsOf(id)); n < mostQuestions || n > mostQuestions+8 {
		t.Errorf("%d questions are kept", n)
	}
	if _, refused := w.shows(other, desk, ""); refused == nil || len(w.questionsOf(other)) != 1 {
		t.Errorf("of another device nothing is asked: %v", refused)
	}
}

// Where hardware tells nothing, the mark of the last connection does: a copy that was made before cannot show it.
func TestMarksTellADeviceFromItsCopy(t *testing.T) {
	w := begin(t)
	id := w.device("heron")
	mark, refused := w.shows(id, nil, "")
	if refused != nil || mark == "" {
		t.Fatalf("%q, %v", mark, refused)
	}
	copied := mark
	for range 3 {
		given, refused := w.shows(id, nil, mark)
		if refused != nil || given == mark || given == "" {
			t.Fatalf("%q, %v", given, refused)
		}
		// The device may not have got it: its connection was cut.
		if again, refused := w.shows(id, nil, mark); refused != nil || again == given {
			t.Fatalf("with the mark before it is told %q, %v", again, refused)
		} else {
			mark = again
		}
	}
	for _, shown := range []string{copied, "", "made up"} {
		if given, refused := w.shows(id, nil, shown); refused == nil || given != "" {
			t.Errorf("a computer that shows %q is given %q", shown, given)
		}
	}
	if n := len(w.questionsOf(id)); n != 3 {
		t.Errorf("%d computers are asked about", n)
	}
	// A connection that it gave up is served after the one that it made instead.
	given, refused := w.shows(id, nil, mark)
	if refused != nil {
		t.Fatal(refused)
	}
	if _, refused := w.shows(id, nil, mark); refused != nil {
		t.Fatal(refused)
	}
	if mark, refused = w.shows(id, nil, given); refused != nil {
		t.Fatalf("it is taken for a copy after a connection that it gave up: %v", refused)
	}
	var kept bool
	if err := w.pool.QueryRow(t.Context(), "SELECT $2 = mark_shown OR $2 = ANY (marks_given) FROM devices WHERE id = $1", id, mark).
		Scan(&kept); err != nil || kept {
		t.Errorf("the mark itself is kept: %v", err)
	}
	// Two at the same time: one goes on, whichever it is, and the other comes again.
	var both sync.WaitGroup
	let := make(chan string, 2)
	for range 2 {
		both.Go(func() {
			given, err := w.Admit(t.Context(), id, "192.0.2.7:1", link.Proof{HostName: "heron", Mark: mark})
			if err == nil {
				let <- given
			}
		})
	}
	both.Wait()
	if len(let) == 0 {
		t.Error("of two at the same time none goes on")
	}
}

// A new device on the hardware of an older one is it where somebody says so: then it has its history, and not before.
func TestADeviceThatReturns(t *testing.T) {
	w := begin(t)
	older := w.device("heron")
	w.shows(older, desk, "")
	hash, _ := w.token(w.site, 5, time.Hour)
	fresh := func() (id uuid.UUID, public []byte) {
		public = key(t)
		e, err := w.store.enrol(t.Context(), hash, uuid.New(), "heron", public)
		if err == nil {
			err = w.recognise(t.Context(), e.Device, "heron", "192.0.2.7", desk)
		}
		if err != nil {
			t.Fatal(err)
		}
		return e.Device, public
	}
	another, _ := fresh()
	w.settle(another, false)
	if len(w.questionsOf(another)) != 0 {
		t.Error("it is asked again")
	}
	if err := w.store.setHardware(t.Context(), another, laptop); err != nil {
		t.Fatal(err)
	}
	again, public := fresh()
	q, err := w.store.question(t.Context(), again)
	if err != nil || q.Older == nil || *q.Older != older || q.OlderName != "heron" {
		t.Fatalf("%+v, %v", q, err)
	}
	w.settle(again, true)
	if now, retired, err := w.store.key(t.Context(), older); err != nil || retired || !slices.Equal(now, public) {
		t.Errorf("the older one has not the new key: %v", err)
	}
	var nobodys []byte
	if err := w.pool.QueryRow(t.Context(), "SELECT public_key FROM devices WHERE id = $1 AND retired_at IS NOT NULL",
		again).Scan(&nobodys); err != nil || slices.Equal(nobodys, public) {
		t.Errorf("two devices have one key: %v", err)
	}
	if _, refused := w.shows(again, desk, ""); refused == nil || refused.Device != older.String() {
		t.Errorf("the computer is told to go on as %v", refused)
	}
	if _, refused := w.shows(older, desk, ""); refused != nil {
		t.Errorf("as which it is kept out: %v", refused)
	}
}

// A device that waits is asked about, and does nothing until it is let in; who is refused is gone.
func TestDevicesThatWait(t *testing.T) {
	w := begin(t)
	hash := access.HashSecret(uuid.NewString())
	if _, err := w.store.addToken(t.Context(), hash, w.site, 5, true, time.Now().Add(time.Hour), maker{name: "wren"}); err != nil {
		t.Fatal(err)
	}
	var ids []uuid.UUID
	for _, name := range []string{"heron", "egret"} {
		e, err := w.store.enrol(t.Context(), hash, uuid.New(), name, key(t))
		if err != nil || e.Waiting == nil || !*e.Waiting {
			t.Fatalf("%+v, %v", e, err)
		}
		ids = append(ids, e.Device)
		for range 2 {
			if _, refused := w.shows(e.Device, desk, ""); refused == nil || refused.Status != http.StatusTooEarly {
				t.Errorf("it is told %v", refused)
			}
		}
		if all := w.questionsOf(e.Device); len(all) != 1 || string(all[0].Kind) != enrolled {
			t.Errorf("asked %+v", all)
		}
	}
	w.settle(ids[0], true)
	w.settle(ids[1], false)
	if _, refused := w.shows(ids[0], desk, ""); refused != nil {
		t.Errorf("who was let in is told %v", refused)
	}
	if _, retired, err := w.store.key(t.Context(), ids[1]); err != nil || !retired {
		t.Errorf("who was refused is still a device: %v", err)
	}
}
