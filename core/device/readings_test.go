package device

import (
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/series"
)

// full is a reading of everything that a device may tell.
func full() Vitals {
	at := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	return Vitals{At: at, CPU: 12, Memory: 40, Swap: 1, Load1: 0.5, Receive: 100, Transmit: 200, NetworkErrors: 1, SpoolReports: 3,
		Disks: []Disk{{Mount: "/", TotalBytes: 100, UsedBytes: 25, LatencyMS: new(2.5)},
			{Mount: "/srv", TotalBytes: 10, UsedBytes: 9}, {}},
		Temperatures: []Temperature{{"board", 40}, {"disk", 61}},
		Sensors:      []Sensor{{Kind: "fan", Name: "left", Value: 900}, {Kind: "no kind", Name: "x", Value: 1}},
		People:       []SignedIn{{Name: "Wren", IdleSeconds: -9}},
		Busiest:      &Process{Name: "catalogue", CPU: 50}, LogOn: &LogOn{Person: "Wren", Seconds: 12, At: at}, FailedLogOns: new(2.0),
		StartSeconds: new(31.0), Crashes: new(1.0), Crash: &Crash{Program: "viewer", At: at.Add(-time.Hour)},
		Probes: []ProbeResult{{Kind: ProbePing, Target: "192.0.2.1", OK: true, Value: 3, At: at},
			{Kind: ProbeTCP, Target: "192.0.2.2:22", At: at},
			{Kind: "service", Target: "cron", OK: true, At: at}}}
}

// Each reading has a kind, and a name that is taken apart as it was put together.
func TestReadings(t *testing.T) {
	v := full()
	got := map[string]float64{}
	v.Readings(func(name string, value float64) {
		if _, twice := got[name]; twice {
			t.Errorf("%s is read twice", name)
		}
		got[name] = value
		if _, ok := KindOf(name); !ok {
			t.Errorf("%s has no kind", name)
		}
		if JoinReading(SplitReading(name)) != name {
			t.Errorf("%s is put together otherwise", name)
		}
		if q := QuantumOf(name); q == (series.Quantum{}) {
			t.Errorf("%s is kept without a bound of its fineness", name)
		}
	})
	for name, want := range map[string]float64{"cpu": 12, "disk /": 25, "latency /": 2.5, "disk /srv": 90, "temperature disk": 61,
		"fan left": 900,
		"log-on":   12, "failed-log-ons": 2, "start": 31, "crashes": 1, "since-crash": 3600, "reach ping 192.0.2.1": 3, "spool": 3} {
		if got[name] != want {
			t.Errorf("%s is %g, and not %g", name, got[name], want)
		}
	}
	for name := range got {
		if strings.Contains(name, "no kind") || strings.Contains(name, "192.0.2.2") || strings.Contains(name, "cron") {
			t.Errorf("%s is kept", name)
		}
	}
	if QuantumOf(series.CountColumn) != series.Exact || QuantumOf("of no kind") != (series.Quantum{Relative: 0.01}) {
		t.Error("counts, or what is not known, are kept as something else")
	}
	if d, ok := v.FullestDisk(); !ok || d.Mount != "/srv" {
		t.Errorf("%+v", d)
	}
	if h, ok := v.Hottest(); !ok || h.Sensor != "disk" {
		t.Errorf("%+v", h)
	}
	if _, ok := (Vitals{}).FullestDisk(); ok {
		t.Error("a device without a disk has a fullest")
	}
	if _, ok := (Vitals{}).Hottest(); ok {
		t.Error("a device without sensors has a hottest")
	}
}

// A reading that no device can have is refused by its name.
func TestCheckRefuses(t *testing.T) {
	v := full()
	if _, err := v.Check(); err != nil {
		t.Fatal(err)
	}
	if v.People[0].IdleSeconds != -1 {
		t.Errorf("idle for %d s", v.People[0].IdleSeconds)
	}
	long := func(n int) []Disk { return make([]Disk, n) }
	for name, c := range map[string]struct {
		want   string
		change func(v *Vitals)
	}{
		"no number":          {"cpu", func(v *Vitals) { v.CPU = math.NaN() }},
		"more than all":      {"memory", func(v *Vitals) { v.Memory = 101 }},
		"less than nothing":  {"uptime", func(v *Vitals) { v.UptimeSeconds = -1 }},
		"too many disks":     {"disks", func(v *Vitals) { v.Disks = long(MaxEntries + 1) }},
		"a disk too full":    {"disk", func(v *Vitals) { v.Disks[0].UsedBytes = 101 }},
		"a disk too slow":    {"disk", func(v *Vitals) { v.Disks[0].LatencyMS = new(1e9) }},
		"hotter than fire":   {"sensor", func(v *Vitals) { v.Temperatures[0].Celsius = 3000 }},
		"a sensor":           {"fan", func(v *Vitals) { v.Sensors[0].Value = math.Inf(1) }},
		"a process":          {"process", func(v *Vitals) { v.Busiest.CPU = 200 }},
		"a process's memory": {"process", func(v *Vitals) { v.Busiest.MemoryBytes = -1 }},
		"a log-on":           {"log-on", func(v *Vitals) { v.LogOn.Seconds = -1 }},
		"a log-on's time":    {"log-on", func(v *Vitals) { v.LogOn.At = time.Time{} }},
		"failed log-ons":     {"log-ons", func(v *Vitals) { v.FailedLogOns = new(-1.0) }},
		"a start":            {"start", func(v *Vitals) { v.StartSeconds = new(1e6) }},
		"crashes":            {"crashes", func(v *Vitals) { v.Crashes = new(math.NaN()) }},
		"a crash":            {"crash", func(v *Vitals) { v.Crash.At = time.Date(12000, 1, 1, 0, 0, 0, 0, time.UTC) }},
		"a probe":            {"probe", func(v *Vitals) { v.Probes[0].Value = -1 }},
		"a probe's time":     {"probe", func(v *Vitals) { v.Probes[0].At = time.Time{} }},
	} {
		v := full()
		c.change(&v)
		if _, err := v.Check(); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got := CleanLong("a\x1bb"+strings.Repeat("x", 50), 10); len([]rune(got)) > 11 || strings.Contains(got, "\x1b") {
		t.Errorf("%q", got)
	}
}

func TestDistribute(t *testing.T) {
	if Distribute(nil, 1, 10) != nil {
		t.Error("nothing has bins")
	}
	got := Distribute([]float64{1, 2, 2, 9.5}, 2, 5)
	if len(got) < 2 || got[0].From > 1 || got[0].Count == 0 || got[len(got)-1].Count == 0 {
		t.Errorf("%+v", got)
	}
	seed := uint64(os.Getpid())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	for range 2000 {
		numbers := make([]float64, 1+r.IntN(40))
		scale := math.Pow(10, float64(r.IntN(12)-6))
		for i := range numbers {
			numbers[i] = (r.Float64() - 0.3) * scale
		}
		most := 1 + r.IntN(20)
		bins := Distribute(numbers, numbers[0], most)
		count, here := 0, 0
		for i, b := range bins {
			count += b.Count
			if b.Here {
				here++
			}
			if i > 0 && math.Abs(b.From-bins[i-1].To) > 1e-9*scale {
				t.Fatalf("bins do not touch: %+v", bins)
			}
		}
		if count != len(numbers) || here != 1 || len(bins) > most+2 {
			t.Fatalf("%d of %d numbers in %d bins of at most %d, %d marked", count, len(numbers), len(bins), most, here)
		}
		if share := Rank(numbers, numbers[0]); share < 0 || share >= 1 {
			t.Fatalf("a number among %d ranks %g", len(numbers), share)
		}
		if m := Median(numbers); Rank(numbers, m) > 0.5 {
			t.Fatalf("%g of %d numbers are below their middle", Rank(numbers, m), len(numbers))
		}
	}
	for _, b := range Distribute([]float64{3, 3}, math.NaN(), 4) {
		if b.Here {
			t.Error("none stands out, and a bin is marked")
		}
	}
	if !math.IsNaN(Median(nil)) || Rank(nil, 1) != 0 {
		t.Error("nothing has a middle")
	}
	for v, want := range map[float64]float64{0: 1, -3: 1, math.Inf(1): 1, 0.7: 1, 1: 1, 1.1: 2, 3: 5, 6: 10, 0.04: 0.05} {
		if got := round(v); math.Abs(got-want) > 1e-12 {
			t.Errorf("%g is rounded to %g, and not %g", v, got, want)
		}
	}
}

func TestCountTexts(t *testing.T) {
	all := []string{"12", "11", "12", "10", "12", "11", "9"}
	if got := CountTexts(all, "9", 10); len(got) != 4 || got[0] != (Bin{Text: "12", Count: 3}) || got[1].Text != "11" || !got[3].Here {
		t.Errorf("%+v", got)
	}
	if got := CountTexts(all, "9", 3); len(got) != 3 || got[2].Text != "" || got[2].Count != 2 || !got[2].Here {
		t.Errorf("the rest: %+v", got)
	}
	if len(CountTexts(nil, "", 3)) != 0 {
		t.Error("nothing was counted")
	}
}
