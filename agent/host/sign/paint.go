package sign

import (
	"image"
	"image/color"
	"image/draw"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// The colours of what the person sees; those of marks stand out from light and from dark.
var (
	heather = color.RGBA{0x6b, 0x3f, 0x7a, 255}
	Paper   = color.RGBA{0xfb, 0xf9, 0xfc, 255}
	ink     = color.RGBA{0x24, 0x1c, 0x2a, 255}
	faint   = color.RGBA{0x6d, 0x64, 0x75, 255}
	line    = color.RGBA{0xd8, 0xd0, 0xde, 255}
	gorse   = color.RGBA{0xf6, 0xe3, 0xa1, 255}
	Bright  = color.RGBA{0xc2, 0x33, 0xa6, 255}
	white   = color.RGBA{255, 255, 255, 255}
)

// letters is the face in which the person is written to.
var letters = sync.OnceValue(func() font.Face {
	f, err := opentype.Parse(goregular.TTF)
	if err != nil {
		panic(err) // it is part of the program
	}
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: 14, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		panic(err)
	}
	return face
})

// lineHeight is from one line of writing to the next, and rise from its top to where letters stand.
const (
	lineHeight = 19
	rise       = 14
)

// Painting is a picture in the making. A face is not for several goroutines; each painting is made by
// one, which holds pen.
type Painting struct{ *image.RGBA }

var pen sync.Mutex

func (p Painting) fill(r image.Rectangle, c color.Color) {
	draw.Draw(p, r, image.NewUniform(c), image.Point{}, draw.Src)
}

// write writes a line with its upper left corner at a point.
func (p Painting) write(at image.Point, text string, c color.Color) {
	d := font.Drawer{Dst: p, Src: image.NewUniform(c), Face: letters(), Dot: fixed.P(at.X, at.Y+rise)}
	d.DrawString(text)
}

func widthOf(text string) int { return font.MeasureString(letters(), text).Ceil() }

// folded breaks a text into lines of at most a width, at spaces where it has any.
func folded(text string, width int) (lines []string) {
	for _, paragraph := range strings.Split(text, "\n") {
		now := ""
		for _, word := range strings.Fields(paragraph) {
			for widthOf(word) > width { // a word that is wider than all
				n := len([]rune(word))
				for n > 1 && widthOf(string([]rune(word)[:n])) > width {
					n--
				}
				if now != "" {
					lines = append(lines, now)
					now = ""
				}
				lines = append(lines, string([]rune(word)[:n]))
				word = string([]rune(word)[n:])
			}
			if longer := strings.TrimSpace(now + " " + word); widthOf(longer) <= width {
				now = longer
				continue
			}
			lines = append(lines, now)
			now = word
		}
		lines = append(lines, now)
	}
	return lines
}
