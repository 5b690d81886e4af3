package series

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

func quantum(name string) Quantum {
	switch name {
	case "steps":
		return Quantum{Step: 0.1}
	case "exact":
		return Exact
	}
	return Quantum{Relative: 0.01}
}

// walk makes a table of n rows whose columns wander, jump and have gaps.
func walk(random *rand.Rand, n int) *Table {
	t := &Table{}
	at, v := from, 0.0
	for range n {
		at = at.Add(time.Duration(random.Int64N(int64(time.Minute))))
		v += random.NormFloat64() * math.Pow(10, float64(random.IntN(6)))
		t.Append(at, func(yield func(string, float64)) {
			yield("steps", v)
			if random.IntN(4) > 0 {
				yield("relative", v*1e3)
			}
			yield("exact", math.Round(v))
		})
	}
	t.Sort()
	return t
}

// What is decoded is what was encoded, as finely as its quantum says, gaps in their places.
func TestChunkRoundTrip(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 100 {
		in := walk(random, 1+random.IntN(300))
		data, err := Encode(in, quantum)
		if err != nil {
			t.Fatal(err)
		}
		out, err := Decode(data, nil)
		if err != nil {
			t.Fatal(err)
		}
		if len(out.At) != len(in.At) || len(out.Columns) != len(in.Columns) {
			t.Fatalf("%d rows of %d columns, want %d of %d", len(out.At), len(out.Columns), len(in.At), len(in.Columns))
		}
		for i := range in.At {
			if d := in.At[i].Sub(out.At[i]); d < 0 || d >= timeStep {
				t.Fatalf("row %d is off by %s", i, d)
			}
		}
		for c, column := range in.Columns {
			for i, v := range column.Values {
				got, want := out.Columns[c].Values[i], quantum(column.Name).Round(v)
				if got != want && !(math.IsNaN(got) && math.IsNaN(v)) {
					t.Fatalf("%s[%d] is %g, want %g of %g", column.Name, i, got, want, v)
				}
				if column.Name == "relative" && math.Abs(got-v) > 0.006*math.Abs(v)+0.006 {
					t.Fatalf("relative: %g for %g", got, v)
				}
			}
		}
	}
}

func TestDecodeTakesWhatIsWanted(t *testing.T) {
	data, err := Encode(walk(rand.New(rand.NewPCG(5, 6)), 50), quantum)
	if err != nil {
		t.Fatal(err)
	}
	out, err := Decode(data, func(name string) bool { return name == "exact" })
	if err != nil || len(out.Columns) != 1 || out.Columns[0].Name != "exact" || len(out.At) != 50 {
		t.Errorf("%+v, %v", out, err)
	}
}

// No chunk, however damaged, does more than fail.
func FuzzDecode(f *testing.F) {
	data, _ := Encode(walk(rand.New(rand.NewPCG(7, 8)), 20), quantum)
	f.Add(data)
	f.Add(data[:len(data)/2])
	f.Fuzz(func(t *testing.T, data []byte) {
		if out, err := Decode(data, nil); err == nil && (len(out.At) == 0 || len(out.At) > MaxRows) {
			t.Errorf("%d rows", len(out.At))
		}
	})
}

// Readings as a quiet computer gives them take less than a byte each.
func TestChunkIsSmall(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 10))
	in := &Table{}
	for i := range 480 {
		in.Append(from.Add(time.Duration(i)*30*time.Second), func(yield func(string, float64)) {
			yield("steps", 5+2*random.NormFloat64())
			yield("exact", 40)
			yield("relative", 3e4*math.Exp(random.NormFloat64()))
		})
	}
	data, err := Encode(in, quantum)
	if err != nil {
		t.Fatal(err)
	}
	// Entropy: 6.4 bits for the first, none for the second, 8.7 for the third; the models must be learnt as well.
	if size := float64(len(data)) / (3 * 480); size > 0.85 {
		t.Errorf("%.2f bytes a sample", size)
	}
}

// Rolling up what was rolled up gives what rolling up at once gives.
func TestRollUp(t *testing.T) {
	raw := walk(rand.New(rand.NewPCG(11, 12)), 3000)
	names := []string{"steps", "relative"}
	to := raw.At[len(raw.At)-1]
	start := from.Truncate(time.Hour)
	buckets := int(to.Sub(start)/(2*time.Hour)) + 1
	end := start.Add(time.Duration(buckets) * 2 * time.Hour)
	direct, rolled := NewRoller(start, end, buckets, 2), NewRoller(start, end, buckets, 2)
	direct.AddTable(raw, names)
	rolled.AddTable(RollUp(raw, Hourly), names)
	a, b := direct.Points(), rolled.Points()
	if len(a) != len(b) || len(a) < 10 {
		t.Fatalf("%d and %d points", len(a), len(b))
	}
	for i := range a {
		if a[i].Count != b[i].Count {
			t.Errorf("bucket %d has %d samples, rolled up %d", i, a[i].Count, b[i].Count)
		}
		s, r := *a[i].Values[0], *b[i].Values[0]
		if s.Min != r.Min || s.Max != r.Max || math.Abs(s.Mean-r.Mean) > 1e-6*(1+math.Abs(s.Mean)) {
			t.Errorf("bucket %d is %+v, rolled up %+v", i, s, r)
		}
	}
}

func TestMergeAndSort(t *testing.T) {
	row := func(t *Table, second int, name string, v float64) {
		t.Append(from.Add(time.Duration(second)*time.Second), func(yield func(string, float64)) { yield(name, v) })
	}
	a, b := &Table{}, &Table{}
	row(a, 0, "x", 1)
	row(a, 60, "x", 2)
	row(b, 30, "y", 3)
	row(b, 60, "x", 4) // the same moment again: the later stays
	a.Merge(b)
	a.Sort()
	a.Latest()
	if len(a.At) != 3 || a.Column("x").Values[2] != 4 || a.Column("y").Values[1] != 3 || !math.IsNaN(a.Column("y").Values[0]) {
		t.Errorf("%+v", a)
	}
}

func TestChooseTier(t *testing.T) {
	now := from
	for _, c := range []struct {
		step, ago time.Duration
		want      Tier
	}{{time.Second, time.Hour, Raw}, {5 * time.Minute, 24 * time.Hour, Raw}, {10 * time.Minute, 24 * time.Hour, FiveMinutes},
		{time.Second, 20 * 24 * time.Hour, FiveMinutes}, {2 * time.Hour, 30 * 24 * time.Hour, Hourly},
		{time.Minute, 400 * 24 * time.Hour, Hourly}} {
		if got := UsualKeep.Choose(c.step, now.Add(-c.ago), now); got != c.want {
			t.Errorf("steps of %s since %s: tier %d, want %d", c.step, c.ago, got, c.want)
		}
	}
}

func TestTrend(t *testing.T) {
	random := rand.New(rand.NewPCG(13, 14))
	var at []time.Time
	var values []float64
	for i := range 168 {
		v := 100 + 3.5*float64(i)/24 + random.NormFloat64()
		if i%10 == 0 {
			v += 500 // an outlier now and then
		}
		at, values = append(at, from.Add(time.Duration(i)*time.Hour)), append(values, v)
	}
	trend, ok := FindTrend(at, values)
	if !ok || math.Abs(trend.PerDay-3.5) > 0.3 {
		t.Errorf("%+v, %t", trend, ok)
	}
	if _, ok := FindTrend(at[:6], values[:6]); ok {
		t.Error("a trend is told from six hours")
	}
}
