package spool

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"moorwatch.example/core/device"
	"moorwatch.example/test/scratch"
)

func open(t *testing.T, dir string) *Spool {
	t.Helper()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func add(t *testing.T, s *Spool, cpu float64) {
	t.Helper()
	if err := s.Add(device.Vitals{CPU: cpu}); err != nil {
		t.Fatal(err)
	}
}

// drain takes everything, as the sender does, and returns the CPU readings in order.
func drain(t *testing.T, s *Spool) (got []float64) {
	t.Helper()
	for {
		epoch, reports, err := s.Next()
		if err != nil {
			t.Fatal(err)
		}
		if len(reports) == 0 {
			return got
		}
		last := uint64(0)
		for _, r := range reports {
			if r.Seq <= last {
				t.Fatalf("number %d follows %d", r.Seq, last)
			}
			last = r.Seq
			got = append(got, r.Vitals.CPU)
		}
		if err := s.Forget(epoch, last); err != nil {
			t.Fatal(err)
		}
	}
}

func same(t *testing.T, got []float64, want ...float64) {
	t.Helper()
	if len(got) != len(want) {
		t.Fatalf("%v, want %v", got, want)
	}
	for i := range got {
		if got[i] != want[i] {
			t.Fatalf("%v, want %v", got, want)
		}
	}
}

func TestReportsOutliveTheAgent(t *testing.T) {
	dir := scratch.Dir(t)
	first := open(t, dir)
	add(t, first, 1)
	add(t, first, 2)
	epoch, reports, _ := first.Next()
	if err := first.Forget(epoch, reports[0].Seq); err != nil {
		t.Fatal(err)
	}
	second := open(t, dir) // as after SIGKILL: nothing was closed
	add(t, second, 3)
	if e, r, _ := second.Next(); e != epoch || len(r) != 1 {
		t.Fatalf("reports of two epochs must not be sent together: %d of %s", len(r), e)
	}
	same(t, drain(t, second), 2, 3)
	same(t, drain(t, open(t, dir)))
}

func TestHalfALineIsDropped(t *testing.T) {
	dir := scratch.Dir(t)
	s := open(t, dir)
	add(t, s, 1)
	f, err := os.OpenFile(filepath.Join(dir, "reports.jsonl"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString(`{"epoch":"x","seq":9,"vit`)
	f.Close()
	again := open(t, dir)
	add(t, again, 2)
	same(t, drain(t, again), 1, 2)
}

// /dev/full answers every write as a full disk does.
func TestFullDisk(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("no /dev/full")
	}
	dir := scratch.Dir(t)
	if err := os.Symlink("/dev/full", filepath.Join(dir, "reports.jsonl")); err != nil {
		t.Fatal(err)
	}
	s := &Spool{path: filepath.Join(dir, "reports.jsonl"), epoch: "e"}
	for i := range MaxMemory + 10 {
		if err := s.Add(device.Vitals{CPU: float64(i)}); err == nil {
			t.Fatal("a full disk was not told of")
		}
	}
	os.Remove(s.path) // what /dev/full gives when read has no end
	got := drain(t, s)
	if len(got) != MaxMemory || got[0] != 10 || got[len(got)-1] != MaxMemory+9 {
		t.Fatalf("%d reports from %g to %g: the latest %d must be kept", len(got), got[0], got[len(got)-1], MaxMemory)
	}
	add(t, s, 500)
	same(t, drain(t, open(t, dir)), 500)
}

func TestSpoolIsBounded(t *testing.T) {
	s := open(t, scratch.Dir(t))
	add(t, s, 1)
	s.size = MaxBytes
	if err := s.Add(device.Vitals{}); err == nil {
		t.Error("a report was added beyond the limit without a word")
	}
}

func FuzzRepair(f *testing.F) {
	f.Add([]byte("{\"epoch\":\"e\",\"seq\":1}\n\nnonsense\n{\"epoch\""))
	f.Fuzz(func(t *testing.T, content []byte) {
		dir := scratch.Dir(t)
		if err := os.WriteFile(filepath.Join(dir, "reports.jsonl"), content, 0o600); err != nil {
			t.Fatal(err)
		}
		s := open(t, dir)
		add(t, s, 7)
		if _, reports, err := s.Next(); err == nil && len(reports) == 0 {
			t.Fatal("the report added after the damage is not there")
		}
	})
}
