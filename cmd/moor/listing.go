package main

import (
	"encoding"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"os"
	"reflect"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/core/device"
)

// listFlags are the flags of every list, after more of its own.
func listFlags(more ...cli.Flag) []cli.Flag {
	return append(more, &cli.BoolFlag{Name: "json", Usage: "print every field as JSON, for programs"},
		&cli.BoolFlag{Name: "csv", Usage: "print every field as CSV (RFC 4180), for spreadsheets"},
		&cli.IntFlag{Name: "limit", Usage: "print `ROWS` at most; 0 is all", HideDefault: true})
}

// list prints a list as its flags ask: all fields as JSON or CSV, or a table with these heads of what cells
// tells of a row; what they are more than heads stands in lines below. Without --limit a table has so many
// rows at most, 0 for all, and says that there are more; JSON and CSV, which programs read, have all.
func list[T any](c *cli.Command, rows iter.Seq2[T, error], most int, heads []string, cells func(T) []string) error {
	return listOr(c, rows, most, "", heads, cells)
}

// listOr is list with a text that stands in place of an empty table.
func listOr[T any](c *cli.Command, rows iter.Seq2[T, error], most int, none string, heads []string, cells func(T) []string) error {
	if c.Bool("json") && c.Bool("csv") {
		return fmt.Errorf("--json and --csv exclude each other: give one")
	}
	if c.IsSet("limit") {
		if most = c.Int("limit"); most < 0 {
			return fmt.Errorf("--limit %d is less than none: give how many rows are printed at most, or 0 for all", most)
		}
	} else if c.Bool("json") || c.Bool("csv") {
		most = 0
	}
	more := false
	some := func(yield func(T, error) bool) {
		n := 0
		for row, err := range rows {
			if err == nil && most > 0 && n == most {
				more = true
				return
			}
			if n++; !yield(row, err) {
				return
			}
		}
	}
	switch {
	case c.Bool("json"):
		return jsonList(some)
	case c.Bool("csv"):
		return csvList(some)
	}
	t, n := newTable(heads...), 0
	for row, err := range some {
		if err != nil {
			return errors.Join(t.flush(), err) // what came before the list broke off is shown
		}
		for line := range slices.Chunk(cells(row), len(heads)) {
			t.row(line...)
		}
		n++
	}
	if n == 0 && none != "" {
		fmt.Fprintln(os.Stderr, none)
		return nil
	}
	if err := t.flush(); err != nil {
		return err
	}
	if more && !c.IsSet("limit") {
		fmt.Printf("\nThere are more: --limit 0 prints all, and --limit %d twice as many.\n", 2*most)
	}
	return nil
}

// csvList prints a sequence as CSV with a line of heads, row after row as they come.
func csvList[T any](rows iter.Seq2[T, error]) error {
	w := csv.NewWriter(os.Stdout)
	w.UseCRLF = true
	heads := flatten(reflect.TypeFor[T](), "")
	if err := w.Write(heads); err != nil {
		return err
	}
	defer w.Flush() // also what came before a list breaks off
	for row, err := range rows {
		if err != nil {
			return err
		}
		cells := flat(reflect.ValueOf(row), nil)
		for i := range cells {
			cells[i] = inert(cells[i])
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// inert keeps a spreadsheet from taking what a device or a person wrote for a formula, and a terminal from being
// steered by it.
func inert(s string) string {
	s = device.CleanLong(s, len(s))
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) && !number(s) {
		return "'" + s
	}
	return s
}

func number(s string) bool {
	var n json.Number
	return json.Unmarshal([]byte(s), &n) == nil
}

// opaque tells whether a type is one cell: a value that writes itself as a text, such as a time, or no struct.
func opaque(t reflect.Type) bool {
	text := reflect.TypeFor[encoding.TextMarshaler]()
	return t.Kind() != reflect.Struct || t.Implements(text) || reflect.PointerTo(t).Implements(text)
}

// fields calls do with the fields of a struct that JSON shows, and their names there.
func fields(t reflect.Type, do func(i int, name string, in reflect.Type)) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || name == "-" {
			continue
		}
		in := f.Type
		if in.Kind() == reflect.Pointer {
			in = in.Elem()
		}
		if name == "" && !f.Anonymous {
			name = f.Name
		}
		do(i, name, in)
	}
}

// flatten are the heads of a type's cells: the names of its fields in JSON, with a dot before those inside another.
func flatten(t reflect.Type, before string) (heads []string) {
	fields(t, func(_ int, name string, in reflect.Type) {
		switch {
		case opaque(in):
			heads = append(heads, before+name)
		case name == "":
			heads = append(heads, flatten(in, before)...)
		default:
			heads = append(heads, flatten(in, before+name+".")...)
		}
	})
	return heads
}

// flat are the cells of a value, as flatten heads them. What is missing is empty; lists and maps are JSON, and a list
// of texts is parted by semicolons.
func flat(v reflect.Value, cells []string) []string {
	fields(v.Type(), func(i int, _ string, in reflect.Type) {
		f := v.Field(i)
		if f.Kind() == reflect.Pointer {
			if f.IsNil() {
				f = reflect.Value{}
			} else {
				f = f.Elem()
			}
		}
		switch {
		case !opaque(in):
			if !f.IsValid() {
				f = reflect.Zero(in)
			}
			cells = flat(f, cells)
		case !f.IsValid():
			cells = append(cells, "")
		default:
			cells = append(cells, cell(f))
		}
	})
	return cells
}

func cell(f reflect.Value) string {
	if texts, ok := f.Interface().([]string); ok {
		return strings.Join(texts, "; ")
	}
	text, err := json.Marshal(f.Interface())
	if err != nil {
		return ""
	}
	var s string
	if json.Unmarshal(text, &s) == nil {
		return s
	}
	if string(text) == "null" {
		return ""
	}
	return string(text)
}
