package screen

import (
	"cmp"
	"image"
	"slices"
)

// How moved areas are found: places that can be known again are looked for by the hash of a run of
// pixels, about one place in 64, chosen by the hash itself so that the same places are chosen
// wherever their content stands. Displacements that many such places agree on are tried.
const (
	anchorRun   = 24 // pixels
	anchorBits  = 6  // one place in 2^6
	anchorTable = 1 << 15
	hashStep    = 0x9E3779B1
	leastVotes  = 6
	leastMove   = 48 * 16 // pixels of an area that is worth a move
	mostMoves   = 6       // in one update
	mostTries   = 24
)

// hashOut is hashStep to the power of anchorRun, by which the pixel that leaves a run is taken out.
var hashOut = func() uint32 {
	v := uint32(1)
	for range anchorRun {
		v *= hashStep
	}
	return v
}()

type anchor struct {
	hash uint32
	x, y int16
	turn uint16
	many bool // it stands at several places, and tells nothing
}

// finder finds moves; its tables are kept from one update to the next.
type finder struct {
	table [anchorTable]anchor
	turn  uint16
	votes []vote
}

type vote struct {
	d    image.Point // where it stood before, from where it stands now
	x, y int         // the run's left end now
}

// anchors calls each with the chosen places of an area.
func anchors(p *Picture, area image.Rectangle, every int, each func(hash uint32, x, y int)) {
	if area.Dx() < anchorRun {
		return
	}
	for y := area.Min.Y; y < area.Max.Y; y += every {
		row := p.row(y, area.Min.X, area.Max.X)
		var h uint32
		same := 0 // pixels like the one before
		last := ^uint32(0)
		for x, v := range row {
			h = h*hashStep + v + 1
			if x >= anchorRun {
				h -= (row[x-anchorRun] + 1) * hashOut
			}
			if v == last {
				same++
			} else {
				same, last = 0, v
			}
			if x >= anchorRun-1 && same < anchorRun/2 && (h*0x85EBCA6B)>>(32-anchorBits) == 0 {
				each(h, area.Min.X+x-anchorRun+1, y)
			}
		}
	}
}

// find looks for displacements between two pictures within an area, those with most votes first.
func (f *finder) find(old, now *Picture, area image.Rectangle) []vote {
	if f.turn++; f.turn == 0 {
		f.table = [anchorTable]anchor{}
		f.turn = 1
	}
	slot := func(hash uint32) *anchor {
		i := hash * 0xC2B2AE35 >> 17 % anchorTable
		for range 8 {
			if a := &f.table[i]; a.turn != f.turn || a.hash == hash {
				return a
			}
			i = (i + 1) % anchorTable
		}
		return nil
	}
	anchors(old, area, 1, func(hash uint32, x, y int) {
		if a := slot(hash); a != nil {
			if a.turn == f.turn {
				a.many = true
			} else {
				*a = anchor{hash: hash, x: int16(x), y: int16(y), turn: f.turn}
			}
		}
	})
	f.votes = f.votes[:0]
	anchors(now, area, 1, func(hash uint32, x, y int) {
		if a := slot(hash); a != nil && a.turn == f.turn && !a.many && (int(a.x) != x || int(a.y) != y) {
			f.votes = append(f.votes, vote{image.Pt(int(a.x)-x, int(a.y)-y), x, y})
		}
	})
	return f.votes
}

// moves finds what only moved within an area, and does the moves in old, so that each is found in
// what those before it left. It returns them in the order in which they are to be done.
func (f *finder) moves(old, now *Picture, area image.Rectangle) (list []vote, rects []image.Rectangle) {
	votes := f.find(old, now, area)
	counts := map[image.Point]int{}
	for _, v := range votes {
		counts[v.d]++
	}
	type candidate struct {
		d image.Point
		n int
	}
	var best []candidate
	for d, n := range counts {
		if n >= leastVotes {
			best = append(best, candidate{d, n})
		}
	}
	slices.SortFunc(best, func(a, b candidate) int {
		return cmp.Or(b.n-a.n, a.d.Y-b.d.Y, a.d.X-b.d.X)
	})
	tries := 0
	for _, c := range best[:min(len(best), 3)] {
	votes:
		for _, v := range votes {
			if v.d != c.d {
				continue
			}
			for _, r := range rects {
				if image.Pt(v.x, v.y).In(r) {
					continue votes
				}
			}
			if tries++; tries > mostTries || len(list) == mostMoves {
				return list, rects
			}
			r := grow(old, now, image.Rect(v.x, v.y, v.x+anchorRun, v.y+1), v.d, area)
			if r.Dx()*r.Dy() < leastMove {
				continue
			}
			old.move(r, v.d)
			list, rects = append(list, v), append(rects, r)
		}
	}
	return list, rects
}

// grow widens a rectangle as long as what is in it now stood there, displaced, before: first up and
// down, then to the sides.
func grow(old, now *Picture, r image.Rectangle, d image.Point, area image.Rectangle) image.Rectangle {
	area = area.Intersect(now.Bounds().Sub(d)) // where it came from lies in the picture too
	row := func(y int) bool {
		return alike(now.row(y, r.Min.X, r.Max.X), old.row(y+d.Y, r.Min.X+d.X, r.Max.X+d.X))
	}
	column := func(x int) bool {
		for y := r.Min.Y; y < r.Max.Y; y++ {
			if now.Pix[y*now.W+x] != old.Pix[(y+d.Y)*old.W+x+d.X] {
				return false
			}
		}
		return true
	}
	if !r.In(area) || !row(r.Min.Y) {
		return image.Rectangle{}
	}
	for r.Min.Y > area.Min.Y && row(r.Min.Y-1) {
		r.Min.Y--
	}
	for r.Max.Y < area.Max.Y && row(r.Max.Y) {
		r.Max.Y++
	}
	for r.Min.X > area.Min.X && column(r.Min.X-1) {
		r.Min.X--
	}
	for r.Max.X < area.Max.X && column(r.Max.X) {
		r.Max.X++
	}
	return r
}
