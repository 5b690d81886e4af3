package series

import (
	"math"
	"testing"
	"time"
)

// rows makes a table of so many rows, a minute apart, of two readings, of which every third row lacks one.
func rows(n int) *Table {
	at := time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)
	t := &Table{}
	for i := range n {
		t.Append(at.Add(time.Duration(i)*time.Minute), func(yield func(string, float64)) {
			yield("cpu", float64(i))
			if i%3 != 0 {
				yield("disk /", float64(-i))
			}
		})
	}
	t.fill()
	return t
}

func TestThin(t *testing.T) {
	for _, c := range []struct{ rows, most, want int }{{0, 5, 0}, {5, 5, 5}, {100, 7, 7}, {3, 100, 3}} {
		table := rows(c.rows)
		if table.Thin(c.most); table.Rows() != c.want {
			t.Errorf("of %d rows %d are left, and not %d", c.rows, table.Rows(), c.want)
		}
		for i, at := range table.At {
			cpu := table.Column("cpu").Values[i]
			if !at.Equal(table.At[0].Add(time.Duration(cpu-table.Column("cpu").Values[0]) * time.Minute)) {
				t.Errorf("row %d has the time of another", i)
			}
		}
	}
	if rows(3).Column("none") != nil {
		t.Error("a column was found that is not there")
	}
}

// Every row of a table lies in one window of a tier, in order, and none is lost.
func TestSplit(t *testing.T) {
	for _, tier := range Tiers {
		table, n, columns := rows(20*60), 0, 0
		var before time.Time
		table.Split(tier, func(start time.Time, part *Table) {
			if !start.Equal(tier.Start(part.At[0])) || !start.After(before) && n > 0 {
				t.Errorf("%d: a window begins at %s after %s", tier, start, before)
			}
			for i, at := range part.At {
				if at.Before(start) || !at.Before(start.Add(tier.Window())) || part.Column("cpu").Values[i] != float64(n+i) {
					t.Fatalf("%d: %s lies in the window from %s", tier, at, start)
				}
			}
			before, n, columns = start, n+part.Rows(), len(part.Columns)
		})
		if n != table.Rows() || columns != 2 {
			t.Errorf("%d: %d of %d rows, %d columns", tier, n, table.Rows(), columns)
		}
	}
	empty := &Table{}
	empty.Split(Raw, func(time.Time, *Table) { t.Error("nothing has a part") })
}

func TestRows(t *testing.T) {
	quanta := []Quantum{{Relative: 0.01}, Exact, {Relative: 0.001}}
	values := []float64{12.5, 7, -1e6}
	var data []byte
	for i, v := range values {
		data = AppendRow(data, quanta[i], v)
	}
	n := 0
	if err := Row(data, 3, func(i int) Quantum { return quanta[i] }, func(i int, v float64) {
		if n++; math.Abs(v-values[i]) > 0.02*math.Abs(values[i]) {
			t.Errorf("%g became %g", values[i], v)
		}
	}); err != nil || n != 3 {
		t.Errorf("%d values, %v", n, err)
	}
	for cut := range data {
		if err := Row(data[:cut], 3, func(i int) Quantum { return quanta[i] }, func(int, float64) {}); err == nil {
			t.Errorf("a row that is cut after %d bytes was read", cut)
		}
	}
}

func TestNames(t *testing.T) {
	least, greatest := Ends("disk /")
	for _, column := range []string{"disk /", least, greatest} {
		if Reading(column) != "disk /" {
			t.Errorf("%q is of %q", column, Reading(column))
		}
	}
	if least == greatest || least == "disk /" {
		t.Errorf("%q and %q are one", least, greatest)
	}
	if r := NewRoller(time.Unix(0, 0), time.Unix(100, 0), 10, 1); r.Step() != 10*time.Second {
		t.Errorf("a bucket lasts %s", r.Step())
	}
}
