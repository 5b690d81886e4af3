package screen

import (
	"cmp"
	"image"
	"slices"
)

// How moved areas are found: what scrolls is looked for first, in strips of rows; then places that can be
// known again are looked for by the hash of a run of
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
	last  image.Rectangle // what was found last to have moved, where it stands now
	by    image.Point     // and its displacement
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

// begin empties the table.
func (f *finder) begin() {
	if f.turn++; f.turn == 0 {
		f.table = [anchorTable]anchor{}
		f.turn = 1
	}
	f.votes = f.votes[:0]
}

// slot is where a hash stands in the table, or may be put; nil where there is no room.
func (f *finder) slot(hash uint32) *anchor {
	i := hash * 0xC2B2AE35 >> 17 % anchorTable
	for range 8 {
		if a := &f.table[i]; a.turn != f.turn || a.hash == hash {
			return a
		}
		i = (i + 1) % anchorTable
	}
	return nil
}

// stood notes what stood at a place before.
func (f *finder) stood(hash uint32, x, y int) {
	if a := f.slot(hash); a == nil {
		return
	} else if a.turn == f.turn {
		a.many = true
	} else {
		*a = anchor{hash: hash, x: int16(x), y: int16(y), turn: f.turn}
	}
}

// stands votes for where what stands at a place now stood before.
func (f *finder) stands(hash uint32, x, y int) {
	if a := f.slot(hash); a != nil && a.turn == f.turn && !a.many && (int(a.x) != x || int(a.y) != y) {
		f.votes = append(f.votes, vote{image.Pt(int(a.x)-x, int(a.y)-y), x, y})
	}
}

// strips calls each with the hashes of the pieces of rows, a tile wide, that are not of one colour.
func strips(p *Picture, area image.Rectangle, every int, each func(hash uint32, x, y int)) {
	for y := area.Min.Y; y < area.Max.Y; y += every {
		for x := (area.Min.X + Tile - 1) / Tile * Tile; x+Tile <= area.Max.X; x += Tile {
			row := (*[Tile]uint32)(p.row(y, x, x+Tile))
			first, other := row[0], uint32(0)
			h, g := uint32(x), uint32(1)
			for i := 0; i < Tile; i += 2 {
				h, g = h*hashStep+row[i], g*hashStep+row[i+1]
				other |= row[i] ^ first | row[i+1] ^ first
			}
			if other != 0 {
				each(h^g*0x85EBCA6B, x, y)
			}
		}
	}
}

// again finds what moved as the last thing did that was found to: at its place, as what scrolls, or as much
// further, as what is dragged. It needs no table.
func (f *finder) again(old, now *Picture, area image.Rectangle) (moves []vote, rects []image.Rectangle) {
	for _, r := range []image.Rectangle{f.last, f.last.Sub(f.by)} {
		if r.Empty() || !r.In(area) || !r.Add(f.by).In(old.Bounds()) {
			continue
		}
		same := func(y int) bool {
			return alike(now.row(y, r.Min.X, r.Max.X), old.row(y+f.by.Y, r.Min.X+f.by.X, r.Max.X+f.by.X))
		}
		y := r.Min.Y
		for y < r.Max.Y && same(y) {
			y++
		}
		if y == r.Max.Y {
			r = grow(old, now, r, f.by, area)
			old.move(r, f.by)
			return []vote{{d: f.by}}, []image.Rectangle{r}
		}
	}
	return nil, nil
}

// scrolled finds what moved up or down, of whole tiles' width, which is quickly found.
func (f *finder) scrolled(old, now *Picture, area image.Rectangle) ([]vote, []image.Rectangle) {
	f.begin()
	strips(old, area, 1, f.stood)
	strips(now, area, 4, f.stands)
	return moves(f.votes, old, now, area)
}

// moved finds what moved anywhere.
func (f *finder) moved(old, now *Picture, area image.Rectangle) ([]vote, []image.Rectangle) {
	f.begin()
	anchors(old, area, 1, f.stood)
	anchors(now, area, 3, f.stands)
	return moves(f.votes, old, now, area)
}

// moves does, in old, what the votes tell of moves to now, so that each is found in what those before
// it left. It returns them in the order in which they are to be done.
func moves(votes []vote, old, now *Picture, area image.Rectangle) (list []vote, rects []image.Rectangle) {
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
	if !r.In(area) || !row(r.Min.Y) {
		return image.Rectangle{}
	}
	for r.Min.Y > area.Min.Y && row(r.Min.Y-1) {
		r.Min.Y--
	}
	for r.Max.Y < area.Max.Y && row(r.Max.Y) {
		r.Max.Y++
	}
	// How far each row is alike, from the edge outwards; the least of all rows holds.
	left, right := area.Min.X, area.Max.X
	for y := r.Min.Y; y < r.Max.Y && (left < r.Min.X || right > r.Max.X); y++ {
		a, b := now.row(y, left, right), old.row(y+d.Y, left+d.X, right+d.X)
		from := left
		left += len(a[:r.Min.X-from]) - alikeBack(a[:r.Min.X-from], b[:r.Min.X-from])
		right = r.Max.X + alikeAhead(a[r.Max.X-from:], b[r.Max.X-from:])
	}
	r.Min.X, r.Max.X = left, right
	return r
}
