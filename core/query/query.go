// Package query is what is asked of a device's management data: a class, the fields that are
// wanted of it, and conditions. It reads and writes queries as text, and tells which rows they
// want. Where rows come from is no matter of this package.
package query

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Limits of a query.
const (
	MaxText    = 2000 // bytes
	usualRows  = 1000
	MaxRows    = 20_000
	maxClauses = 20
)

// Query asks for rows of a class. No fields are all, no conditions every row.
type Query struct {
	Class  string
	Fields []string
	Where  []Condition // all must hold
	Most   int         // rows; 0 is 1,000
}

// Condition compares a field with a value.
type Condition struct {
	Field, Op, Value string
}

// Ops are the comparisons: of numbers where both sides are some, and of texts without regard to
// case. matches takes a regular expression (RE2).
var Ops = []string{"==", "!=", "<", "<=", ">", ">=", "contains", "starts", "matches"}

// Row is one row: texts, numbers (float64) and truths (bool) by field.
type Row map[string]any

// Rows is how many rows are wanted at most.
func (q Query) Rows() int { return cmp.Or(q.Most, usualRows) }

var name = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Validate refuses a query that cannot be answered, and says what to do.
func (q Query) Validate() error {
	if !name.MatchString(q.Class) {
		return fmt.Errorf("%q is no class: a query begins with one, such as service", q.Class)
	}
	for _, f := range q.Fields {
		if !name.MatchString(f) {
			return fmt.Errorf("%q is no field", f)
		}
	}
	if len(q.Where) > maxClauses || len(q.Fields) > 5*maxClauses {
		return fmt.Errorf("a query has at most %d conditions", maxClauses)
	}
	for _, c := range q.Where {
		switch {
		case !name.MatchString(c.Field):
			return fmt.Errorf("%q is no field", c.Field)
		case !slices.Contains(Ops, c.Op):
			return fmt.Errorf("%q is none of %s", c.Op, strings.Join(Ops, ", "))
		}
		if c.Op == "matches" {
			if _, err := regexp.Compile(c.Value); err != nil {
				return fmt.Errorf("the pattern of %s cannot be read: %w", c.Field, err)
			}
		}
	}
	if q.Most < 0 || q.Most > MaxRows {
		return fmt.Errorf("at most %d rows can be asked for", MaxRows)
	}
	return nil
}

// String writes a query as Parse reads it:
//
//	service where state == "failed" and name contains "sync" show name, state most 20
func (q Query) String() string {
	var b strings.Builder
	b.WriteString(q.Class)
	for i, c := range q.Where {
		b.WriteString([]string{" where ", " and "}[min(i, 1)])
		value := strconv.Quote(c.Value)
		if _, err := strconv.ParseFloat(c.Value, 64); err == nil && plainNumber.MatchString(c.Value) {
			value = c.Value
		}
		b.WriteString(c.Field + " " + c.Op + " " + value)
	}
	if len(q.Fields) > 0 {
		b.WriteString(" show " + strings.Join(q.Fields, ", "))
	}
	if q.Most > 0 {
		fmt.Fprintf(&b, " most %d", q.Most)
	}
	return b.String()
}

var plainNumber = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)

// Parse reads a query.
func Parse(text string) (q Query, err error) {
	if len(text) > MaxText {
		return q, fmt.Errorf("a query is at most %d bytes long", MaxText)
	}
	words, err := scan(text)
	if err != nil {
		return q, err
	}
	p := &parser{words: words}
	q.Class = p.next()
	for p.err == nil && len(p.words) > 0 {
		switch clause := p.next(); clause {
		case "where":
			q.Where = append(q.Where, p.condition())
			for p.take("and") {
				q.Where = append(q.Where, p.condition())
			}
		case "show":
			q.Fields = append(q.Fields, p.next())
			for p.take(",") {
				q.Fields = append(q.Fields, p.next())
			}
		case "most":
			n, err := strconv.Atoi(p.next())
			if err != nil || n < 1 {
				p.err = cmp.Or(p.err, errors.New("most is followed by a number of rows"))
			}
			q.Most = n
		default:
			p.err = fmt.Errorf("%q was not expected: after the class come where, show and most", clause)
		}
	}
	if p.err != nil {
		return q, p.err
	}
	return q, q.Validate()
}

type parser struct {
	words []string
	err   error
}

func (p *parser) next() string {
	if len(p.words) == 0 {
		if p.err == nil {
			p.err = errors.New("the query ends too early: write it as service where state == \"failed\" show name, state")
		}
		return ""
	}
	w := p.words[0]
	p.words = p.words[1:]
	return w
}

func (p *parser) take(word string) bool {
	if len(p.words) == 0 || p.words[0] != word {
		return false
	}
	p.words = p.words[1:]
	return true
}

func (p *parser) condition() Condition {
	c := Condition{Field: p.next(), Op: p.next(), Value: p.next()}
	if text, err := strconv.Unquote(c.Value); err == nil {
		c.Value = text
	}
	return c
}

// scan parts a text into words, quoted texts, signs and commas.
func scan(text string) (words []string, err error) {
	for text = strings.TrimSpace(text); text != ""; text = strings.TrimSpace(text) {
		var n int
		switch {
		case text[0] == ',':
			n = 1
		case text[0] == '"':
			quoted, err := strconv.QuotedPrefix(text)
			if err != nil {
				return nil, errors.New("a quoted text does not end: close it with \"")
			}
			n = len(quoted)
		case strings.ContainsRune("=!<>", rune(text[0])):
			n = len(text) - len(strings.TrimLeft(text, "=!<>"))
		default:
			if n = strings.IndexFunc(text, func(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune(`,"=!<>`, r) }); n < 0 {
				n = len(text)
			}
		}
		words, text = append(words, text[:n]), text[n:]
	}
	return words, nil
}

// Matcher tells which rows a query wants.
type Matcher struct {
	query    Query
	patterns map[int]*regexp.Regexp
}

// Compile prepares a query that is valid.
func (q Query) Compile() (*Matcher, error) {
	if err := q.Validate(); err != nil {
		return nil, err
	}
	m := &Matcher{q, map[int]*regexp.Regexp{}}
	for i, c := range q.Where {
		if c.Op == "matches" {
			m.patterns[i] = regexp.MustCompile(c.Value)
		}
	}
	return m, nil
}

// Take returns what a query wants of a row; false where it does not want it. A field that the row
// does not have is the empty text.
func (m *Matcher) Take(r Row) (Row, bool) {
	for i, c := range m.query.Where {
		if !m.holds(i, c, r[c.Field]) {
			return nil, false
		}
	}
	if len(m.query.Fields) == 0 {
		return r, true
	}
	out := Row{}
	for _, f := range m.query.Fields {
		if v, ok := r[f]; ok {
			out[f] = v
		}
	}
	return out, true
}

func (m *Matcher) holds(i int, c Condition, value any) bool {
	text := Text(value)
	switch c.Op {
	case "contains":
		return strings.Contains(strings.ToLower(text), strings.ToLower(c.Value))
	case "starts":
		return strings.HasPrefix(strings.ToLower(text), strings.ToLower(c.Value))
	case "matches":
		return m.patterns[i].MatchString(text)
	}
	order := cmp.Compare(strings.ToLower(text), strings.ToLower(c.Value))
	a, err1 := strconv.ParseFloat(text, 64)
	b, err2 := strconv.ParseFloat(c.Value, 64)
	if err1 == nil && err2 == nil {
		order = cmp.Compare(a, b)
	}
	switch c.Op {
	case "==":
		return order == 0
	case "!=":
		return order != 0
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	}
	return order >= 0
}

// Text is a value as text.
func Text(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(x)
	}
	return fmt.Sprint(v)
}
