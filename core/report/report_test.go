package report

import (
	"bytes"
	"fmt"
	"math"
	"os/exec"
	"strings"
	"testing"
	"time"
)

func sample(rows int, text string) Document {
	t := &Table{Heads: []string{"Device", "Missing"}, Right: []bool{false, true}, Shares: []float64{4, 1}, None: "There are none.", More: 3}
	for i := range rows {
		t.Rows = append(t.Rows, []string{fmt.Sprintf("hay-desk-%d %s", i, text), fmt.Sprint(i)})
	}
	return Document{Title: "Updates " + text, Subtitle: "November", Maker: "Robin", Made: time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC),
		Parts: []Part{
			{Heading: "Now", Words: []string{"Some words " + text},
				Figures: []Figure{{"83 %", "are current", Good}, {"4", "are late " + text, Bad}},
				Charts: []Chart{{Title: "By day", Unit: " %", Top: 100, Labels: []string{"1 Nov", "2 Nov", "3 Nov", "4 Nov " + text},
					About: "It went up " + text, Series: []Series{{"current " + text, Good, []float64{50, math.NaN(), 60, 83}}}},
					{Title: "By age", Bars: true, Labels: []string{"week", "month"},
						Series: []Series{{"high", Bad, []float64{3, 4}}, {"low", Plain, []float64{1}}}}}},
			{Heading: "Devices", Table: t}, {Heading: "None", Table: &Table{Heads: []string{"x"}, None: "There are none."}},
		}}
}

// Text of others is text in a page, wherever it stands.
func TestHTMLEscapes(t *testing.T) {
	hostile := `<script>alert(1)</script>" onload="x' </title></svg>`
	var b bytes.Buffer
	if err := sample(2, hostile).WriteHTML(&b); err != nil {
		t.Fatal(err)
	}
	page := b.String()
	if strings.Contains(page, "<script") || strings.Contains(page, `" onload="`) || strings.Count(page, "</svg>") != 2 ||
		strings.Count(page, "</title>") != 1 {
		t.Errorf("the page holds what it should show:\n%s", page)
	}
	for _, want := range []string{"hay-desk-1", "83 %", "and 3 more", "There are none.", "<polyline", "&lt;script&gt;", `class="t-rowan"`,
		"4 Nov"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
}

// A PDF reads as the page does, on as many pages as it takes, whatever the text is.
func TestPDF(t *testing.T) {
	for name, c := range map[string]struct {
		rows  int
		text  string
		pages int
	}{"plain": {5, "Würzburg Łódź Αθήνα Дом", 2}, "long": {300, "x", 8},
		"hostile": {5, "\x00\x1b[31m 🦉 \xff\u202e" + strings.Repeat("word ", 2000), 0}} {
		var b, again bytes.Buffer
		d := sample(c.rows, c.text)
		if err := d.WritePDF(&b); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if d.WritePDF(&again); !bytes.Equal(b.Bytes(), again.Bytes()) {
			t.Errorf("%s: the same document is written in two ways", name)
		}
		pages := bytes.Count(b.Bytes(), []byte("/Type /Page\n"))
		if !bytes.HasPrefix(b.Bytes(), []byte("%PDF-1.")) || c.pages > 0 && (pages < c.pages-1 || pages > c.pages+1) {
			t.Errorf("%s: %d pages", name, pages)
		}
		if _, err := exec.LookPath("pdftotext"); err != nil || name == "hostile" {
			continue
		}
		read := exec.Command("pdftotext", "-layout", "-", "-")
		read.Stdin = &b
		text, err := read.Output()
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		for _, want := range []string{"83 %", "and 3 more", "There are none.", "hay-desk-4 " + c.text[:1], "Made by Robin"} {
			if !strings.Contains(string(text), want) {
				t.Errorf("%s lacks %q:\n%s", name, want, text)
			}
		}
	}
}

func TestRound(t *testing.T) {
	for v, want := range map[float64]float64{0: 4, 3: 4, 5: 8, 9: 20, 21: 40, 100: 200, 4001: 8000} {
		if got := round(v); got != want {
			t.Errorf("the axis of %v ends at %v, want %v", v, got, want)
		}
	}
}
