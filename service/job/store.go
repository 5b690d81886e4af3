package job

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
	"moorwatch.example/core/script"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

func scanScript(row pgx.CollectableRow) (s api.Script, err error) {
	if err := row.Scan(&s.ID, &s.Version, &s.Content, &s.ChangedAt, &s.ChangedBy); err != nil {
		return s, err
	}
	file, err := s.Content.File()
	s.File = string(file)
	return s, err
}

func (s store) scripts(ctx context.Context, after string, limit int) ([]api.Script, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, version, content, changed_at, changed_by FROM scripts WHERE removed_at IS NULL AND name > $1 ORDER BY name LIMIT $2", after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanScript)
}

// script reads one as it is, or a version of it; one that was removed is missing.
func (s store) script(ctx context.Context, id uuid.UUID, version *int) (api.Script, error) {
	rows, err := s.pool.Query(ctx, `SELECT s.id, v.version, v.content, v.changed_at, v.changed_by FROM scripts s JOIN script_versions v ON v.script_id = s.id
		WHERE s.id = $1 AND s.removed_at IS NULL AND v.version = coalesce($2, s.version)`, id, version)
	if err != nil {
		return api.Script{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanScript)
}

func (s store) versions(ctx context.Context, id uuid.UUID, before, limit int) ([]api.Script, error) {
	rows, err := s.pool.Query(ctx, `SELECT v.script_id, v.version, v.content, v.changed_at, v.changed_by FROM script_versions v JOIN scripts s ON s.id = v.script_id
		WHERE v.script_id = $1 AND s.removed_at IS NULL AND v.version < $2 ORDER BY v.version DESC LIMIT $3`, id, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanScript)
}

// setScript adds a script, or changes the one of an id; what it becomes is a version.
func (s store) setScript(ctx context.Context, id *uuid.UUID, content script.Script, by string) (made api.Script, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		query, args := "INSERT INTO scripts (name, content, changed_by) VALUES ($1, $2, $3)", []any{content.Name, content, by}
		if id != nil {
			query, args = "UPDATE scripts SET name = $1, content = $2, changed_by = $3, changed_at = now(), version = version + 1 WHERE id = $4 AND removed_at IS NULL", append(args, *id)
		}
		rows, err := tx.Query(ctx, query+" RETURNING id, version, content, changed_at, changed_by", args...)
		if err != nil {
			return err
		}
		if made, err = pgx.CollectExactlyOneRow(rows, scanScript); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "INSERT INTO script_versions (script_id, version, content, changed_at, changed_by) VALUES ($1, $2, $3, $4, $5)", made.ID, made.Version, content, made.ChangedAt, by)
		return err
	})
	return made, err
}

func (s store) removeScript(ctx context.Context, id uuid.UUID) (name string, err error) {
	return name, s.pool.QueryRow(ctx, "UPDATE scripts SET removed_at = now() WHERE id = $1 AND removed_at IS NULL RETURNING name", id).Scan(&name)
}

// noScripts tells whether there never was one.
func (s store) noScripts(ctx context.Context) (none bool, err error) {
	return none, s.pool.QueryRow(ctx, "SELECT NOT EXISTS (SELECT FROM scripts)").Scan(&none)
}

// newJob is a job as it is put on record.
type newJob struct {
	id       uuid.UUID
	name     string
	script   uuid.UUID
	content  script.Script
	values   map[string]string
	secrets  []byte
	limits   job.Limits
	state    string
	beginAt  time.Time
	deadline time.Time
	by       string
	runs     []*run
}

// addJob puts a job and all its runs on record.
func (s store) addJob(ctx context.Context, j newJob) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO jobs (id, name, script_id, content, values, secrets, limits, state, begin_at, deadline, created_by)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`, j.id, j.name, j.script, j.content, j.values, j.secrets, j.limits, j.state, j.beginAt, j.deadline, j.by)
		if err != nil {
			return err
		}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"runs"}, []string{"id", "job_id", "device_id", "device_name", "site", "place", "state", "reason"},
			pgx.CopyFromSlice(len(j.runs), func(i int) ([]any, error) {
				r := j.runs[i]
				return []any{r.id, j.id, r.device, r.name, r.site, float32(r.place), string(r.state), r.reason}, nil
			}))
		return err
	})
}

const jobColumns = "j.id, j.name, j.content, j.values, j.state, j.reason, j.limits, j.begin_at, j.deadline, j.created_at, j.created_by, j.ended_at"

// jobs lists jobs before a moment, the latest first, with the counts of runs at the devices of a view.
func (s store) jobs(ctx context.Context, view []uuid.UUID, id *uuid.UUID, before moment, limit int) ([]api.Job, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+jobColumns+`, coalesce((SELECT jsonb_object_agg(c.state, c.n) FROM (SELECT r.state, count(*) AS n FROM runs r
			WHERE r.job_id = j.id AND ($4::uuid[] IS NULL OR r.device_id = ANY($4)) GROUP BY r.state) c), '{}')
		FROM jobs j WHERE (j.created_at, j.id) < ($1, $2) AND ($3::uuid IS NULL OR j.id = $3)
		AND ($4::uuid[] IS NULL OR EXISTS (SELECT FROM runs r WHERE r.job_id = j.id AND r.device_id = ANY($4)))
		ORDER BY j.created_at DESC, j.id DESC LIMIT $5`, before.At, before.ID, id, view, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (j api.Job, err error) {
		var reason string
		var values map[string]string
		err = row.Scan(&j.ID, &j.Name, &j.Script, &values, &j.State, &reason, &j.Limits, &j.BeginAt, &j.Deadline, &j.CreatedAt, &j.CreatedBy, &j.EndedAt, &j.Counts)
		if reason != "" {
			j.Reason = &reason
		}
		if len(values) > 0 {
			j.Values = &values
		}
		return j, err
	})
}

// moment is a place in a list that is ordered by time.
type moment struct {
	At time.Time `json:"at"`
	ID uuid.UUID `json:"id"`
}

// groupBytes is how much of an output is compared when outputs are grouped.
const groupBytes = 400

// groups counts the outputs of a job's runs that are alike.
func (s store) groups(ctx context.Context, id uuid.UUID, view []uuid.UUID) ([]job.Group, error) {
	rows, err := s.pool.Query(ctx, `SELECT substring(CASE WHEN r.reason <> '' THEN convert_to(r.reason, 'UTF8') ELSE r.head END FROM 1 FOR $3), r.state, count(*)
		FROM runs r WHERE r.job_id = $1 AND r.state NOT IN ('waiting', 'sent') AND ($2::uuid[] IS NULL OR r.device_id = ANY($2)) GROUP BY 1, 2 ORDER BY 3 DESC, 1 LIMIT 50`, id, view, groupBytes)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (g job.Group, err error) {
		var output []byte
		err = row.Scan(&output, &g.State, &g.Runs)
		g.Output = shown(output)
		return g, err
	})
}

// standing is where in the list of a job's runs one stands: those that failed first.
type standing struct {
	Rank int       `json:"rank"`
	Name string    `json:"name"`
	ID   uuid.UUID `json:"id"`
}

const rank = "CASE WHEN r.state IN ('failed', 'timed-out', 'interrupted') THEN 0 WHEN r.state IN ('sent', 'waiting') THEN 1 WHEN r.state = 'succeeded' THEN 3 ELSE 2 END"

// runs lists runs after a standing; with an id that one alone, with all of its output.
func (s store) runs(ctx context.Context, id uuid.UUID, one *uuid.UUID, view []uuid.UUID, state string, after standing, limit int) (out []api.Run, ranks map[uuid.UUID]int, err error) {
	keep := groupBytes
	if one != nil {
		keep = 1 << 20
	}
	rows, err := s.pool.Query(ctx, `SELECT r.id, r.device_id, r.device_name, r.state, r.exit, r.reason, r.began_at, r.ended_at, substring(r.head FROM 1 FOR $8), CASE WHEN $2::uuid IS NULL THEN '' ELSE r.tail END, r.dropped, `+rank+`
		FROM runs r WHERE r.job_id = $1 AND ($2::uuid IS NULL OR r.id = $2) AND ($3::uuid[] IS NULL OR r.device_id = ANY($3)) AND ($4 = '' OR r.state = $4)
		AND (`+rank+`, r.device_name, r.id) > ($5, $6, $7) ORDER BY `+rank+`, r.device_name, r.id LIMIT $9`, id, one, view, state, after.Rank, after.Name, after.ID, keep, limit)
	if err != nil {
		return nil, nil, err
	}
	ranks = map[uuid.UUID]int{}
	out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r api.Run, err error) {
		var reason string
		var head, tail []byte
		var dropped int64
		var n int
		if err := row.Scan(&r.ID, &r.Device, &r.DeviceName, &r.State, &r.Exit, &reason, &r.BeganAt, &r.EndedAt, &head, &tail, &dropped, &n); err != nil {
			return r, err
		}
		ranks[r.ID] = n
		text := shown(head)
		r.Output = &text
		if reason != "" {
			r.Reason = &reason
		}
		if len(tail) > 0 {
			end := shown(tail)
			r.Tail = &end
		}
		if dropped > 0 {
			r.Dropped = &dropped
		}
		return r, nil
	})
	return out, ranks, err
}

// unended reads the jobs that are not over, with their runs that are not.
func (s store) unended(ctx context.Context) ([]*open, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, name, content, values, secrets, limits, state, begin_at, deadline FROM jobs WHERE ended_at IS NULL")
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (*open, error) {
		o := &open{waiting: map[uuid.UUID]*run{}, sent: map[uuid.UUID]*run{}, counts: job.Counts{}}
		return o, row.Scan(&o.id, &o.name, &o.content, &o.values, &o.secrets, &o.limits, &o.state, &o.beginAt, &o.deadline)
	})
	if err != nil {
		return nil, err
	}
	for _, o := range all {
		rows, err := s.pool.Query(ctx, "SELECT state, count(*) FROM runs WHERE job_id = $1 GROUP BY state", o.id)
		if err != nil {
			return nil, err
		}
		var state job.State
		var n int
		if _, err := pgx.ForEachRow(rows, []any{&state, &n}, func() error { o.counts[state] = n; return nil }); err != nil {
			return nil, err
		}
		rows, err = s.pool.Query(ctx, "SELECT id, device_id, device_name, site, place, state, journal, coalesce(sent_at, 'epoch') FROM runs WHERE job_id = $1 AND state IN ('waiting', 'sent')", o.id)
		if err != nil {
			return nil, err
		}
		list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (*run, error) {
			r := &run{job: o}
			err := row.Scan(&r.id, &r.device, &r.name, &r.site, &r.place, &r.state, &r.journal, &r.sentAt)
			r.again = r.state == job.Sent
			return r, err
		})
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			o.put(r)
		}
	}
	return all, nil
}

// sent notes that devices are about to be told of runs.
func (s store) sent(ctx context.Context, ids []uuid.UUID, journals []string) error {
	_, err := s.pool.Exec(ctx, "UPDATE runs r SET state = 'sent', sent_at = now(), journal = x.journal FROM unnest($1::uuid[], $2::text[]) x (id, journal) WHERE r.id = x.id AND r.state IN ('waiting', 'sent')", ids, journals)
	return err
}

// outcome is how a run ended, as it is to be written.
type outcome struct {
	id      uuid.UUID
	device  uuid.UUID
	state   job.State
	exit    *int
	head    []byte
	tail    []byte
	dropped int64
	reason  string
	began   *time.Time
	ended   time.Time
	done    chan error // told when it is on disk
}

// end writes how runs ended, and returns those that were not over before.
func (s store) end(ctx context.Context, all []outcome) (ended []uuid.UUID, err error) {
	batch := &pgx.Batch{}
	for _, o := range all {
		batch.Queue(`UPDATE runs SET state = $3, exit = $4, head = $5, tail = $6, dropped = $7, reason = $8, began_at = $9, ended_at = $10
			WHERE id = $1 AND device_id = $2 AND state IN ('waiting', 'sent') RETURNING id`, o.id, o.device, string(o.state), o.exit, nonNil(o.head), nonNil(o.tail), o.dropped, o.reason, o.began, o.ended)
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		ended = ended[:0]
		results := tx.SendBatch(ctx, batch)
		for range all {
			rows, err := results.Query()
			if err == nil {
				var ids []uuid.UUID
				ids, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
				ended = append(ended, ids...)
			}
			if err != nil {
				results.Close()
				return err
			}
		}
		return results.Close()
	})
	return ended, err
}

func nonNil(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

// setState changes a job's state; an ended one has its end noted.
func (s store) setState(ctx context.Context, id uuid.UUID, state, reason string, ended bool) error {
	_, err := s.pool.Exec(ctx, "UPDATE jobs SET state = $2, reason = CASE WHEN $3 = '' THEN reason ELSE $3 END, ended_at = CASE WHEN $4 THEN now() ELSE ended_at END WHERE id = $1", id, state, reason, ended)
	return err
}

// again reads what a job that is to be tried again was.
func (s store) again(ctx context.Context, id uuid.UUID) (n newJob, devices []uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, "SELECT name, script_id, content, values, secrets, limits FROM jobs WHERE id = $1", id).Scan(&n.name, &n.script, &n.content, &n.values, &n.secrets, &n.limits)
	if err != nil {
		return n, nil, err
	}
	rows, err := s.pool.Query(ctx, "SELECT device_id FROM runs WHERE job_id = $1 AND state IN ('failed', 'timed-out', 'interrupted', 'missed')", id)
	if err != nil {
		return n, nil, err
	}
	devices, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	return n, devices, err
}
