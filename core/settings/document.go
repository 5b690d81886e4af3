// Package settings reads and changes configuration files of lines, such as those below /etc: a key
// with its value on each, in sections or in none. It changes what it is asked to change and not a
// byte beside it. Where files are kept is no matter of this package.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// MaxFile is the longest file that is read, in bytes.
const MaxFile = 256 << 10

// Document is a configuration file. The section "" is what stands before the first.
type Document struct {
	lines []line
	style style
	end   string // of lines
}

type style byte

const (
	equals style = '='
	colon  style = ':'
	space  style = ' '
)

type kind int

const (
	other kind = iota // an empty line or a comment
	head
	entry
)

type line struct {
	kind    kind
	section string
	key     string
	before  string // up to the value
	value   string
	after   string // white space at the end
}

func (l line) text() string { return l.before + l.value + l.after }

// Entry is a key with its values: those of all lines of a section that name it, in their order.
type Entry struct {
	Key    string
	Values []string
}

// ErrForm is returned for text that is no configuration of lines.
var ErrForm = errors.New("this is not a configuration file of keys and values, line by line")

var (
	plainKey = regexp.MustCompile(`^[\w.@*/-][\w.@*/ -]*$`)
	word     = regexp.MustCompile(`^[A-Za-z][\w.-]*$`)
	program  = regexp.MustCompile(`(?m)^\s*(if|for|while|case|fi|done|esac|function|export|local|return|echo|exec|set|source)\b`)
)

// prose are the ends of names of files that hold words, which white space parts as it does settings.
var prose = []string{".txt", ".md", ".list", ".sh", ".html", ".log", ".allow", ".deny"}

// Parse reads a file of a name. Its keys and values are parted by equals signs, by colons or by white
// space, throughout.
func Parse(name string, text []byte) (*Document, error) {
	if len(text) > MaxFile || !utf8.Valid(text) || bytes.ContainsRune(text, 0) || bytes.HasPrefix(text, []byte("#!")) {
		return nil, ErrForm
	}
	for _, s := range []style{equals, colon, space} {
		if s == space && slices.ContainsFunc(prose, func(end string) bool { return strings.HasSuffix(name, end) }) {
			continue
		}
		if d, n := parse(string(text), s); d != nil && n > 0 {
			return d, nil
		}
	}
	return nil, ErrForm
}

func parse(text string, s style) (*Document, int) {
	d := &Document{style: s, end: "\n"}
	if strings.Contains(text, "\r\n") {
		d.end = "\r\n"
	}
	if s == space && program.MatchString(text) {
		return nil, 0
	}
	n, section := 0, ""
	for raw := range strings.Lines(text) {
		l, ok := split(raw, s)
		if !ok {
			return nil, 0
		}
		if l.kind == head {
			section = l.section
		}
		if l.kind == entry {
			n++
		}
		l.section = section
		d.lines = append(d.lines, l)
	}
	return d, n
}

// split reads one line; false where it is none that a file of this style has.
func split(raw string, s style) (line, bool) {
	body := strings.TrimRight(raw, " \t\r\n")
	after := raw[len(body):]
	trimmed := strings.TrimLeft(body, " \t")
	switch {
	case trimmed == "" || strings.ContainsRune("#;", rune(trimmed[0])):
		return line{before: body, after: after}, true
	case trimmed[0] == '[' && trimmed[len(trimmed)-1] == ']' && len(trimmed) > 2:
		return line{kind: head, section: trimmed[1 : len(trimmed)-1], before: body, after: after}, true
	}
	at := strings.IndexByte(trimmed, byte(s))
	if s == space {
		at = strings.IndexAny(trimmed, " \t")
	}
	if at < 1 {
		return line{}, false
	}
	key := strings.TrimRight(trimmed[:at], " \t")
	if s == space && !word.MatchString(key) || s != space && !plainKey.MatchString(key) {
		return line{}, false
	}
	value := strings.TrimLeft(trimmed[at+1:], " \t")
	if s == space && value != "" && strings.ContainsRune("=:", rune(value[0])) {
		return line{}, false
	}
	return line{kind: entry, key: key, before: body[:len(body)-len(value)], value: value, after: after}, true
}

// Sections lists the sections by name, each once, in the order of the file; "" is among them where
// entries stand before the first.
func (d *Document) Sections() (names []string) {
	known := map[string]bool{}
	for _, l := range d.lines {
		if l.kind != other && !known[l.section] {
			known[l.section] = true
			names = append(names, l.section)
		}
	}
	return names
}

// Entries lists the entries of a section, in the order of the file.
func (d *Document) Entries(section string) (all []Entry) {
	at := map[string]int{}
	for _, l := range d.lines {
		if l.kind != entry || l.section != section {
			continue
		}
		i, ok := at[l.key]
		if !ok {
			i, at[l.key] = len(all), len(all)
			all = append(all, Entry{Key: l.key})
		}
		all[i].Values = append(all[i].Values, l.value)
	}
	return all
}

// Get returns the values of a key; none where it is not there.
func (d *Document) Get(section, key string) (values []string) {
	for _, l := range d.lines {
		if l.kind == entry && l.section == section && l.key == key {
			values = append(values, l.value)
		}
	}
	return values
}

// Set gives a key values, in the lines that it has; more lines are added after them, and lines too
// many are taken away. A key that is not there is added at the end of its section, and a section at
// the end of the file. It refuses what could not be read back as it was meant.
func (d *Document) Set(section, key string, values ...string) error {
	old := slices.Clone(d.lines)
	d.set(section, key, values)
	again, _ := parse(string(d.Bytes()), d.style)
	if again == nil || !slices.Equal(again.Get(section, key), values) || len(again.lines) != len(d.lines) {
		d.lines = old
		return fmt.Errorf("%q cannot stand in this file as a value of %q: it would be read as something else", strings.Join(values, "\n"),
			key)
	}
	return nil
}

func (d *Document) set(section, key string, values []string) {
	last, lines := -1, make([]line, 0, len(d.lines)+len(values))
	for _, l := range d.lines {
		if l.kind == entry && l.section == section && l.key == key {
			if len(values) == 0 {
				continue
			}
			l.value, values = values[0], values[1:]
			lines, last = append(lines, l), len(lines)
			continue
		}
		lines = append(lines, l)
	}
	d.lines = lines
	if len(values) == 0 {
		return
	}
	if last < 0 {
		last = d.endOf(section)
	}
	var added []line
	for _, v := range values {
		added = append(added, line{kind: entry, section: section, key: key, before: key + d.separator(), value: v, after: d.end})
	}
	if n := len(d.lines); n > 0 && last == n-1 && !strings.HasSuffix(d.lines[last].after, "\n") {
		d.lines[last].after += d.end
	}
	d.lines = slices.Insert(d.lines, last+1, added...)
}

// endOf is the last line of a section that says something; the section is added where it is missing.
func (d *Document) endOf(section string) int {
	last := -1
	for i, l := range d.lines {
		if l.section == section && (l.kind != other || strings.TrimSpace(l.before) != "") {
			last = i
		}
	}
	if last < 0 && section != "" {
		if n := len(d.lines); n > 0 && !strings.HasSuffix(d.lines[n-1].after, "\n") {
			d.lines[n-1].after += d.end
		}
		d.lines = append(d.lines, line{kind: head, section: section, before: "[" + section + "]", after: d.end})
		last = len(d.lines) - 1
	}
	return last
}

// separator is what parts a key from its value in the file's other lines.
func (d *Document) separator() string {
	for _, l := range d.lines {
		if l.kind == entry {
			return l.before[strings.Index(l.before, l.key)+len(l.key):]
		}
	}
	return string(rune(d.style))
}

// Bytes is the file as it is now.
func (d *Document) Bytes() []byte {
	var out bytes.Buffer
	for _, l := range d.lines {
		out.WriteString(l.text())
	}
	return out.Bytes()
}
