// Package report is documents to hand to people who do not sign in: figures, charts, tables and words, written
// as a page of HTML that needs nothing else, or as PDF. What a report says is no matter of this package.
package report

import "time"

// Document is a report.
type Document struct {
	Title    string
	Subtitle string // whom it is about, and for when
	Maker    string // who made it
	Made     time.Time
	Parts    []Part
}

// Part is a section. What it has of the following is shown in this order.
type Part struct {
	Heading string
	Words   []string // paragraphs
	Figures []Figure
	Charts  []Chart
	Table   *Table
}

// Figure is a number that matters, with what it is.
type Figure struct {
	Value string
	About string
	Tone  Tone
}

// Tone is how good something is.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Good
	Fair
	Bad
)

// Table is rows of cells. Columns named in Right are aligned to the right, as numbers are.
type Table struct {
	Heads  []string
	Right  []bool
	Shares []float64 // how much of the width each column has, of the sum of all; equal where it is nil
	Rows   [][]string
	None   string // said where there are no rows
	More   int    // rows that were left out
}

// Chart is series over the same places of an axis: as lines, or as bars that stand upon each other.
type Chart struct {
	Title  string
	Unit   string // after a number, such as %
	Top    float64
	Labels []string // of the places
	Series []Series
	Bars   bool
	About  string // what it shows, in words, for those who cannot see it
}

// Series is numbers, one a place; those that are not known are NaN.
type Series struct {
	Name   string
	Tone   Tone
	Values []float64
}
