// Package sign is what the person at a desktop sees of those who help there: how it looks, and what
// pressing and typing do to it. It shows nothing itself: each system puts the pictures that it paints onto
// its desktop, and tells it what the person does.
package sign

import (
	"image"
	"strings"
	"unicode"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// Sizes of the sign, in pixels.
const (
	Width      = 320
	Margin     = 16 // from the edges of the desktop
	HeadHeight = 32
	saidLines  = 8
	fieldRows  = 28
	buttonRows = 30
	inset      = 12
)

// The words on the sign.
const (
	wordsHeld = "Your keyboard and mouse rest. Press Esc three times to take them back."
	wordsSay  = "Write here to answer, then Enter"
	wordsEnd  = "End the session"
)

// Board is the sign: it says who works on the desktop, takes what the person says, and lets them end
// it. It belongs to one goroutine.
type Board struct {
	Acts host.SignActs

	lines []string
	held  bool
	said  []link.ScreenNote
	typed []rune
	small bool // its head alone is shown
	field image.Rectangle
	end   image.Rectangle
}

// Show takes who is there. Without lines nothing is shown.
func (b *Board) Show(lines []string, held bool) { b.lines, b.held = lines, held }

// Shown tells whether there is anything to show.
func (b *Board) Shown() bool { return len(b.lines) > 0 }

// Say takes what somebody says.
func (b *Board) Say(n link.ScreenNote) {
	b.said = append(b.said, n)
	if len(b.said) > saidLines {
		b.said = b.said[1:]
	}
	b.small = false
}

// Pressed is what was pressed.
type Pressed int

// Where a press was.
const (
	Folded  Pressed = iota // the sign is another size now
	Gripped                // it is held, to be moved
	Ended                  // the person ends the session
	Field                  // the sign is to have the keyboard
)

// Press is told of a button that went down on the sign.
func (b *Board) Press(at image.Point) Pressed {
	switch {
	case at.Y < HeadHeight && at.X > Width-inset-20:
		b.small = !b.small
		return Folded
	case at.Y < HeadHeight:
		return Gripped
	case at.In(b.end):
		go b.Acts.End()
		return Ended
	}
	return Field
}

// Keys that are no characters.
const (
	Backspace = '\b'
	Enter     = '\r'
)

// Key takes a character that is typed, Backspace or Enter. Others do nothing.
func (b *Board) Key(r rune) {
	switch {
	case r == Backspace:
		b.typed = b.typed[:max(len(b.typed)-1, 0)]
	case r == Enter:
		text := strings.TrimSpace(string(b.typed))
		b.typed = nil
		if text != "" {
			go b.Acts.Say(text)
		}
	case unicode.IsPrint(r) && len(string(b.typed)) < link.MaxScreenNote-4:
		b.typed = append(b.typed, r)
	}
}

// Paint makes the picture of the sign, and notes where what can be pressed is.
func (b *Board) Paint() Painting {
	pen.Lock()
	defer pen.Unlock()
	const width = Width - 2*inset
	var about, said, held []string
	for _, l := range b.lines {
		about = append(about, folded(l, width)...)
	}
	if b.held {
		held = folded(wordsHeld, width)
	}
	for _, n := range b.said {
		said = append(said, folded(n.Name+": "+n.Text, width)...)
	}
	said = said[max(len(said)-saidLines, 0):]
	high := HeadHeight
	if !b.small {
		high += inset/2 + (len(about)+len(said))*lineHeight + inset/2 + fieldRows + inset/2 + buttonRows + inset
		if len(held) > 0 {
			high += len(held)*lineHeight + inset
		}
		if len(said) > 0 {
			high += inset
		}
	}
	p := Painting{image.NewRGBA(image.Rect(0, 0, Width, high))}
	p.fill(p.Rect, heather) // its edge
	p.fill(p.Rect.Inset(1), Paper)
	p.fill(image.Rect(0, 0, Width, HeadHeight), heather)
	p.write(image.Pt(inset, 6), "Somebody helps on this computer", white)
	p.fill(image.Rect(Width-inset-12, HeadHeight/2-1, Width-inset, HeadHeight/2+1), white)
	if b.small {
		p.fill(image.Rect(Width-inset-7, HeadHeight/2-6, Width-inset-5, HeadHeight/2+6), white)
		b.field, b.end = image.Rectangle{}, image.Rectangle{}
		return p
	}
	y := HeadHeight + inset/2
	for _, l := range about {
		p.write(image.Pt(inset, y), l, ink)
		y += lineHeight
	}
	if len(held) > 0 {
		y += inset / 2
		p.fill(image.Rect(1, y, Width-1, y+len(held)*lineHeight+inset/2), gorse)
		for i, l := range held {
			p.write(image.Pt(inset, y+inset/4+i*lineHeight), l, ink)
		}
		y += len(held)*lineHeight + inset/2
	}
	if len(said) > 0 {
		y += inset / 2
		p.fill(image.Rect(inset, y, Width-inset, y+1), line)
		y += inset / 2
		for _, l := range said {
			p.write(image.Pt(inset, y), l, ink)
			y += lineHeight
		}
	}
	y += inset / 2
	b.field = image.Rect(inset, y, Width-inset, y+fieldRows)
	p.fill(b.field, line)
	p.fill(b.field.Inset(1), white)
	if len(b.typed) == 0 {
		p.write(image.Pt(b.field.Min.X+7, y+4), wordsSay, faint)
	} else {
		shown := b.typed
		for len(shown) > 1 && widthOf(string(shown)) > width-18 { // its end is what is looked at
			shown = shown[1:]
		}
		p.write(image.Pt(b.field.Min.X+7, y+4), string(shown), ink)
		caret := b.field.Min.X + 8 + widthOf(string(shown))
		p.fill(image.Rect(caret, y+5, caret+1, y+fieldRows-5), ink)
	}
	y += fieldRows + inset/2
	b.end = image.Rect(Width-inset-widthOf(wordsEnd)-24, y, Width-inset, y+buttonRows)
	p.fill(b.end, heather)
	p.write(image.Pt(b.end.Min.X+12, y+5), wordsEnd, white)
	return p
}
