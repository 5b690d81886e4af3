package report

import (
	"math"
	"strconv"
)

// pen draws on a page: in points, from the upper left corner of the chart.
type pen interface {
	line(x1, y1, x2, y2, width float64, c colour)
	path(points [][2]float64, width float64, c colour)
	box(x, y, w, h float64, c colour)
	text(x, y, size float64, s string, align byte, c colour) // align is l, m or r; y is the base line
}

// colour is the name of one of the document's.
type colour string

// The colours, in which a chart's series and a figure are drawn.
const (
	ink   colour = "ink"
	faint colour = "faint"
	rule  colour = "rule"
	moss  colour = "moss"
	gorse colour = "gorse"
	rowan colour = "rowan"
	deep  colour = "heather"
)

// colours are red, green and blue on paper.
var colours = map[colour][3]int{ink: {0x2b, 0x26, 0x21}, faint: {0x6d, 0x64, 0x5c}, rule: {0xdd, 0xd8, 0xd2}, moss: {0x4c, 0x6b, 0x31},
	gorse: {0xc7, 0x92, 0x1a}, rowan: {0xb3, 0x33, 0x1d}, deep: {0x6a, 0x49, 0x8c}}

var tones = map[Tone]colour{Plain: deep, Good: moss, Fair: gorse, Bad: rowan}

// The size of a chart in points.
const (
	chartWidth  = 500.0
	chartHeight = 150.0
	gutter      = 34.0 // left of the axis
	footer      = 16.0 // below it
	header      = 18.0 // above it, for the names of the series
)

// draw draws the chart, chartWidth wide and chartHeight high.
func (c *Chart) draw(p pen) {
	top := c.Top
	if top <= 0 {
		top = round(c.highest())
	}
	wide, high := chartWidth-gutter, chartHeight-header-footer
	y := func(v float64) float64 { return header + high*(1-v/top) }
	for i := range 5 {
		v := top * float64(i) / 4
		p.line(gutter, y(v), chartWidth, y(v), 0.5, rule)
		p.text(gutter-4, y(v)+2.5, 7, strconv.FormatFloat(v, 'f', -1, 64)+c.Unit, 'r', faint)
	}
	n := len(c.Labels)
	each := wide / float64(max(n, 1))
	x := func(i int) float64 { return gutter + each*(float64(i)+0.5) }
	every := (n + 9) / 10
	for i, label := range c.Labels {
		if every <= 1 || i%every == 0 {
			p.text(x(i), chartHeight-4, 7, cut(label, int(each*float64(max(every, 1))/3.6)), 'm', faint)
		}
	}
	at := gutter
	for i, s := range c.Series {
		col := tones[s.Tone]
		p.box(at, 3, 7, 7, col)
		p.text(at+10, 9, 7.5, s.Name, 'l', ink)
		at += 22 + 4.2*float64(len([]rune(s.Name)))
		if c.Bars {
			c.bars(p, i, x, y, each, col)
		} else {
			c.lines(p, s, x, y, col)
		}
	}
}

// bars draws those of one series upon those of the series before.
func (c *Chart) bars(p pen, series int, x func(int) float64, y func(float64) float64, each float64, col colour) {
	wide := min(each*0.7, 46)
	for i := range c.Labels {
		below, v := 0.0, known(c.Series[series].Values, i)
		for _, s := range c.Series[:series] {
			below += known(s.Values, i)
		}
		if v > 0 {
			p.box(x(i)-wide/2, y(below+v), wide, y(below)-y(below+v), col)
		}
	}
}

func (c *Chart) lines(p pen, s Series, x func(int) float64, y func(float64) float64, col colour) {
	var run [][2]float64
	end := func() {
		switch len(run) {
		case 0:
		case 1:
			p.box(run[0][0]-1.5, run[0][1]-1.5, 3, 3, col)
		default:
			p.path(run, 1.5, col)
		}
		run = nil
	}
	for i := range c.Labels {
		if i >= len(s.Values) || math.IsNaN(s.Values[i]) {
			end()
			continue
		}
		run = append(run, [2]float64{x(i), y(s.Values[i])})
	}
	end()
}

// highest is the highest place of the chart: of bars the sum of all series.
func (c *Chart) highest() float64 {
	most := 0.0
	for i := range c.Labels {
		sum := 0.0
		for _, s := range c.Series {
			v := known(s.Values, i)
			sum += v
			if !c.Bars {
				most = max(most, v)
			}
		}
		if c.Bars {
			most = max(most, sum)
		}
	}
	return most
}

func known(values []float64, i int) float64 {
	if i >= len(values) || math.IsNaN(values[i]) {
		return 0
	}
	return values[i]
}

// round is the next of 4, 8, 20, 40, 80, 200, …: a quarter of it is a number that reads well.
func round(v float64) float64 {
	for unit := 4.0; ; unit *= 10 {
		for _, step := range []float64{1, 2, 5} {
			if unit*step >= v {
				return unit * step
			}
		}
	}
}

// cut shortens a text to so many characters.
func cut(s string, most int) string {
	if r := []rune(s); len(r) > max(most, 3) {
		return string(r[:max(most, 3)-1]) + "…"
	}
	return s
}
