package series

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"time"
)

// MaxRows is the most rows that a chunk holds.
const MaxRows = 1 << 16

// timeStep is how finely times are kept: the moment of a reading is no better known.
const timeStep = 100 * time.Millisecond

// Column is a line of values, one a row of its Table; NaN where the row has none.
type Column struct {
	Name   string
	Values []float64
}

// Table is readings side by side: the times of the rows, rising, and a column each.
type Table struct {
	At      []time.Time
	Columns []Column
}

// Rows is how many rows the table has.
func (t *Table) Rows() int { return len(t.At) }

// Column finds a column by its name, or nil.
func (t *Table) Column(name string) *Column {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
	}
	return nil
}

// Append adds a row at a time, with the values that each yields by their column's name.
func (t *Table) Append(at time.Time, each func(yield func(name string, value float64))) {
	n := len(t.At)
	t.At = append(t.At, at)
	next := 0 // rows mostly have the same columns in the same order
	each(func(name string, value float64) {
		i := next
		if i >= len(t.Columns) || t.Columns[i].Name != name {
			if i = slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == name }); i < 0 {
				i = len(t.Columns)
				t.Columns = append(t.Columns, Column{Name: name})
			}
		}
		next = i + 1
		c := &t.Columns[i]
		for len(c.Values) < n {
			c.Values = append(c.Values, math.NaN())
		}
		if len(c.Values) == n {
			c.Values = append(c.Values, value)
		}
	})
}

// fill brings every column to the table's length.
func (t *Table) fill() {
	for i := range t.Columns {
		c := &t.Columns[i]
		for len(c.Values) < len(t.At) {
			c.Values = append(c.Values, math.NaN())
		}
	}
}

// Sort puts the rows in order of time. Rows of one moment stay, in the order in which they came.
func (t *Table) Sort() {
	t.fill()
	if slices.IsSortedFunc(t.At, time.Time.Compare) {
		return
	}
	order := make([]int, len(t.At))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return t.At[a].Compare(t.At[b]) })
	t.take(order)
}

// Latest drops, of the rows of one moment in a sorted table, all but the last.
func (t *Table) Latest() {
	kept := make([]int, 0, len(t.At))
	for i := range t.At {
		if i+1 == len(t.At) || !t.At[i].Equal(t.At[i+1]) {
			kept = append(kept, i)
		}
	}
	t.take(kept)
}

// Thin drops rows evenly until at most most are left.
func (t *Table) Thin(most int) {
	n := len(t.At)
	if n <= most {
		return
	}
	kept := make([]int, most)
	for i := range kept {
		kept[i] = i * n / most
	}
	t.take(kept)
}

// take makes the table one of the rows that are named, in their order.
func (t *Table) take(rows []int) {
	at := make([]time.Time, len(rows))
	for i, row := range rows {
		at[i] = t.At[row]
	}
	t.At = at
	for c := range t.Columns {
		values := make([]float64, len(rows))
		for i, row := range rows {
			values[i] = t.Columns[c].Values[row]
		}
		t.Columns[c].Values = values
	}
}

// Split calls each for the parts of a sorted table that lie in one window of a tier.
func (t *Table) Split(tier Tier, each func(start time.Time, part *Table)) {
	t.fill()
	for begin := 0; begin < len(t.At); {
		start := tier.Start(t.At[begin])
		end := begin
		for end < len(t.At) && t.At[end].Before(start.Add(tier.Window())) {
			end++
		}
		part := &Table{At: t.At[begin:end]}
		for _, c := range t.Columns {
			values := c.Values[begin:end]
			if slices.ContainsFunc(values, func(v float64) bool { return !math.IsNaN(v) }) {
				part.Columns = append(part.Columns, Column{c.Name, values})
			}
		}
		each(start, part)
		begin = end
	}
}

// Merge adds the rows of other to t, in no order.
func (t *Table) Merge(other *Table) {
	for row, at := range other.At {
		t.Append(at, func(yield func(string, float64)) {
			for _, c := range other.Columns {
				if row < len(c.Values) && !math.IsNaN(c.Values[row]) {
					yield(c.Name, c.Values[row])
				}
			}
		})
	}
	t.fill()
}

const chunkVersion = 1

// Encode writes a sorted table of 1 to MaxRows rows as a chunk. Values are kept as finely as
// quantum says for their column, times to a tenth of a second.
func Encode(t *Table, quantum func(name string) Quantum) ([]byte, error) {
	n := len(t.At)
	if n == 0 || n > MaxRows {
		return nil, fmt.Errorf("a chunk has 1 to %d rows, not %d", MaxRows, n)
	}
	t.fill()
	times := make([]int64, n)
	first := t.At[0].UnixMilli() / timeStep.Milliseconds()
	last := first
	for i, at := range t.At {
		now := at.UnixMilli() / timeStep.Milliseconds()
		if now < last {
			return nil, fmt.Errorf("row %d lies before the row before it", i)
		}
		times[i], last = now-last, now // the first is 0; then the steps, which hardly differ
	}
	out := []byte{chunkVersion}
	out = binary.AppendUvarint(out, uint64(n))
	out = binary.AppendVarint(out, first)
	out = block(out, encodeColumn(times, nil))
	out = binary.AppendUvarint(out, uint64(len(t.Columns)))
	values, missing := make([]int64, n), make([]bool, n)
	for _, c := range t.Columns {
		q := quantum(c.Name)
		gaps := missing[:0]
		for i, v := range c.Values {
			gap := math.IsNaN(v) || math.IsInf(v, 0)
			gaps = append(gaps, gap)
			if values[i] = 0; !gap {
				values[i] = q.steps(v)
			}
		}
		out = block(out, []byte(c.Name))
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(q.Step))
		if q.Step == 0 {
			out = binary.LittleEndian.AppendUint64(out, math.Float64bits(q.Relative))
		}
		out = block(out, encodeColumn(values, gaps))
	}
	return out, nil
}

func block(out, b []byte) []byte {
	return append(binary.AppendUvarint(out, uint64(len(b))), b...)
}

// Decode reads a chunk: the columns for whose names want holds, or all when it is nil. The others
// are passed over without work. A damaged chunk is an error, never a panic.
func Decode(data []byte, want func(name string) bool) (*Table, error) {
	r := reader{data}
	if r.byte() != chunkVersion {
		return nil, fmt.Errorf("the chunk is of a version other than %d", chunkVersion)
	}
	n := int(r.uvarint())
	at := r.varint()
	times := r.block()
	columns := r.uvarint()
	if r.bad() || n < 1 || n > MaxRows || columns > uint64(len(data)) {
		return nil, errDamaged
	}
	t := &Table{At: make([]time.Time, n)}
	err := decodeColumn(times, n, func(i int, v int64, _ bool) {
		at += v
		t.At[i] = time.UnixMilli(at * timeStep.Milliseconds()).UTC()
	})
	for range columns {
		name := string(r.block())
		q := Quantum{Step: math.Float64frombits(r.uint64())}
		if q.Step == 0 {
			q.Relative = math.Float64frombits(r.uint64())
		}
		code := r.block()
		if err != nil || r.bad() {
			return nil, errDamaged
		}
		if want != nil && !want(name) {
			continue
		}
		values := make([]float64, n)
		err = decodeColumn(code, n, func(i int, v int64, missing bool) {
			if values[i] = math.NaN(); !missing {
				values[i] = q.value(v)
			}
		})
		t.Columns = append(t.Columns, Column{name, values})
	}
	return t, err
}

// reader takes a chunk apart. After a read beyond its end, rest is nil and stays so.
type reader struct{ rest []byte }

func (r *reader) bad() bool { return r.rest == nil }

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.rest) {
		r.rest = nil
		return nil
	}
	b := r.rest[:n]
	r.rest = r.rest[n:]
	return b
}

func (r *reader) byte() byte {
	if b := r.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (r *reader) uint64() uint64 {
	if b := r.take(8); b != nil {
		return binary.LittleEndian.Uint64(b)
	}
	return 0
}

func (r *reader) uvarint() uint64 {
	v, n := binary.Uvarint(r.rest)
	if n <= 0 {
		r.rest = nil
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

func (r *reader) varint() int64 {
	v, n := binary.Varint(r.rest)
	if n <= 0 {
		r.rest = nil
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

func (r *reader) block() []byte {
	n := r.uvarint()
	if n > uint64(len(r.rest)) {
		r.rest = nil
		return nil
	}
	return r.take(int(n))
}
