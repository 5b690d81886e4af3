package report

import (
	"fmt"
	"io"
	"strings"
	"unicode"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// Measures of the page, A4 (ISO 216), in points.
const (
	paperWidth  = 595.28
	paperHeight = 841.89
	margin      = 48.0
	textSize    = 9.5
	leading     = 13.0
)

// WritePDF writes the document as PDF 1.x, of as many pages as it takes.
func (d Document) WritePDF(w io.Writer) error {
	f := fpdf.New("P", "pt", "A4", "")
	f.AddUTF8FontFromBytes("text", "", goregular.TTF)
	f.AddUTF8FontFromBytes("text", "B", gobold.TTF)
	f.SetMargins(margin, margin, margin)
	f.SetAutoPageBreak(true, margin)
	f.SetTitle(d.Title, true)
	f.SetAuthor(d.Maker, true)
	f.SetLang("en")
	f.SetCatalogSort(true) // the same document is the same file
	f.SetCreationDate(d.Made)
	f.SetModificationDate(d.Made)
	f.SetFooterFunc(func() {
		f.SetY(-30)
		p := paper{f, 0, 0}
		p.ink(faint)
		f.SetFont("text", "", 7.5)
		f.CellFormat(0, 10, plain(fmt.Sprintf("%s. Made by %s, %s. Page %d.", d.Title, d.Maker, d.Made.Format("2 January 2006, 15:04 MST"),
			f.PageNo())), "", 0, "L", false, 0, "")
	})
	f.AddPage()
	p := paper{f, 0, 0}
	p.words("B", 19, 24, ink, d.Title)
	p.words("", 10.5, 16, faint, d.Subtitle)
	for _, part := range d.Parts {
		p.part(part)
	}
	return f.Output(w)
}

// paper draws on a page, from a corner.
type paper struct {
	*fpdf.Fpdf
	x, y float64
}

func (p paper) ink(c colour) {
	of := colours[c]
	p.SetTextColor(of[0], of[1], of[2])
}

// room begins a new page where less than so much is left of this one.
func (p paper) room(points float64) {
	if p.GetY()+points > paperHeight-margin {
		p.AddPage()
	}
}

func (p paper) words(style string, size, high float64, c colour, text string) {
	if text == "" {
		return
	}
	p.ink(c)
	p.SetFont("text", style, size)
	p.MultiCell(0, high, plain(text), "", "L", false)
}

func (p paper) part(part Part) {
	if part.Heading != "" {
		p.room(70)
		p.Ln(12)
		p.words("B", 12.5, 18, ink, part.Heading)
	}
	for _, text := range part.Words {
		p.words("", textSize, leading, ink, text)
		p.Ln(3)
	}
	p.figures(part.Figures)
	for i := range part.Charts {
		p.room(chartHeight + 24)
		p.Ln(4)
		p.words("B", textSize, leading, ink, part.Charts[i].Title)
		at := paper{p.Fpdf, margin, p.GetY() + 2}
		part.Charts[i].draw(at)
		p.SetXY(margin, at.y+chartHeight)
	}
	if part.Table != nil {
		p.table(*part.Table)
	}
}

// figures stand side by side, four in a row.
func (p paper) figures(all []Figure) {
	const wide = (paperWidth - 2*margin) / 4
	for len(all) > 0 {
		row := all[:min(4, len(all))]
		all = all[len(row):]
		p.room(54)
		y := p.GetY() + 4
		lowest := y
		for i, f := range row {
			c := ink
			if f.Tone != Plain {
				c = tones[f.Tone]
			}
			p.SetXY(margin+float64(i)*wide, y)
			p.ink(c)
			p.SetFont("text", "B", 19)
			p.CellFormat(wide, 22, plain(f.Value), "", 2, "L", false, 0, "")
			p.ink(faint)
			p.SetFont("text", "", 8.5)
			p.MultiCell(wide-10, 11, plain(f.About), "", "L", false)
			lowest = max(lowest, p.GetY())
		}
		p.SetXY(margin, lowest+4)
	}
}

func (p paper) table(t Table) {
	if len(t.Rows) == 0 {
		p.words("", textSize, leading, faint, t.None)
		return
	}
	n := len(t.Heads)
	widths, sum := make([]float64, n), 0.0
	for i := range widths {
		widths[i] = 1
		if i < len(t.Shares) {
			widths[i] = t.Shares[i]
		}
		sum += widths[i]
	}
	for i := range widths {
		widths[i] *= (paperWidth - 2*margin) / sum
	}
	heads := func() { p.row(t, widths, t.Heads, "B", faint) }
	p.room(48)
	heads()
	for _, row := range t.Rows {
		p.SetFont("text", "", 8.5)
		if page := p.PageNo(); p.GetY()+p.high(widths, row) > paperHeight-margin {
			p.AddPage()
			if p.PageNo() != page {
				heads()
			}
		}
		p.row(t, widths, row, "", ink)
	}
	if t.More > 0 {
		p.words("", 8.5, leading, faint, fmt.Sprintf("and %d more", t.More))
	}
}

const (
	cellLine = 11.0
	cellGap  = 4.0
	// tallest is how many lines a cell has at most; what is longer is cut.
	tallest = 12
)

// lines are those of a cell, cut to fit.
func (p paper) lines(text string, wide float64) []string {
	all := p.SplitText(plain(text), wide-6)
	if len(all) > tallest {
		all = append(all[:tallest-1], "…")
	}
	return all
}

func (p paper) high(widths []float64, row []string) float64 {
	most := 1
	for i, text := range row[:min(len(row), len(widths))] {
		most = max(most, len(p.lines(text, widths[i])))
	}
	return float64(most)*cellLine + cellGap
}

func (p paper) row(t Table, widths []float64, row []string, style string, c colour) {
	p.SetFont("text", style, 8.5)
	high := p.high(widths, row)
	x, y := margin, p.GetY()
	p.ink(c)
	for i, text := range row[:min(len(row), len(widths))] {
		align := "L"
		if i < len(t.Right) && t.Right[i] {
			align = "R"
		}
		for n, line := range p.lines(text, widths[i]) {
			p.SetXY(x, y+cellGap/2+float64(n)*cellLine)
			p.CellFormat(widths[i]-4, cellLine, line, "", 0, align, false, 0, "")
		}
		x += widths[i]
	}
	paper{p.Fpdf, 0, 0}.line(margin, y+high, paperWidth-margin, y+high, 0.5, rule)
	p.SetXY(margin, y+high)
}

func (p paper) line(x1, y1, x2, y2, width float64, c colour) {
	of := colours[c]
	p.SetDrawColor(of[0], of[1], of[2])
	p.SetLineWidth(width)
	p.Line(p.x+x1, p.y+y1, p.x+x2, p.y+y2)
}

func (p paper) path(points [][2]float64, width float64, c colour) {
	for i := 1; i < len(points); i++ {
		p.line(points[i-1][0], points[i-1][1], points[i][0], points[i][1], width, c)
	}
}

func (p paper) box(x, y, w, h float64, c colour) {
	of := colours[c]
	p.SetFillColor(of[0], of[1], of[2])
	p.Rect(p.x+x, p.y+y, w, h, "F")
}

func (p paper) text(x, y, size float64, s string, align byte, c colour) {
	p.ink(c)
	p.SetFont("text", "", size)
	s = plain(s)
	switch wide := p.GetStringWidth(s); align {
	case 'm':
		x -= wide / 2
	case 'r':
		x -= wide
	}
	p.Text(p.x+x, p.y+y, s)
}

// plain leaves out what the fonts of a PDF cannot be asked for: characters beyond the basic plane (Unicode 17,
// section 2.8), and those that steer.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r > 0xffff:
			return '?'
		case unicode.IsControl(r) && r != '\n' || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar:
			return -1
		}
		return r
	}, s)
}
