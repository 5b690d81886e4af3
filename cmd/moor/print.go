package main

import (
	"encoding/json"
	"fmt"
	"iter"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"moorwatch.example/core/device"
)

// table prints aligned columns.
type table struct{ w *tabwriter.Writer }

func newTable(heads ...string) *table {
	t := &table{tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)}
	t.row(heads...)
	return t
}

// row prints one row. What devices and people wrote is cleaned, so that it cannot steer a terminal.
func (t *table) row(cells ...string) {
	for i, c := range cells {
		lead := len(c) - len(strings.TrimLeft(c, " ")) // aligns numbers
		cells[i] = c[:lead] + device.CleanText(c)
	}
	fmt.Fprintln(t.w, strings.Join(cells, "\t"))
}

func (t *table) flush() error { return t.w.Flush() }

// jsonList prints a sequence as a JSON array, row after row as they come.
func jsonList[T any](rows iter.Seq2[T, error]) error {
	sep := "[\n  "
	for row, err := range rows {
		if err != nil {
			return err
		}
		text, err := jsonLine(row)
		if err != nil {
			return err
		}
		if _, err := fmt.Print(sep, text); err != nil {
			return err
		}
		sep = ",\n  "
	}
	if sep == "[\n  " {
		fmt.Print("[")
	}
	_, err := fmt.Println("\n]")
	return err
}

// jsonLine writes a value as JSON on one line.
func jsonLine(v any) (string, error) {
	text, err := json.Marshal(v)
	return string(text), err
}

// minute prints a time as the reader's clock has it, to the minute.
func minute(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// counted is a number of things, such as 1 device or 7 devices.
func counted(n int, thing string) string { return countedAs(n, thing, thing+"s") }

// countedAs is counted for a thing with a plural of its own.
func countedAs(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

func orNone(s string) string {
	if s == "" {
		return "unknown"
	}
	return s
}

func percent(p *float64) string {
	if p == nil {
		return ""
	}
	return fmt.Sprintf("%4.0f %%", *p)
}

// ago says how long ago a time was.
func ago(t time.Time) string { return since(t) + " ago" }

// since says how long it is since a time, in its largest whole unit.
func since(t time.Time) string { return lasted(time.Since(t)) }

// lasted writes a length of time in its largest whole unit.
func lasted(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", max(0, int(d.Seconds())))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
