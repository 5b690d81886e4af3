package sign

import (
	"image"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// How long marks stay.
const (
	pointStays = 3 * time.Second
	lineStays  = 15 * time.Second
	noteStays  = time.Minute
	mostMarks  = 200
	mostBits   = 12000 // rectangles of which the window is made
	noteWidth  = 260
	ring       = 17 // radius of what is pointed with, in pixels
	stroke     = 4
)

// mark is one that is shown.
type mark struct {
	host.Mark
	until time.Time
	label Painting
	at    image.Point // of the label
}

// Marks are what is shown on a desktop by hand: pixels above everything, through which the person's
// pointer passes.
type Marks struct{ all []mark }

// Add shows a mark, and forgets those that it replaces.
func (m *Marks) Add(one host.Mark, now time.Time, size image.Point) {
	keep := m.all[:0]
	for _, old := range m.all {
		gone := old.By == one.By && (one.Kind == link.MarkClear || (one.Kind == link.MarkPoint && old.Kind == link.MarkPoint))
		if !gone && len(m.all)-len(keep) < mostMarks {
			keep = append(keep, old)
		}
	}
	m.all = keep
	made := mark{Mark: one}
	switch one.Kind {
	case link.MarkPoint:
		made.until, made.label = now.Add(pointStays), label(one.Name)
		made.at = one.Points[0].Add(image.Pt(ring+4, ring-6))
	case link.MarkLine:
		made.until = now.Add(lineStays)
	case link.MarkNote:
		made.until, made.label = now.Add(noteStays), label(one.Name+": "+one.Text)
		made.at = one.Points[0]
	default:
		return
	}
	if made.label.RGBA != nil { // all of it is to be seen
		b := made.label.Rect.Size()
		made.at.X, made.at.Y = max(min(made.at.X, size.X-b.X), 0), max(min(made.at.Y, size.Y-b.Y), 0)
	}
	m.all = append(m.all, made)
}

// label writes a text as it is shown beside a mark.
func label(text string) Painting {
	pen.Lock()
	defer pen.Unlock()
	lines := folded(text, noteWidth)
	width := 0
	for _, l := range lines {
		width = max(width, widthOf(l))
	}
	p := Painting{image.NewRGBA(image.Rect(0, 0, width+16, len(lines)*lineHeight+8))}
	p.fill(p.Rect, Bright)
	for i, l := range lines {
		p.write(image.Pt(8, 4+i*lineHeight), l, white)
	}
	return p
}

// Age takes away what was shown for long enough, and tells when to look again; 0 is never.
func (m *Marks) Age(now time.Time) (changed bool, next time.Duration) {
	keep := m.all[:0]
	for _, one := range m.all {
		if now.Before(one.until) {
			keep = append(keep, one)
			if left := one.until.Sub(now); next == 0 || left < next {
				next = left
			}
		}
	}
	changed = len(keep) < len(m.all)
	m.all = keep
	return changed, next
}

// Bits are the rectangles of which all marks are made, the latest first.
func (m *Marks) Bits() (out []image.Rectangle) {
	add := func(r image.Rectangle) {
		if len(out) < mostBits {
			out = append(out, r)
		}
	}
	dot := func(p image.Point) { add(image.Rect(p.X-stroke/2, p.Y-stroke/2, p.X+stroke/2+1, p.Y+stroke/2+1)) }
	for i := len(m.all) - 1; i >= 0; i-- {
		one := m.all[i]
		if one.label.RGBA != nil {
			add(one.label.Rect.Add(one.at))
		}
		switch one.Kind {
		case link.MarkPoint:
			circle(one.Points[0], add)
		case link.MarkLine:
			for i, p := range one.Points {
				from := one.Points[max(i-1, 0)]
				far := max(abs(p.X-from.X), abs(p.Y-from.Y))
				for n := 0; n <= far; n += stroke / 2 {
					dot(from.Add(p.Sub(from).Mul(n).Div(max(far, 1))))
				}
			}
		}
	}
	return out
}

// circle adds the rows of a ring.
func circle(c image.Point, add func(image.Rectangle)) {
	half := func(r, y int) int { // of a disc's width at a height
		for x := r; x >= 0; x-- {
			if x*x+y*y <= r*r {
				return x
			}
		}
		return -1
	}
	for y := -ring; y <= ring; y++ {
		outer, inner := half(ring, y), half(ring-stroke, y)
		if inner < 0 || abs(y) > ring-stroke {
			add(image.Rect(c.X-outer, c.Y+y, c.X+outer+1, c.Y+y+1))
			continue
		}
		add(image.Rect(c.X-outer, c.Y+y, c.X-inner, c.Y+y+1))
		add(image.Rect(c.X+inner+1, c.Y+y, c.X+outer+1, c.Y+y+1))
	}
}

func abs(v int) int { return max(v, -v) }

// Labels calls each with the writings of marks, and where they stand.
func (m *Marks) Labels(each func(p Painting, at image.Point)) {
	for _, one := range m.all {
		if one.label.RGBA != nil {
			each(one.label, one.at)
		}
	}
}
