package query

import (
	"reflect"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]Query{
		"service": {Class: "service"},
		`service where state=="failed" and name contains "sync" show name,state most 20`: {Class: "service",
			Fields: []string{"name", "state"}, Most: 20,
			Where: []Condition{{"state", "==", "failed"}, {"name", "contains", "sync"}}},
		`process where cpu > 12.5 and name != recordsd`: {Class: "process",
			Where: []Condition{{"cpu", ">", "12.5"}, {"name", "!=", "recordsd"}}},
		`user where name == "a \"b\" where"`: {Class: "user", Where: []Condition{{"name", "==", `a "b" where`}}},
	} {
		q, err := Parse(text)
		if err != nil || !reflect.DeepEqual(q, want) {
			t.Errorf("%s: %+v, %v", text, q, err)
		}
	}
	for text, why := range map[string]string{
		"": "ends too early", "service where": "ends too early", "service where a": "ends too early",
		`service where a == "b`: "does not end", "service show": "ends too early",
		"service most x": "number of rows", "service limit 3": "not expected", "service where a ~ b": "none of",
		`service where a matches "("`: "cannot be read",
		"a-b":                         "no class", "service most 900000": "at most", "service show a b": "not expected",
		strings.Repeat("x", MaxText+1): "bytes long",
	} {
		if _, err := Parse(text); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%.40s: %v, want %q", text, err, why)
		}
	}
}

func TestTake(t *testing.T) {
	row := Row{"name": "records-sync", "state": "Failed", "memory": 120.0, "start": "", "live": true}
	for text, want := range map[string]bool{
		`s where state == "failed"`: true, `s where state != "failed"`: false, `s where memory > 100 and memory < 1000`: true,
		`s where memory >= 120`: true,
		`s where memory > "9"`:  true, `s where name starts "records" and name contains "SYNC"`: true,
		`s where name matches "^rec.*c$"`: true, `s where nosuch == ""`: true,
		`s where live == true`: true, `s where memory <= 119.9`: false, `s where name matches "x"`: false,
	} {
		q, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		m, _ := q.Compile()
		if _, got := m.Take(row); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
	q, _ := Parse("s show memory, name, nosuch")
	m, _ := q.Compile()
	if got, _ := m.Take(row); !reflect.DeepEqual(got, Row{"memory": 120.0, "name": "records-sync"}) {
		t.Errorf("took %v", got)
	}
}

// A query that is read is written so that it is read as the same.
func FuzzParse(f *testing.F) {
	f.Add(`service where state=="failed" and n contains "é\n" show a,b most 3`)
	f.Add("a where b<=1 and c matches x")
	f.Fuzz(func(t *testing.T, text string) {
		q, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(q.String())
		if len(q.String()) <= MaxText && (err != nil || !reflect.DeepEqual(q, again)) {
			t.Fatalf("%q is written as %q, and read as %+v, %v", text, q.String(), again, err)
		}
	})
}
