package main

import (
	"context"
	"errors"
	"io"
	"iter"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
)

// printed runs a command and returns what it prints.
func printed(t *testing.T, c *cli.Command, args ...string) (string, error) {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	was := os.Stdout
	os.Stdout = w
	defer func() { os.Stdout = was }()
	text := make(chan string)
	go func() {
		b, _ := io.ReadAll(r)
		text <- string(b)
	}()
	err = c.Run(t.Context(), append([]string{c.Name}, args...))
	w.Close()
	return <-text, err
}

type site struct {
	Name string `json:"name"`
	Open bool   `json:"open"`
}

type row struct {
	ID    uuid.UUID         `json:"id"`
	Name  string            `json:"name"`
	At    time.Time         `json:"at"`
	Ended *time.Time        `json:"ended,omitempty"`
	Site  *site             `json:"site,omitempty"`
	Tags  []string          `json:"tags"`
	Share *float64          `json:"share,omitempty"`
	Parts []site            `json:"parts"`
	More  map[string]string `json:"more,omitempty"`
	Own   string            `json:"-"`
}

// things is a command that lists so many rows, and fails after them where failing is set.
func things(n int, failing bool) *cli.Command {
	at := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	rows := func(yield func(row, error) bool) {
		for i := range n {
			r := row{Name: string(rune('a' + i)), At: at, Own: "secret", Tags: []string{"one", "two"}}
			if i == 1 {
				r.Ended, r.Site, r.Share = &at, &site{"=Bog, end", true}, new(-0.5)
				r.Parts, r.More = []site{{Name: "x"}}, map[string]string{"k": "v\x1b[2J"}
			}
			if !yield(r, nil) {
				return
			}
		}
		if failing {
			yield(row{}, errors.New("the line is cut"))
		}
	}
	return &cli.Command{Name: "things", Flags: listFlags(), Action: func(_ context.Context, c *cli.Command) error {
		return listOr(c, iter.Seq2[row, error](rows), 2, "There is none.", []string{"NAME", "AT"}, func(r row) []string {
			return []string{r.Name, r.At.Format("15:04")}
		})
	}}
}

func TestList(t *testing.T) {
	for name, c := range map[string]struct {
		rows int
		args []string
		want string
	}{
		"a table": {2, nil, "NAME  AT\na     08:00\nb     08:00\n"},
		"none":    {0, nil, ""},
		"a table has so many": {3, nil, "NAME  AT\na     08:00\nb     08:00\n\n" +
			"There are more: --limit 0 prints all, and --limit 4 twice as many.\n"},
		"all":               {3, []string{"--limit", "0"}, "NAME  AT\na     08:00\nb     08:00\nc     08:00\n"},
		"as many as wanted": {3, []string{"--limit", "1"}, "NAME  AT\na     08:00\n"},
		"no JSON":           {0, []string{"--json"}, "[\n]\n"},
	} {
		if got, err := printed(t, things(c.rows, false), c.args...); err != nil || got != c.want {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	// Programs get everything, unless they say how much.
	for args, want := range map[string]int{"--json": 5, "--json --limit 3": 3, "--csv": 5, "--csv --limit 1": 1, "--csv --limit 0": 5} {
		got, err := printed(t, things(5, false), strings.Fields(args)...)
		n := strings.Count(got, "2026-11-30T08:00:00Z")
		if strings.Contains(got, `"=Bog`) || strings.Contains(got, "'=Bog") {
			n-- // which ended
		}
		if err != nil || n != want || strings.Contains(got, "secret") {
			t.Errorf("%s: %d rows, %v: %s", args, n, err, got)
		}
	}
	for _, args := range []string{"--json --csv", "--limit -1"} {
		if _, err := printed(t, things(1, false), strings.Fields(args)...); err == nil {
			t.Errorf("%s was taken", args)
		}
	}
	for _, args := range []string{"", "--json", "--csv", "--limit 0"} {
		if _, err := printed(t, things(1, true), strings.Fields(args)...); err == nil {
			t.Errorf("%s: a list that was cut seems whole", args)
		}
	}
}

// What spreadsheets read has a cell for each field, and nothing in it is a formula.
func TestListAsCSV(t *testing.T) {
	got, err := printed(t, things(2, false), "--csv")
	none := uuid.Nil.String()
	want := "id,name,at,ended,site.name,site.open,tags,share,parts,more\r\n" +
		none + ",a,2026-11-30T08:00:00Z,,,false,one; two,,,\r\n" +
		none + ",b,2026-11-30T08:00:00Z,2026-11-30T08:00:00Z,\"'=Bog, end\",true,one; two,-0.5," +
		`"[{""name"":""x"",""open"":false}]","{""k"":""v\u001b[2J""}"` + "\r\n"
	if err != nil || got != want {
		t.Errorf("%v\n%q\n%q", err, got, want)
	}
	for _, text := range []string{"=1+1", "+49", "@SUM(A1)", "-x"} {
		if inert(text) != "'"+text && !number(text) {
			t.Errorf("%q is a formula: %q", text, inert(text))
		}
	}
	if inert("-12.5") != "-12.5" || inert("") != "" || inert("Robin") != "Robin" {
		t.Error("what is none was changed")
	}
}

func TestEachAndAll(t *testing.T) {
	if all, err := client.All(client.Each([]int{1, 2, 3})); err != nil || len(all) != 3 || all[2] != 3 {
		t.Errorf("%v, %v", all, err)
	}
	for n := range client.Each([]int{1, 2, 3}) {
		if n == 2 {
			break
		}
	}
	broken := errors.New("cut")
	rows := func(yield func(int, error) bool) { _ = yield(1, nil) && yield(0, broken) }
	if all, err := client.All(rows); !errors.Is(err, broken) || all != nil {
		t.Errorf("%v, %v", all, err)
	}
}

// What came before a list breaks off is there, in whichever form it was asked for.
func TestAListThatBreaksOff(t *testing.T) {
	for form, want := range map[string]string{"--limit=0": "a     08:00\nb     08:00\n",
		"--csv": "\r\n00000000-0000-0000-0000-000000000000,b,", "--json": `"name":"b"`} {
		out, err := printed(t, things(2, true), form)
		if err == nil || !strings.Contains(err.Error(), "the line is cut") || !strings.Contains(out, want) {
			t.Errorf("%s: %v\n%s", form, err, out)
		}
	}
}
