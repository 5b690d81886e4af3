package screen

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"image"
	"iter"
	"math"
	"slices"
	"time"
)

// Tile is the side of the squares in which changes are kept, in pixels.
const Tile = 64

// Times and sizes of an encoder.
const (
	// still is how long a part that was sent roughly must not have changed before it is sent exactly.
	still = 250 * time.Millisecond
	// cools is how long it takes a tile's heat to fall by half.
	cools = 300 * time.Millisecond
	// hot is the heat above which a tile is held for one that changes all the time, such as a video.
	hot = 3
	// vainMost is how often moves are looked for in vain before they are looked for more rarely.
	vainMost = 8
	// moveTiles is how many tiles must have changed for moves to be looked for.
	moveTiles = 3
)

// Encoder writes what one viewer must be told to show a picture as it is. It keeps what the viewer
// shows, so what it writes must be read in order and without gaps.
type Encoder struct {
	shown      *Picture // as the viewer has it, but that rough tiles only resemble it
	tiles      []tile
	across     int // tiles in a row
	forgotten  bool
	turn       int // where the hot tiles are begun with, so that all have their turn
	number     uint64
	stream     *flate.Writer
	streamOver bool // it begins anew with the next part
	alone      *flate.Writer
	steps      []byte
	packed     bytes.Buffer
	photos     []byte
	jpeg       []photographer // one for each of those that work side by side
	negatives  [][]byte       // photographs of areas of an update
	colours    colours
	finder     finder
	vain       int     // how often moves were looked for and none found, of late
	ratio      float64 // of packed steps to plain ones, as it was of late
}

// tile is what is known of one square.
type tile struct {
	dirty bool // it may differ from what is shown
	rough bool // it is shown roughly
	heat  float64
	seen  time.Time // when its heat was told
	sent  time.Time
}

// Wish is how an update is to be written.
type Wish struct {
	Now time.Time
	// Budget is about how many bytes it may have; what does not fit is left for the next one. 0 is
	// without bounds.
	Budget int
	// Quality of photographs that change, 1 to 100, as JPEG knows it. 0 sends all of them exactly.
	Quality int
	// Calm has what seldom changes told alone where there is any, so that it does not wait for the
	// rest; Only has nothing else told.
	Calm, Only bool
	// Beside, where it is set, calls do for all numbers below n, side by side, and returns when they are
	// done; Workers is how many there are to be at once.
	Beside  func(n int, do func(i int))
	Workers int
}

// Whole tells whether an update needs none before it.
func Whole(update []byte) bool {
	in := reader{b: update}
	in.number()
	in.side()
	in.side()
	return in.byte()&flagWhole != 0 && !in.bad
}

// NewEncoder returns an encoder of pictures of any size, for a viewer that shows nothing yet.
func NewEncoder() *Encoder { return &Encoder{shown: &Picture{}, ratio: 0.3} }

// Damage says that a part of the picture may have changed.
func (e *Encoder) Damage(r image.Rectangle) {
	for i := range e.touched(r) {
		e.tiles[i].dirty = true
	}
}

// touched are the tiles of which a part lies in r.
func (e *Encoder) touched(r image.Rectangle) iter.Seq[int] {
	return func(yield func(int) bool) {
		if r = r.Intersect(e.shown.Bounds()); r.Empty() {
			return
		}
		for y := r.Min.Y / Tile; y <= (r.Max.Y-1)/Tile; y++ {
			for x := r.Min.X / Tile; x <= (r.Max.X-1)/Tile; x++ {
				if !yield(y*e.across + x) {
					return
				}
			}
		}
	}
}

// Forget has all of the picture sent anew, for a viewer that shows nothing, or something else.
func (e *Encoder) Forget() {
	e.forgotten = true
}

// Pending tells whether something is left to be sent: changes that are known of, or parts that are
// shown roughly, and from when on those can be sent exactly.
func (e *Encoder) Pending() (changes bool, exact time.Time) {
	changes = e.forgotten
	for i := range e.tiles {
		t := &e.tiles[i]
		changes = changes || t.dirty
		if at := t.sent.Add(still); t.rough && (exact.IsZero() || at.Before(exact)) {
			exact = at
		}
	}
	return changes, exact
}

func (e *Encoder) rect(i int) image.Rectangle {
	x, y := i%e.across*Tile, i/e.across*Tile
	return image.Rect(x, y, x+Tile, y+Tile).Intersect(e.shown.Bounds())
}

// area is a part of the picture that is to be written.
type area struct {
	image.Rectangle
	tiles []int // those that it covers what has changed of
	photo bool
	heat  float64
}

// Update writes what has changed in the parts that are damaged, as far as the budget goes, and then
// makes exact what was shown roughly and is still. It returns nil where there is nothing to tell.
// What it returns is the caller's.
func (e *Encoder) Update(p *Picture, w Wish) []byte {
	sized := p.W != e.shown.W || p.H != e.shown.H
	fresh := sized || e.forgotten
	if fresh {
		e.resize(p.W, p.H)
		e.forgotten, e.streamOver = false, true
	}
	e.steps, e.photos = e.steps[:0], e.photos[:0]
	changed := e.changed(p)
	if len(changed) >= moveTiles && !fresh && e.mayMove() {
		found := false
		for _, find := range []func(old, now *Picture, area image.Rectangle) ([]vote, []image.Rectangle){e.finder.again, e.finder.scrolled,
			e.finder.moved} {
			before := len(changed)
			if e.moves(p, changed, find, w.Now) {
				changed, found = e.changed(p), true
			}
			if len(changed) < moveTiles || len(changed) < before/3 {
				break
			}
		}
		if e.vain++; found {
			e.vain = 0
		}
	}
	photos := 0
	budget := w.Budget
	if budget <= 0 {
		budget = math.MaxInt
	}
	for i := range changed {
		c := &changed[i]
		t := &e.tiles[c.tiles[0]]
		t.warm(w.Now)
		c.heat = t.heat
		if c.photo = w.Quality > 0 && e.isPhoto(p, c.Rectangle); c.photo {
			photos++
		}
	}
	if 2*photos < len(changed) {
		e.vain = 0
	}
	calm, lively := parted(changed)
	left := e.write(p, w, calm, budget, true)
	if !w.Only && (!w.Calm || len(calm) == 0) {
		e.write(p, w, lively, left, len(calm) == 0)
		e.sharpen(p, w, budget)
	}
	if len(e.steps) == 0 && len(e.photos) == 0 && !fresh {
		return nil
	}
	return e.assemble(p, fresh)
}

// mayMove tells whether moves are looked for: where photographs change and there were none of late, as in
// a video, one time in eight.
func (e *Encoder) mayMove() bool {
	if e.vain < vainMost {
		return true
	}
	e.vain++
	return e.vain%8 == 0
}

func (e *Encoder) resize(w, h int) {
	e.shown = &Picture{W: w, H: h, Pix: make([]uint32, w*h)}
	e.across = (w + Tile - 1) / Tile
	e.tiles = make([]tile, e.across*((h+Tile-1)/Tile))
	for i := range e.tiles {
		e.tiles[i].dirty = true
	}
}

// changed lists the dirty tiles that differ from what is shown, each with the part that does.
func (e *Encoder) changed(p *Picture) (list []area) {
	for i := range e.tiles {
		t := &e.tiles[i]
		if !t.dirty {
			continue
		}
		if r := differ(e.shown, p, e.rect(i)); r.Empty() {
			t.dirty = false
		} else {
			list = append(list, area{Rectangle: r, tiles: []int{i}})
		}
	}
	return list
}

// moves writes what only moved among what has changed.
func (e *Encoder) moves(p *Picture, changed []area, find func(old, now *Picture, area image.Rectangle) ([]vote, []image.Rectangle),
	now time.Time) bool {
	var all image.Rectangle
	for _, c := range changed {
		all = all.Union(c.Rectangle)
	}
	list, rects := find(e.shown, p, all)
	for i, r := range rects {
		d := list[i].d
		if i == 0 {
			e.finder.last, e.finder.by = r, d
		}
		e.steps = appendRect(append(e.steps, stepMove), r)
		e.steps = binary.AppendVarint(binary.AppendVarint(e.steps, int64(d.X)), int64(d.Y))
		// What was rough where it came from is rough where it stands now.
		var rough []int
		for n := range e.touched(r) {
			if e.anyRough(e.rect(n).Intersect(r).Add(d)) {
				rough = append(rough, n)
			}
		}
		for _, n := range rough {
			e.tiles[n].rough, e.tiles[n].sent = true, now
		}
		for n := range e.touched(r) {
			e.tiles[n].dirty = !e.rect(n).In(r) // the rest of it may differ
		}
	}
	return len(list) > 0
}

func (e *Encoder) anyRough(r image.Rectangle) bool {
	for i := range e.touched(r) {
		if e.tiles[i].rough {
			return true
		}
	}
	return false
}

// warm adds to a tile's heat that it has changed.
func (t *tile) warm(now time.Time) {
	for age := now.Sub(t.seen); age >= cools && t.heat > 0.01; age -= cools {
		t.heat /= 2
	}
	t.heat++
	t.seen = now
}

// isPhoto tells whether an area has more colours than a palette holds.
func (e *Encoder) isPhoto(p *Picture, r image.Rectangle) bool {
	e.colours.begin()
	for y := r.Min.Y; y < r.Max.Y; y++ {
		if !e.colours.add(p.row(y, r.Min.X, r.Max.X)) {
			return true
		}
	}
	return false
}

// parted joins neighbours of a kind in each row of tiles, and returns those that seldom change before
// those that change all the time.
func parted(changed []area) (calm, lively []area) {
	kind := func(a area) bool { return a.heat > hot }
	for _, c := range changed {
		into := &calm
		if kind(c) {
			into = &lively
		}
		if n := len(*into); n > 0 {
			last := &(*into)[n-1]
			if last.photo == c.photo && last.Max.X == c.Min.X && last.tiles[len(last.tiles)-1] == c.tiles[0]-1 &&
				last.Min.Y/Tile == c.Min.Y/Tile {
				last.Rectangle = last.Union(c.Rectangle)
				last.tiles = append(last.tiles, c.tiles...)
				continue
			}
		}
		*into = append(*into, c)
	}
	return calm, lively
}

// write writes areas until the budget is spent, and returns what is left of it. At least one is
// written where some must be.
func (e *Encoder) write(p *Picture, w Wish, list []area, budget int, must bool) int {
	// Those that go on changing take turns to be first.
	start := 0
	if len(list) > 1 && list[0].heat > hot {
		start = slices.IndexFunc(list, func(a area) bool { return a.tiles[0] >= e.turn })
		start = max(start, 0)
	}
	list = slices.Concat(list[start:], list[:start])
	developed := 0
	for n, a := range list {
		if budget <= 0 && !(must && n == 0) {
			e.turn = a.tiles[0]
			break
		}
		before, photos := len(e.steps), len(e.photos)
		if a.photo {
			if n >= developed {
				developed = e.develop(p, w, list, n)
			}
			e.writePhoto(a.Rectangle, e.negatives[n])
		} else {
			e.writeExact(p, a.Rectangle)
		}
		budget -= int(float64(len(e.steps)-before)*e.ratio) + len(e.photos) - photos
		for _, i := range a.tiles {
			t := &e.tiles[i]
			t.dirty, t.sent = false, w.Now
			r := e.rect(i).Intersect(a.Rectangle)
			if a.photo {
				t.rough = true
			} else if r == e.rect(i) {
				t.rough = false
			}
			e.shown.Copy(p, r)
		}
	}
	return budget
}

// sharpen sends exactly what is shown roughly and is still.
func (e *Encoder) sharpen(p *Picture, w Wish, budget int) {
	budget -= len(e.photos) + int(float64(len(e.steps))*e.ratio)
	var ripe []int
	for i := range e.tiles {
		t := &e.tiles[i]
		if t.rough && !t.dirty && w.Now.Sub(t.sent) >= still {
			ripe = append(ripe, i)
		}
	}
	slices.SortStableFunc(ripe, func(a, b int) int { return e.tiles[a].sent.Compare(e.tiles[b].sent) })
	for n, i := range ripe {
		if budget <= 0 && (n > 0 || len(e.steps)+len(e.photos) > 0) {
			return
		}
		before := len(e.steps)
		e.writeExact(p, e.rect(i))
		e.shown.Copy(p, e.rect(i))
		e.tiles[i].rough = false
		// Photographs do not compress as the rest does.
		budget -= int(float64(len(e.steps)-before) * max(e.ratio, 0.5))
	}
}

// writeExact writes an area as it is, in the form that is shortest for its colours.
func (e *Encoder) writeExact(p *Picture, r image.Rectangle) {
	if e.isPhoto(p, r) {
		if r.Dx() > Tile { // its parts may do with palettes
			at := (r.Min.X/Tile + (r.Dx()/Tile+1)/2) * Tile
			e.writeExact(p, image.Rect(r.Min.X, r.Min.Y, at, r.Max.Y))
			e.writeExact(p, image.Rect(at, r.Min.Y, r.Max.X, r.Max.Y))
			return
		}
		e.steps = appendPixels(appendRect(append(e.steps, stepPixels), r), p, r)
		return
	}
	list := e.colours.list
	if len(list) == 1 {
		e.steps = appendColour(appendRect(append(e.steps, stepFill), r), list[0])
		return
	}
	e.colours.order()
	e.steps = append(appendRect(append(e.steps, stepPalette), r), byte(len(list)-1))
	for _, v := range list {
		e.steps = appendColour(e.steps, v)
	}
	n := bits(len(list))
	for y := r.Min.Y; y < r.Max.Y; y++ {
		e.steps = e.colours.pack(e.steps, p.row(y, r.Min.X, r.Max.X), n)
	}
}

// writePhoto writes an area roughly.
func (e *Encoder) writePhoto(r image.Rectangle, photo []byte) {
	e.photos = appendRect(e.photos, r)
	e.photos = binary.AppendUvarint(e.photos, uint64(len(photo)))
	e.photos = append(e.photos, photo...)
}

// develop makes the photographs of the areas from one on, as many as are made side by side, and returns
// up to which they are made.
func (e *Encoder) develop(p *Picture, w Wish, list []area, from int) (until int) {
	workers := max(w.Workers, 1)
	if len(e.jpeg) < workers {
		e.jpeg = make([]photographer, workers)
	}
	if len(e.negatives) < len(list) {
		e.negatives = append(e.negatives, make([][]byte, len(list)-len(e.negatives))...)
	}
	var todo []int
	for until = from; until < len(list) && len(todo) < workers; until++ {
		if list[until].photo {
			todo = append(todo, until)
		}
	}
	do := func(i int) {
		n := todo[i]
		e.negatives[n] = e.jpeg[i].take(e.negatives[n][:0], p, list[n].Rectangle, w.Quality)
	}
	if w.Beside != nil && len(todo) > 1 {
		w.Beside(len(todo), do)
		return until
	}
	for i := range todo {
		do(i)
	}
	return until
}

// Number of the latest update, as a viewer acknowledges it.
func (e *Encoder) Number() uint64 { return e.number }
