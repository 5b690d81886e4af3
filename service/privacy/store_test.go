package privacy

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/test/database"
)

func TestMain(m *testing.M) { os.Exit(database.Main(m)) }

// add adds somebody, who was removed or not.
func (s store) add(t *testing.T, email string, removed bool) (id uuid.UUID) {
	t.Helper()
	if err := s.pool.QueryRow(t.Context(),
		"INSERT INTO people (email, name, password_hash, created_at, removed_at) VALUES ($1, 'Wren Ashdown', "+
			"'a hash', clock_timestamp(), CASE WHEN $2 THEN now() END) RETURNING id", email, removed).Scan(&id); err != nil {
		t.Fatal(err)
	}
	return id
}

// mentioned counts the columns of all tables but those that are signed in which a text stands.
func (s store) mentioned(t *testing.T, text string) (found []string) {
	t.Helper()
	rows, err := s.pool.Query(t.Context(), `SELECT table_name FROM information_schema.tables WHERE table_schema = 'public' AND
		table_type = 'BASE TABLE' AND table_name NOT LIKE 'river%' AND table_name NOT IN ('audit', 'recordings') ORDER BY 1`)
	if err != nil {
		t.Fatal(err)
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	for _, table := range tables {
		var n int
		if err := s.pool.QueryRow(t.Context(), "SELECT count(*) FROM "+pgx.Identifier{table}.Sanitize()+" t WHERE strpos(t::text, $1) > 0",
			text).Scan(&n); err != nil {
			t.Fatal(err)
		}
		if n > 0 {
			found = append(found, fmt.Sprintf("%s (%d)", table, n))
		}
	}
	return found
}

// Somebody who was removed is nobody afterwards, however often they were added; what others are and did stays.
func TestErasedPeopleAreNobody(t *testing.T) {
	s := store{database.New(t)}
	devices, _ := database.Devices(t, s.pool, "heron")
	const email = "wren@moor.example"
	first, second, other := s.add(t, email, true), s.add(t, email, true), s.add(t, "crake@moor.example", true)
	for i, id := range []uuid.UUID{first, second, other} {
		by := []string{email, email, "crake@moor.example"}[i]
		for _, insert := range []struct {
			query string
			args  []any
		}{
			{"INSERT INTO favourites (person_id, device_id) VALUES ($1, $2)", []any{id, devices[0]}},
			{"INSERT INTO sign_in_failures (subject, at) VALUES ($1, now())", []any{by}},
			{"INSERT INTO policies (name, scope_kind, scope_id, settings, changed_at, changed_by) " +
				"VALUES ($1, 'everywhere', '', '[]', now(), $2)",
				[]any{fmt.Sprint("policy ", i), by}},
			{"INSERT INTO channels (name, kind, target, changed_at, changed_by) VALUES ($1, 'mail', 'desk@moor.example', now(), $2)",
				[]any{fmt.Sprint("channel ", i), by}},
		} {
			if _, err := s.pool.Exec(t.Context(), insert.query, insert.args...); err != nil {
				t.Fatalf("%s: %v", insert.query, err)
			}
		}
	}
	if len(s.mentioned(t, email)) < 4 {
		t.Fatalf("only %q mention them", s.mentioned(t, email))
	}
	id, err := s.erasePerson(t.Context(), email)
	if err != nil || id != first && id != second {
		t.Fatal(id, err)
	}
	if left := s.mentioned(t, email); len(left) != 0 {
		t.Errorf("they still stand in %q", left)
	}
	if left := s.mentioned(t, "Wren Ashdown"); strings.Join(left, "") != "people (1)" {
		t.Errorf("the name stands in %q, and one other has it", left)
	}
	if left := s.mentioned(t, "crake@moor.example"); len(left) != 4 {
		t.Errorf("of somebody else is left: %q", left)
	}
	var favourites int
	if err := s.pool.QueryRow(t.Context(), "SELECT count(*) FROM favourites").Scan(&favourites); err != nil || favourites != 1 {
		t.Errorf("%d favourites are left, %v", favourites, err)
	}
	if _, err := s.erasePerson(t.Context(), email); !errors.Is(err, pgx.ErrNoRows) {
		t.Errorf("erased twice: %v", err)
	}
}

// Somebody who may sign in is not erased, also where they had been removed before and were added again.
func TestWhoMaySignInIsNotErased(t *testing.T) {
	s := store{database.New(t)}
	const email = "wren@moor.example"
	for _, removed := range []bool{true, false, true} {
		if s.add(t, email, removed); removed {
			continue
		}
		if _, err := s.erasePerson(t.Context(), email); !errors.Is(err, errThere) {
			t.Errorf("erased: %v", err)
		}
	}
	if _, err := s.erasePerson(t.Context(), email); !errors.Is(err, errThere) {
		t.Errorf("erased beside one who is there: %v", err)
	}
	if left := s.mentioned(t, email); strings.Join(left, "") != "people (3)" {
		t.Errorf("what was refused was done in part: %q", left)
	}
}

// No export has a column by which somebody is let in, or that is a secret.
func TestExportsHoldNoSecrets(t *testing.T) {
	s := store{database.New(t)}
	secret := regexp.MustCompile(`(?i)hash|secret|sealed|password|credential|challenge|private|_key$|^key`)
	// Names of keys, an identifier that browsers show to anybody, and what runs printed.
	harmless := map[string]bool{"audit.key_id": true, "changes.key": true, "passkeys.id": true, "runs.head": true, "runs.tail": true}
	seen := 0
	for _, parts := range [][]extract{persons, organisations} {
		for _, p := range parts {
			rows, err := s.pool.Query(t.Context(),
				"SELECT column_name, data_type FROM information_schema.columns WHERE table_schema = 'public' "+
					"AND table_name = $1", p.table)
			if err != nil {
				t.Fatal(err)
			}
			var name, kind string
			if _, err := pgx.ForEachRow(rows, []any{&name, &kind}, func() error {
				seen++
				left := " " + p.without + " "
				if (secret.MatchString(name) || kind == "bytea") && !strings.Contains(left, " "+name+" ") && !harmless[p.table+"."+name] {
					t.Errorf("an export of %s holds %s (%s)", p.table, name, kind)
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			values := strings.NewReplacer("$1", "'"+uuid.NewString()+"'", "$2", "'x'")
			if _, err := s.pool.Exec(t.Context(), "EXPLAIN "+values.Replace(p.query())); err != nil {
				t.Errorf("%s cannot be read: %v", p.kind, err)
			}
		}
	}
	if seen < 150 {
		t.Errorf("only %d columns were looked at", seen)
	}
}
