// Package polling finds what is different on a desktop whose system tells of no changes: it is copied now and
// then and compared with what was seen before.
package polling

import (
	"image"
	"slices"
	"time"

	"moorwatch.example/core/screen"
)

// Pace is how often a desktop is looked at: while it changes, and otherwise. Its zero value is ready.
type Pace struct{ busy time.Time }

const (
	often     = 25 * time.Millisecond
	seldom    = 100 * time.Millisecond
	staysBusy = time.Second
)

// Pause is how long to wait after a look that began then, and found something or not. A slow look leaves the
// computer as much time as it took.
func (p *Pace) Pause(began time.Time, found bool) time.Duration {
	now := time.Now()
	if found {
		p.busy = now.Add(staysBusy)
	}
	pause := seldom
	if now.Before(p.busy) {
		pause = often
	}
	took := now.Sub(began)
	return max(pause-took, took)
}

// tile is the side of the squares that are compared.
const tile = 64

// Mask leaves the colours of a pixel: the system writes anything into the rest.
const Mask = 0x00ffffff

// Differences brings shown up to date with a desktop's pixels, and returns where they were another;
// squares beside each other come as one.
func Differences(shown, pixels []uint32, w, h int, all bool) []image.Rectangle {
	var out []image.Rectangle
	for y := 0; y < h; y += tile {
		bottom, run := min(y+tile, h), image.Rectangle{}
		for x := 0; x < w; x += tile {
			right := min(x+tile, w)
			changed := all
			for row := y; row < bottom; row++ {
				a, b := shown[row*w+x:row*w+right], pixels[row*w+x:row*w+right]
				if slices.Equal(a, b) {
					continue
				}
				for i, p := range b {
					if p &= Mask; a[i] != p {
						a[i], changed = p, true
					}
				}
			}
			if changed {
				run = run.Union(image.Rect(x, y, right, bottom))
			}
			if !run.Empty() && (!changed || right == w) {
				out = append(out, run)
				run = image.Rectangle{}
			}
		}
	}
	return out
}

// Grab copies a part of what was shown of a desktop of a size to the same place of a picture.
func Grab(into *screen.Picture, r image.Rectangle, shown []uint32, size image.Point) {
	r = r.Intersect(into.Bounds()).Intersect(image.Rectangle{Max: size})
	for y := r.Min.Y; y < r.Max.Y; y++ {
		copy(into.Pix[y*into.W+r.Min.X:y*into.W+r.Max.X], shown[y*size.X+r.Min.X:y*size.X+r.Max.X])
	}
}
