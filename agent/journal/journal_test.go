package journal

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/steps"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/work"
	"moorwatch.example/test/scratch"
)

// seed is a device's secret.
var seed = bytes.Repeat([]byte("k"), 32)

func open(t *testing.T, dir string) *Journal {
	t.Helper()
	j, err := Open(dir, seed)
	if err != nil {
		t.Fatal(err)
	}
	return j
}

// order is a run of so many steps: one step is not begun twice, several are taken up again.
func order(n int) link.RunOrder {
	return link.RunOrder{ID: uuid.NewString(), Parts: []link.RunPart{{Steps: make([]work.Step, n)}}}
}

func begin(t *testing.T, j *Journal, o link.RunOrder, at time.Time) string {
	t.Helper()
	if err := j.Begin(o, at); err != nil {
		t.Fatal(err)
	}
	return o.ID
}

func state(j *Journal, id string) string {
	s, _ := j.Status(id)
	return s.State
}

// Whatever dies in between, a run that was begun is not begun again, and a result is told until it was heard.
func TestARunThroughDeaths(t *testing.T) {
	dir := filepath.Join(scratch.Dir(t), "runs")
	j := open(t, dir)
	o, now := order(1), time.Now()
	if got := state(j, o.ID); got != link.RunUnknown {
		t.Errorf("before it began: %s", got)
	}
	begin(t, j, o, now)
	if err := j.Begin(o, now); !errors.Is(err, ErrKnown) {
		t.Errorf("begun twice: %v", err)
	}
	if j, err := Open(dir, seed); err != nil || state(j, o.ID) != link.RunBegun || !errors.Is(j.Begin(o, now), ErrKnown) {
		t.Errorf("after a death: %v", err)
	}
	exit := 3
	if err := j.End(link.RunResult{ID: o.ID, State: "failed", Exit: &exit, Head: []byte("out"), EndedAt: now.Add(-time.Hour)}); err != nil {
		t.Fatal(err)
	}
	if err := j.End(link.RunResult{ID: o.ID, State: "succeeded"}); err == nil {
		t.Error("ended twice")
	}
	if err := j.Note(o.ID, steps.Progress{}); err == nil {
		t.Error("it went on after its end")
	}
	id := j.ID()
	if j = open(t, dir); j.ID() != id {
		t.Errorf("the journal is another: %s, was %s", j.ID(), id)
	}
	waiting := j.Waiting(10)
	if len(waiting) != 1 || *waiting[0].Exit != 3 || string(waiting[0].Head) != "out" {
		t.Fatalf("waiting: %+v", waiting)
	}
	if r := waiting[0]; r.EndedAt.Before(r.BeganAt) {
		t.Errorf("it ended at %s, and began at %s", r.EndedAt, r.BeganAt)
	}
	if err := errors.Join(j.Told(o.ID), j.Told(o.ID), j.Told("never heard of")); err != nil {
		t.Error(err)
	}
	j = open(t, dir)
	s, ok := j.Status(o.ID)
	if !ok || s.State != link.RunEnded || *s.Result.Exit != 3 || s.Result.Head != nil || len(j.Waiting(10)) != 0 {
		t.Errorf("after it was told: %+v, %d waiting", s, len(j.Waiting(10)))
	}
}

func TestWhatIsLeftUnderWay(t *testing.T) {
	dir := scratch.Dir(t)
	j, now := open(t, dir), time.Now()
	single, long, lost := begin(t, j, order(1), now), begin(t, j, order(3), now), begin(t, j, order(3), now)
	if err := j.Note(long, steps.Progress{Steps: work.Progress{At: 2}}); err != nil {
		t.Fatal(err)
	}
	resume := func(l *Left) error {
		if l.Order.ID == lost {
			return errors.New("its files are gone")
		}
		l.Progress.Deferred++ // what is worked out at the start is kept
		return nil
	}
	for times := 1; times <= mostTimes; times++ { // the agent dies each time at the same step
		j = open(t, dir)
		again, err := j.Recover(now, resume)
		if err != nil {
			t.Fatal(err)
		}
		if times < mostTimes && (len(again) != 1 || again[0].Order.ID != long || again[0].Progress.Steps.At != 2 ||
			again[0].Progress.Deferred != times) {
			t.Errorf("start %d takes up %+v", times, again)
		}
		if times == mostTimes && len(again) != 0 {
			t.Errorf("taken up for the %dth time: %+v", times, again)
		}
	}
	reasons := map[string]string{single: "whether it came to its end is not known", lost: "its files are gone",
		long: fmt.Sprintf("for the %dth time", mostTimes)}
	for _, r := range j.Waiting(10) {
		if r.State != "interrupted" || !strings.Contains(r.Reason, reasons[r.ID]) {
			t.Errorf("%+v", r)
		}
		delete(reasons, r.ID)
	}
	if len(reasons) > 0 {
		t.Errorf("not told of: %v", reasons)
	}
}

func TestForgetting(t *testing.T) {
	dir := scratch.Dir(t)
	j, now := open(t, dir), time.Now()
	for age, told := range map[time.Duration]bool{remembered + time.Hour: true, remembered + 2*time.Hour: false, time.Hour: true} {
		id := begin(t, j, order(1), now.Add(-age))
		if err := j.End(link.RunResult{ID: id, State: "succeeded", EndedAt: now.Add(-age)}); err != nil {
			t.Fatal(err)
		}
		if told {
			if err := j.Told(id); err != nil {
				t.Fatal(err)
			}
		}
	}
	if j = open(t, dir); len(j.entries) != 2 || len(j.Waiting(10)) != 1 {
		t.Errorf("%d are remembered, %d wait", len(j.entries), len(j.Waiting(10)))
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*.run")); len(left) != 2 {
		t.Errorf("on disk: %v", left)
	}
}

// Where the disk takes nothing, nothing is begun, and what has ended is told all the same.
func TestADiskThatTakesNothing(t *testing.T) {
	dir := filepath.Join(scratch.Dir(t), "runs")
	j := open(t, dir)
	id := begin(t, j, order(1), time.Now())
	os.Remove(filepath.Join(dir, id+".run"))
	os.Remove(filepath.Join(dir, "journal-id"))
	if err := os.Remove(dir); err != nil {
		t.Fatal(err)
	}
	o := order(1)
	if err := j.Begin(o, time.Now()); err == nil || state(j, o.ID) != link.RunUnknown {
		t.Errorf("begun: %v, %s", err, state(j, o.ID))
	}
	if err := j.End(link.RunResult{ID: id, State: "succeeded", EndedAt: time.Now()}); err == nil || len(j.Waiting(1)) != 1 {
		t.Errorf("ended: %v, waiting %d", err, len(j.Waiting(1)))
	}
}

func TestADamagedEntryIsTold(t *testing.T) {
	dir := scratch.Dir(t)
	j := open(t, dir)
	if again, err := j.Recover(time.Now(), nil); err != nil || len(again) > 0 {
		t.Errorf("an empty journal: %v %v", again, err)
	}
	path := filepath.Join(dir, uuid.NewString()+".run")
	if err := os.WriteFile(path, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir, seed); err == nil || !strings.Contains(err.Error(), path) {
		t.Errorf("opened: %v", err)
	}
}

// Finding 8: the secrets of a run that may be taken up again stood on the disk as they are.
func TestSecretsAreSealed(t *testing.T) {
	dir := scratch.Dir(t)
	j := open(t, dir)
	o := order(2)
	o.Secrets = map[string]string{"KEY": "heather on the hill"}
	begin(t, j, o, time.Now())
	text, err := os.ReadFile(filepath.Join(dir, o.ID+".run"))
	if err != nil || strings.Contains(string(text), "heather") {
		t.Errorf("on the disk stands %s, %v", text, err)
	}
	again, err := open(t, dir).Recover(time.Now(), func(*Left) error { return nil })
	if err != nil || len(again) != 1 || again[0].Order.Secrets["KEY"] != "heather on the hill" {
		t.Errorf("taken up again: %+v, %v", again, err)
	}
	other, err := Open(dir, bytes.Repeat([]byte("l"), 32))
	if err != nil {
		t.Fatal(err)
	}
	if again, err := other.Recover(time.Now(), func(*Left) error { return nil }); err != nil || len(again) != 0 ||
		state(other, o.ID) != link.RunEnded {
		t.Errorf("another device takes it up: %+v, %v", again, err)
	}
}
