package sim

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"math"
	"strings"
	"sync"
	"time"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// desk is the desktop of a simulated device: a background, windows that move when they are dragged,
// a sheet that takes what is typed, and something that goes on by itself.
type desk struct {
	mu      sync.Mutex
	device  Device
	size    image.Point
	windows []*sheet // the topmost last
	typed   []rune
	clip    string
	pointer image.Point
	buttons int
	drag    *sheet
	grip    image.Point
	version int
	open    map[*simScreen]bool
	drawn   *image.RGBA
	shown   string // what the picture was drawn from
	draws   int    // how often it was drawn
	film    *image.RGBA
}

// sheet is a window.
type sheet struct {
	title string
	at    image.Rectangle
	kind  sheetKind
	lines int // that were scrolled
}

type sheetKind int

const (
	loans   sheetKind = iota // a table that grows by day
	letter                   // takes what is typed
	radio                    // an X-ray picture
	console                  // lines that go by
	search                   // a kiosk's only page
	weather                  // curves of a station
)

var (
	faces    map[float64]font.Face
	monos    map[float64]font.Face
	makeFace = sync.OnceFunc(func() {
		faces, monos = map[float64]font.Face{}, map[float64]font.Face{}
		for _, size := range []float64{13, 15, 22, 34} {
			faces[size], monos[size] = face(goregular.TTF, size), face(gomono.TTF, size)
		}
	})
	// drawing keeps the fonts to one desk at a time: their faces are not for many.
	drawing sync.Mutex
)

func face(ttf []byte, size float64) font.Face {
	f, err := opentype.Parse(ttf)
	if err != nil {
		panic(err) // the font is part of the program
	}
	out, err := opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		panic(err)
	}
	return out
}

const bar = 34 // height of the bar at the lower edge, in pixels

func newDesk(d Device) *desk {
	k := &desk{device: d, size: image.Pt(1280, 800), open: map[*simScreen]bool{}, pointer: image.Pt(640, 400)}
	window := func(kind sheetKind, title string, x, y, w, h int) {
		k.windows = append(k.windows, &sheet{title: title, at: image.Rect(x, y, x+w, y+h), kind: kind})
	}
	off := int(d.Seed % 60)
	switch d.Kind {
	case Kiosk:
		window(search, "", 0, 0, k.size.X, k.size.Y)
	case Server, Board:
		window(console, "", 0, 0, k.size.X, k.size.Y)
	case Station:
		window(weather, "Readings of "+d.Name, 60, 50, 1100, 640)
	case Imaging:
		window(radio, "Left foreleg, two views", 40, 30, 900, 690)
		window(letter, "Findings", 700, 380, 500, 330)
	default:
		window(loans, "Loans of today", 60+off, 50, 700, 480)
		window(letter, "Letter", 560-off, 250+off/2, 600, 420)
	}
	return k
}

// changed tells those who look that something was done.
func (k *desk) changed() {
	k.version++
	for s := range k.open {
		s.nudge()
	}
}

// picture draws the desk as it is at a time, unless it looks as it did when it was drawn last.
func (k *desk) picture(now time.Time) *image.RGBA {
	k.mu.Lock()
	defer k.mu.Unlock()
	shown := fmt.Sprint(k.version, now.Format("1504"), k.written(now), k.rows(now),
		now.Unix()/2*int64(boolean(k.device.Kind == Station || k.device.Kind == Server)))
	if k.drawn != nil && shown == k.shown {
		return k.drawn
	}
	drawing.Lock()
	defer drawing.Unlock()
	makeFace()
	if k.drawn == nil {
		k.drawn = image.NewRGBA(image.Rectangle{Max: k.size})
	}
	k.shown = shown
	k.draws++
	p := painter{k.drawn}
	k.background(p)
	for i, s := range k.windows {
		k.sheet(p, s, i == len(k.windows)-1, now)
	}
	if k.device.Kind != Kiosk && k.device.Kind != Server && k.device.Kind != Board {
		p.fill(image.Rect(0, k.size.Y-bar, k.size.X, k.size.Y), color.RGBA{38, 34, 31, 255})
		p.text(16, k.size.Y-11, 15, color.RGBA{236, 230, 223, 255}, k.device.Name)
		for i, s := range k.windows {
			p.fill(image.Rect(170+190*i, k.size.Y-bar+5, 350+190*i, k.size.Y-5), color.RGBA{70, 62, 56, 255})
			p.text(180+190*i, k.size.Y-12, 13, color.RGBA{236, 230, 223, 255}, s.title)
		}
		p.text(k.size.X-64, k.size.Y-11, 15, color.RGBA{236, 230, 223, 255}, now.Format("15:04"))
	}
	return k.drawn
}

// written is how many characters of its letter have been typed by whoever sits there; when nobody
// does, it was left as it is.
func (k *desk) written(now time.Time) int {
	if k.device.activity(now, natures[k.device.Kind]) < 0.12 && k.device.Kind != Imaging {
		return len(letterText)
	}
	return int(now.Unix()) % 900
}

// rows is how many loans there were today.
func (k *desk) rows(now time.Time) int {
	return int(now.Sub(now.Truncate(24*time.Hour)).Minutes()/3) + int(k.device.Seed%7)
}

func (k *desk) background(p painter) {
	tint := uint8(k.device.Seed % 24)
	for y := range k.size.Y {
		f := float64(y) / float64(k.size.Y)
		c := color.RGBA{uint8(92+70*f) - tint, uint8(104+44*f) - tint/2, uint8(122 - 10*f), 255}
		draw.Draw(p.RGBA, image.Rect(0, y, k.size.X, y+1), image.NewUniform(c), image.Point{}, draw.Src)
	}
	for i, shade := range []color.RGBA{{92, 84, 92, 255}, {72, 64, 70, 255}, {54, 48, 50, 255}} {
		for x := range k.size.X {
			h := 0.5 + 0.13*float64(i) + 0.09*math.Sin(float64(x)/(150-25*float64(i))+float64(k.device.Seed%90)) +
				0.03*math.Sin(float64(x)/47+float64(i))
			p.fill(image.Rect(x, int(h*float64(k.size.Y)), x+1, k.size.Y), shade)
		}
	}
}

func (k *desk) sheet(p painter, s *sheet, top bool, now time.Time) {
	r := s.at
	ink, faint := color.RGBA{41, 35, 31, 255}, color.RGBA{120, 110, 100, 255}
	if s.title != "" {
		p.fill(r.Inset(-1), color.RGBA{60, 52, 47, 255})
		p.fill(r, color.RGBA{251, 250, 248, 255})
		head := color.RGBA{120, 110, 102, 255}
		if top {
			head = color.RGBA{107, 71, 140, 255}
		}
		p.fill(image.Rect(r.Min.X, r.Min.Y, r.Max.X, r.Min.Y+26), head)
		p.text(r.Min.X+10, r.Min.Y+18, 15, color.RGBA{255, 255, 255, 255}, s.title)
		r.Min.Y += 26
	}
	switch s.kind {
	case loans:
		p.fill(image.Rect(r.Min.X, r.Min.Y, r.Max.X, r.Min.Y+24), color.RGBA{227, 221, 214, 255})
		for i, head := range []string{"Time", "Reader", "Title", "Due"} {
			p.text(r.Min.X+[]int{10, 70, 210, 590}[i], r.Min.Y+17, 13, ink, head)
		}
		n := k.rows(now)
		for i := range (r.Dy() - 30) / 20 {
			row := n - i - s.lines
			if row < 0 {
				break
			}
			y := r.Min.Y + 42 + 20*i
			at := now.Truncate(24 * time.Hour).Add(time.Duration(row) * 3 * time.Minute)
			pick := int(hash(k.device.Seed, uint64(row)) * 1000)
			for j, cell := range []string{at.Format("15:04"), "Reader " + fmt.Sprint(4000+pick), titles[pick%len(titles)],
				at.AddDate(0, 0, 21).Format("2 Jan")} {
				p.text(r.Min.X+[]int{10, 70, 210, 590}[j], y, 13, ink, cell)
			}
		}
	case letter:
		text := letterText
		if k.device.Kind == Imaging {
			text = findingsText
		}
		text = text[:min(k.written(now), len(text))] + string(k.typed)
		x, y := r.Min.X+18, r.Min.Y+30
		for _, line := range wrapped(text, (r.Dx()-36)/9, (r.Dy()-30)/21) {
			p.mono(x, y, 15, ink, line)
			y += 21
		}
	case search:
		p.fill(r, color.RGBA{244, 241, 237, 255})
		p.text(r.Min.X+120, r.Min.Y+180, 34, ink, "Search the catalogue")
		p.fill(image.Rect(120, 230, 900, 290), color.RGBA{148, 138, 128, 255})
		p.fill(image.Rect(122, 232, 898, 288), color.RGBA{255, 255, 255, 255})
		p.text(140, 268, 22, ink, string(k.typed))
		p.text(120, 340, 15, faint, "Touch the field and write a title, a name or a subject.")
		p.text(k.size.X-130, 60, 22, faint, now.Format("15:04"))
	case console:
		p.fill(r, color.RGBA{18, 16, 15, 255})
		n := int(now.Unix() / 2)
		for i := range 36 {
			row := n - 36 + i
			p.mono(14, 26+20*i, 13, color.RGBA{200, 210, 195, 255},
				fmt.Sprintf("%s %s: %s", time.Unix(int64(row)*2, 0).UTC().Format("Jan 02 15:04:05"), k.device.Name,
					consoleLines[int(hash(k.device.Seed, uint64(row))*float64(len(consoleLines)))]))
		}
		p.mono(14, 26+20*37, 13, color.RGBA{236, 230, 223, 255}, k.device.Name+" login: "+string(k.typed))
	case radio:
		k.radio(p, r)
	case weather:
		for c, curve := range []color.RGBA{{107, 71, 140, 255}, {72, 105, 43, 255}, {178, 52, 28, 255}} {
			for x := range r.Dx() - 40 {
				t := now.Truncate(2 * time.Second).Add(time.Duration(x-r.Dx()) * 20 * time.Second)
				y := r.Min.Y + 100 + 180*c + int(90*smooth(k.device.Seed+uint64(c), t, time.Hour)+
					20*smooth(k.device.Seed+uint64(9+c), t, 4*time.Minute))
				p.fill(image.Rect(r.Min.X+20+x, y, r.Min.X+21+x, y+3), curve)
			}
			p.text(r.Min.X+20, r.Min.Y+80+180*c, 15, ink, []string{"Air, °C", "Wind, m/s", "Supply, V"}[c])
		}
	}
}

// radio draws a picture of many greys, which no palette holds, once.
func (k *desk) radio(p painter, r image.Rectangle) {
	size := image.Rect(0, 0, r.Dx(), r.Dy())
	if k.film == nil || k.film.Rect != size {
		k.film = image.NewRGBA(size)
		for y := range size.Max.Y {
			for x := range size.Max.X {
				u, v := float64(x)/float64(r.Dx()), float64(y)/float64(r.Dy())
				bone := func(at, width float64) float64 {
					d := (u - at - 0.05*math.Sin(v*4)) / width
					return math.Exp(-d*d*3) * (0.75 + 0.25*math.Cos(v*9))
				}
				g := 18 + 150*bone(0.27, 0.05) + 165*bone(0.68, 0.06) + 30*math.Exp(-math.Pow((u-0.5)*2.1, 2)) +
					9*hash(uint64(x), uint64(y))
				c := uint8(clamp(g, 0, 255))
				k.film.SetRGBA(x, y, color.RGBA{c, c, uint8(clamp(g*1.05, 0, 255)), 255})
			}
		}
	}
	draw.Draw(p.RGBA, r, k.film, image.Point{}, draw.Src)
}

// wrapped breaks a text into lines of so many characters, the last so many of them.
func wrapped(text string, width, most int) []string {
	var out []string
	for _, paragraph := range strings.Split(text, "\n") {
		line := ""
		for _, word := range strings.SplitAfter(paragraph, " ") {
			if len([]rune(line+word)) > width && line != "" {
				out = append(out, line)
				line = ""
			}
			line += word
		}
		out = append(out, line)
	}
	return out[max(0, len(out)-most):]
}

// painter draws on a picture.
type painter struct{ *image.RGBA }

func (p painter) fill(r image.Rectangle, c color.Color) {
	draw.Draw(p.RGBA, r, image.NewUniform(c), image.Point{}, draw.Src)
}

func (p painter) write(f font.Face, x, y int, c color.Color, text string) {
	d := font.Drawer{Dst: p.RGBA, Src: image.NewUniform(c), Face: f, Dot: fixed.P(x, y)}
	d.DrawString(text)
}

func (p painter) text(x, y int, size float64, c color.Color, text string) {
	p.write(faces[size], x, y, c, text)
}
func (p painter) mono(x, y int, size float64, c color.Color, text string) {
	p.write(monos[size], x, y, c, text)
}

var titles = []string{"A Walk Along the Beck", "Bees of the High Moor", "Bread Without Hurry", "Clocks and Their Keepers",
	"The Lantern Maker", "Maps of Small Places", "Notes on Peat", "Otters at Dusk", "The Quarryman's Daughter", "Seven Winters",
	"Stone Walls, Dry Hands", "The Tide Table", "Under the Alder", "Wool and Weather"}

var consoleLines = []string{"records: 14 entries written", "backup: waiting for the next window", "time: the clock is right",
	"store: checked 2048 blocks", "web: 200 in 12 ms", "mail: queue is empty", "records: index is current"}

const letterText = `Dear reader,

the book that you asked for has come in, and waits for you at the desk until the end of next week. If somebody else is to fetch it, send them with your card.

You also asked about the evening on maps of small places. It is on the second Thursday, at seven, in the reading room; there are still chairs. Bring a map of your own if you have one that nobody else has.

With kind regards,
the library `

const findingsText = `Both views are sharp. The joint space is even, and no line crosses the bone.

A little shadow on the inside of the second view is from the table. To be seen again in six weeks. `
