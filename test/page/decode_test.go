package page

import (
	"encoding/base64"
	"encoding/binary"
	"image"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/screen"
)

// unpack is a function of the page that reads base64.
const unpack = `const unpack = t => Uint8Array.from(atob(t), c => c.charCodeAt(0));`

// viewer draws updates in the page as the console does, and gives what is shown.
type viewer struct{ *tab }

func (v viewer) begin() {
	call[any](v.tab, `() => { `+unpack+`
		window.canvas = new OffscreenCanvas(1, 1);
		const surface = canvas.getContext("2d", {willReadFrequently: true});
		const decoder = new part.decode.Decoder(surface);
		window.draw = t => decoder.draw(unpack(t));
		window.shown = () => { // 3 bytes a pixel, after width and height
			const {data} = surface.getImageData(0, 0, canvas.width, canvas.height);
			let s = canvas.width + " " + canvas.height + " ";
			for (let i = 0; i < data.length; i += 4) s += String.fromCharCode(data[i], data[i+1], data[i+2]);
			return btoa(s);
		};
	}`)
}

func (v viewer) draw(update []byte) (number uint64, err error) {
	return try[uint64](v.tab, `t => window.draw(t)`, base64.StdEncoding.EncodeToString(update))
}

// shows compares what the page shows with a picture, and tells the first pixel that differs.
func (v viewer) shows(t *testing.T, want *screen.Picture, where string) {
	t.Helper()
	text, err := base64.StdEncoding.DecodeString(call[string](v.tab, `() => window.shown()`))
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.SplitN(string(text), " ", 3)
	pixels := fields[2]
	if len(pixels) != 3*len(want.Pix) {
		t.Fatalf("%s: it shows %s by %s", where, fields[0], fields[1])
	}
	for i, p := range want.Pix {
		got := uint32(pixels[3*i])<<16 | uint32(pixels[3*i+1])<<8 | uint32(pixels[3*i+2])
		if got != p {
			t.Fatalf("%s: the pixel at %d, %d is %06x, not %06x", where, i%want.W, i/want.W, got, p)
		}
	}
}

// scribble changes a part of a picture as work on a desktop does: areas, writing, a photograph, something moved.
func scribble(r *rand.Rand, p *screen.Picture) image.Rectangle {
	x, y := r.IntN(p.W), r.IntN(p.H)
	at := image.Rect(x, y, x+1+r.IntN(p.W-x), y+1+r.IntN(p.H-y))
	kind, shade := r.IntN(4), r.Uint32()&0xFFFFFF
	before := slices.Clone(p.Pix)
	for y := at.Min.Y; y < at.Max.Y; y++ {
		for x := at.Min.X; x < at.Max.X; x++ {
			v := &p.Pix[y*p.W+x]
			switch kind {
			case 0:
				*v = shade
			case 1:
				*v = shade ^ uint32(r.IntN(40))*0x051107
			case 2:
				*v = uint32(x*3+r.IntN(9))&255<<16 | uint32(y*2+r.IntN(9))&255<<8 | uint32(x+y)&255
			default:
				*v = before[(y+11)%p.H*p.W+(x+7)%p.W]
			}
		}
	}
	return at
}

// The console shows what the encoder of the agent was given, pixel by pixel, through changes of size and after a gap.
func TestDesktopIsShownAsItIs(t *testing.T) {
	t.Parallel()
	v := viewer{open(t)}
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 9))
		v.begin()
		p, err := screen.NewPicture(1+r.IntN(180), 1+r.IntN(130))
		if err != nil {
			t.Fatal(err)
		}
		e := screen.NewEncoder()
		for step := range 25 {
			switch {
			case step == 12:
				if p, err = screen.NewPicture(1+r.IntN(180), 1+r.IntN(130)); err != nil {
					t.Fatal(err)
				}
			case step == 18: // the viewer begins anew
				v.begin()
				e.Forget()
			}
			for range 1 + r.IntN(3) {
				e.Damage(scribble(r, p))
			}
			u := e.Update(p, screen.Wish{Now: time.Unix(int64(step), 0)})
			if u == nil {
				continue
			}
			if n, err := v.draw(u); err != nil || n != e.Number() {
				t.Fatalf("seed %d, step %d: number %d, %v", seed, step, n, err)
			}
			v.shows(t, p, "seed "+time.Duration(seed).String())
		}
	}
}

// An update of a hostile device is refused: nothing hangs, and no memory is taken for what it only claims.
func TestHostileUpdatesAreRefused(t *testing.T) {
	t.Parallel()
	v := viewer{open(t)}
	v.begin()
	n := binary.AppendUvarint
	head := func(flags byte) []byte { return append(n(n(n(nil, 1), 8), 8), flags) }
	steps := func(s ...byte) []byte { return append(n(head(8), uint64(len(s))), s...) }
	for name, u := range map[string][]byte{
		"nothing":                         {},
		"no size":                         n(n(n(nil, 1), 0), 8),
		"a picture too wide":              append(n(n(n(nil, 1), 1<<20), 8), 8),
		"a number without an end":         {255, 255, 255, 255, 255, 255, 255, 255, 255, 255},
		"more steps than there are":       n(head(8), 500),
		"a step that is none":             steps(9, 0, 0, 1, 1),
		"a rectangle outside":             steps(2, 4, 4, 5, 5, 1, 2, 3),
		"a rectangle without a side":      steps(2, 0, 0, 0, 1, 1, 2, 3),
		"a palette that ends too early":   steps(3, 0, 0, 8, 8, 1, 1, 2, 3),
		"pixels that end too early":       steps(4, 0, 0, 8, 8, 1),
		"a stream without its beginning":  append(n(n(head(2|8), 9), 1), 0),
		"a part longer than may be":       append(n(n(head(2|4|8), 1<<40), 1), 0),
		"what is not compressed, as such": append(n(head(1|8), 3), 0xFF, 0xFF, 0xFF),
		"a photograph that is none":       append(append(n(head(8), 0), 0, 0, 8, 8), 3, 1, 2, 3),
	} {
		if number, err := v.draw(u); err == nil {
			t.Errorf("%s was drawn, as number %d", name, number)
		}
	}
	// What is well formed is still drawn after all of them.
	if _, err := v.draw(steps(2, 0, 0, 8, 8, 10, 20, 30)); err != nil {
		t.Fatal(err)
	}
	want := &screen.Picture{W: 8, H: 8, Pix: slices.Repeat([]uint32{0x0A141E}, 64)}
	v.shows(t, want, "after what was refused")
}

// Whatever bytes come, a viewer draws or refuses, and goes on.
func TestMangledUpdatesEnd(t *testing.T) {
	t.Parallel()
	v := viewer{open(t)}
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 3))
	p, err := screen.NewPicture(90, 70)
	if err != nil {
		t.Fatal(err)
	}
	e := screen.NewEncoder()
	refused := 0
	for range 120 {
		e.Damage(scribble(r, p))
		u := e.Update(p, screen.Wish{Now: time.Unix(0, 0)})
		if u == nil {
			continue
		}
		v.begin()
		for range 1 + r.IntN(4) {
			u[r.IntN(len(u))] ^= 1 << r.IntN(8)
		}
		if r.IntN(3) == 0 {
			u = u[:r.IntN(len(u))]
		}
		if _, err := v.draw(u); err != nil {
			refused++
		}
		e.Forget()
	}
	if refused < 20 {
		t.Errorf("only %d of 120 mangled updates were refused", refused)
	}
}
