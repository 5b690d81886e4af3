package job

import (
	"context"
	"math"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/job"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

// selection is which devices a job is for.
type selection struct {
	Where   *string     `json:"where,omitempty"`
	Group   *uuid.UUID  `json:"group,omitempty"`
	Devices []uuid.UUID `json:"devices,omitempty"`
}

// newJob is a job as it is put on record.
type newJob struct {
	id           uuid.UUID
	name         string
	work         job.Work
	script, pack *uuid.UUID
	values       map[string]string
	secrets      []byte
	limits       job.Limits
	when         job.When
	selection    selection
	origin       string
	state        job.JobState
	beginAt      time.Time
	deadline     time.Time
	by           string
	owner        uuid.UUID // uuid.Nil for what policies begin
	runs         []*job.Run
}

// addJob puts a job and all its runs on record.
func (s store) addJob(ctx context.Context, j newJob) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO jobs (id, name, work, script_id, package_id, values, secrets, limits, whens, selection, origin,
			state, begin_at, deadline, created_by, owner_id)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, nullif($16,
			'00000000-0000-0000-0000-000000000000'::uuid))`,
			j.id, j.name, j.work, j.script, j.pack, j.values, j.secrets, j.limits, j.when, j.selection, j.origin, j.state, j.beginAt,
			j.deadline, j.by, j.owner)
		if err != nil {
			return err
		}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"runs"},
			[]string{"id", "job_id", "device_id", "device_name", "site", "place", "turn", "due_at", "until", "state", "reason"},
			pgx.CopyFromSlice(len(j.runs), func(i int) ([]any, error) {
				r := j.runs[i]
				return []any{r.ID, j.id, r.Device, r.Name, r.Site, float32(r.Place), r.Turn, r.Due, r.Until, string(r.State), r.Reason}, nil
			}))
		return err
	})
}

// addRuns adds runs to a job that stands; those that it has already are left out, and the others
// returned.
func (s store) addRuns(ctx context.Context, id uuid.UUID, runs []*job.Run) (added []*job.Run, err error) {
	batch := &pgx.Batch{}
	for _, r := range runs {
		batch.Queue(`INSERT INTO runs (id, job_id, device_id, device_name, site, place, turn, due_at, until, state, reason) VALUES ($1, $2,
			$3, $4, $5, $6, $7, $8, $9, $10, $11)
			ON CONFLICT (job_id, device_id, turn) DO NOTHING`,
			r.ID, id, r.Device, r.Name, r.Site, float32(r.Place), r.Turn, r.Due, r.Until, string(r.State), r.Reason)
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		added = nil
		results := tx.SendBatch(ctx, batch)
		for _, r := range runs {
			tag, err := results.Exec()
			if err != nil {
				results.Close()
				return err
			}
			if tag.RowsAffected() > 0 {
				added = append(added, r)
			}
		}
		return results.Close()
	})
	return added, err
}

const jobColumns = "j.id, j.name, j.work, j.script_id, j.package_id, j.values, j.state, j.reason, j.limits, j.whens, j.selection, " +
	"j.origin, j.begin_at, j.deadline, j.created_at, j.created_by, j.ended_at"

// sought is which jobs are listed.
type sought struct {
	id     *uuid.UUID
	origin string // "" for all
	device *uuid.UUID
}

// jobs lists jobs before a moment, the latest first, with the counts of runs at the devices of a view.
func (s store) jobs(ctx context.Context, view []uuid.UUID, w sought, before moment, limit int) ([]api.Job, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+jobColumns+`,
		coalesce((SELECT jsonb_object_agg(c.state, c.n) FROM (SELECT r.state, count(*) AS n FROM runs r
			WHERE r.job_id = j.id AND ($4::uuid[] IS NULL OR r.device_id = ANY($4)) GROUP BY r.state) c), '{}')
		FROM jobs j WHERE (j.created_at, j.id) < ($1, $2) AND ($3::uuid IS NULL OR j.id = $3) AND ($5 = '' OR j.origin = $5)
		AND ($6::uuid IS NULL OR EXISTS (SELECT FROM runs r WHERE r.job_id = j.id AND r.device_id = $6))
		AND ($4::uuid[] IS NULL OR EXISTS (SELECT FROM runs r WHERE r.job_id = j.id AND r.device_id = ANY($4)))
		ORDER BY j.created_at DESC, j.id DESC LIMIT $7`, before.At, before.ID, w.id, view, w.origin, w.device, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (j api.Job, err error) {
		var reason string
		var values map[string]string
		var t selection
		err = row.Scan(&j.ID, &j.Name, &j.Work, &j.Script, &j.Package, &values, &j.State, &reason, &j.Limits, &j.When, &t, &j.Origin,
			&j.BeginAt, &j.Deadline, &j.CreatedAt, &j.CreatedBy, &j.EndedAt, &j.Counts)
		j.Where, j.Group = t.Where, t.Group
		if reason != "" {
			j.Reason = &reason
		}
		if len(values) > 0 {
			j.Values = &values
		}
		return j, err
	})
}

// job is one job, as who sees these devices sees it; pgx.ErrNoRows where they see none of its runs.
func (s store) job(ctx context.Context, view []uuid.UUID, id uuid.UUID) (j api.Job, err error) {
	found, err := s.jobs(ctx, view, sought{id: &id}, latest, 1)
	if err != nil {
		return j, err
	}
	if len(found) == 0 {
		return j, pgx.ErrNoRows
	}
	return found[0], nil
}

// counts are how many runs of a job are in which state.
func (s store) counts(ctx context.Context, id uuid.UUID) (job.Counts, error) {
	rows, err := s.pool.Query(ctx, "SELECT state, count(*) FROM runs WHERE job_id = $1 GROUP BY state", id)
	if err != nil {
		return nil, err
	}
	out := job.Counts{}
	_, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (none struct{}, err error) {
		var state string
		var n int
		err = row.Scan(&state, &n)
		out[job.State(state)] = n
		return none, err
	})
	return out, err
}

// mostTurns is how many turns of a job are told.
const mostTurns = 20

// turns lists the latest turns of a job.
func (s store) turns(ctx context.Context, id uuid.UUID) ([]string, error) {
	rows, err := s.pool.Query(ctx,
		"SELECT turn FROM runs WHERE job_id = $1 AND turn <> '' GROUP BY turn ORDER BY max(due_at) DESC LIMIT $2", id, mostTurns)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
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
	rows, err := s.pool.Query(ctx, `SELECT substring(
		CASE WHEN r.reason <> '' THEN convert_to(r.reason, 'UTF8') ELSE r.head END FROM 1 FOR $3), r.state, count(*)
		FROM runs r WHERE r.job_id = $1 AND r.state NOT IN ('waiting', 'sent') AND ($2::uuid[] IS NULL OR r.device_id = ANY($2))
		GROUP BY 1, 2 ORDER BY 3 DESC, 1 LIMIT 50`, id, view, groupBytes)
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

// standing is where in the list of a job's runs one stands: those that failed first, or, where they are
// asked for by how long they took, those that took longest.
type standing struct {
	Rank float64   `json:"rank"`
	Name string    `json:"name"`
	ID   uuid.UUID `json:"id"`
}

// first is before all.
var first = standing{Rank: math.Inf(-1)}

const (
	byHarm = "CASE WHEN r.state IN ('failed', 'timed-out', 'interrupted') THEN 0 WHEN r.state IN ('sent', 'waiting') THEN 1 WHEN " +
		"r.state = 'succeeded' THEN 3 ELSE 2 END::float8"
	byTime = "coalesce(-extract(epoch FROM r.ended_at - r.began_at), 0)::float8"
)

// runsOf is which runs of a job are listed.
type runsOf struct {
	job         uuid.UUID
	one         *uuid.UUID // that alone, with all of its output
	view        []uuid.UUID
	state, turn string // "" for all
	slowest     bool
	whole       bool // all of the output of each
}

// runs lists runs after a standing.
func (s store) runs(ctx context.Context, w runsOf, after standing, limit int) (out []api.Run, at map[uuid.UUID]standing, err error) {
	keep, rank := groupBytes, byHarm
	if w.one != nil || w.whole {
		keep = 1 << 20
	}
	if w.slowest {
		rank = byTime
	}
	rows, err := s.pool.Query(ctx, `SELECT r.id, r.device_id, r.device_name, r.state, r.turn, r.due_at, r.exit, r.reason, r.began_at,
		r.ended_at, substring(r.head FROM 1 FOR $8), CASE WHEN $10 THEN r.tail ELSE '' END, r.dropped, `+rank+`
		FROM runs r WHERE r.job_id = $1 AND ($2::uuid IS NULL OR r.id = $2) AND ($3::uuid[] IS NULL OR r.device_id = ANY($3)) AND ($4 = ''
		OR r.state = $4) AND ($11 = '' OR r.turn = $11)
		AND (`+rank+`, r.device_name, r.id) > ($5, $6, $7) ORDER BY `+rank+`, r.device_name, r.id LIMIT $9`, w.job, w.one, w.view, w.state, after.Rank, after.Name, after.ID, keep, limit, keep > groupBytes, w.turn)
	if err != nil {
		return nil, nil, err
	}
	at = map[uuid.UUID]standing{}
	out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (api.Run, error) {
		var n float64
		r, err := scanRun(row, &n)
		at[r.ID] = standing{n, r.DeviceName, r.ID}
		return r, err
	})
	return out, at, err
}

func scanRun(row pgx.CollectableRow, more ...any) (r api.Run, err error) {
	var reason, turn string
	var head, tail []byte
	var dropped int64
	if err := row.Scan(append([]any{&r.ID, &r.Device, &r.DeviceName, &r.State, &turn, &r.DueAt, &r.Exit, &reason, &r.BeganAt, &r.EndedAt,
		&head, &tail, &dropped}, more...)...); err != nil {
		return r, err
	}
	text := shown(head)
	r.Output = &text
	if reason != "" {
		r.Reason = &reason
	}
	if turn != "" {
		r.Turn = &turn
	}
	if len(tail) > 0 {
		end := shown(tail)
		r.Tail = &end
	}
	if dropped > 0 {
		r.Dropped = &dropped
	}
	return r, nil
}

// pair is a device with its runs of two jobs that are over.
type pair struct {
	device        uuid.UUID
	name          string
	before, after *api.Run
	changed       bool
}

// compared lists devices by name after a place, each with its latest run that is over of a job and, of
// another, the latest but those of the first.
func (s store) compared(ctx context.Context, before, after uuid.UUID, view []uuid.UUID, changed bool, place named, limit int) ([]pair,
	error) {
	const columns = "r.id, r.device_id, r.device_name, r.state, r.turn, r.due_at, r.exit, r.reason, r.began_at, r.ended_at, r.head, " +
		"r.tail, r.dropped"
	rows, err := s.pool.Query(ctx, `WITH b AS (SELECT DISTINCT ON (r.device_id) `+columns+
		` FROM runs r WHERE r.job_id = $2 AND r.state NOT IN ('waiting', 'sent') ORDER BY r.device_id, r.due_at DESC, r.id),
		a AS (SELECT DISTINCT ON (r.device_id) `+columns+` FROM runs r WHERE r.job_id = $1 AND r.state NOT IN ('waiting', 'sent') AND NOT EXISTS (SELECT FROM b WHERE b.id = r.id) ORDER BY r.device_id, r.due_at DESC, r.id)
		SELECT coalesce(a.device_id, b.device_id), coalesce(a.device_name, b.device_name), a.id, b.id, coalesce(a.state <> b.state
		OR a.head <> b.head OR a.tail <> b.tail, true) AS changed
		FROM a FULL JOIN b ON a.device_id = b.device_id WHERE ($3::uuid[] IS NULL OR coalesce(a.device_id, b.device_id) = ANY($3))
		AND (NOT $4 OR coalesce(a.state <> b.state OR a.head <> b.head OR a.tail <> b.tail, true))
		AND (coalesce(a.device_name, b.device_name), coalesce(a.device_id, b.device_id)::text) > ($5, $6)
		ORDER BY 2, coalesce(a.device_id, b.device_id)::text LIMIT $7`, before, after, view, changed, place.Name, place.ID, limit)
	if err != nil {
		return nil, err
	}
	type found struct {
		pair
		a, b *uuid.UUID
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (f found, err error) {
		return f, row.Scan(&f.device, &f.name, &f.a, &f.b, &f.changed)
	})
	if err != nil {
		return nil, err
	}
	var ids []uuid.UUID
	for _, f := range all {
		for _, id := range []*uuid.UUID{f.a, f.b} {
			if id != nil {
				ids = append(ids, *id)
			}
		}
	}
	rows, err = s.pool.Query(ctx, "SELECT r.id, r.device_id, r.device_name, r.state, r.turn, r.due_at, r.exit, r.reason, r.began_at, "+
		"r.ended_at, substring(r.head FROM 1 FOR $2), ''::bytea, r.dropped FROM runs r WHERE r.id = ANY($1)", ids, comparedBytes)
	if err != nil {
		return nil, err
	}
	runs, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (api.Run, error) { return scanRun(row) })
	byID := map[uuid.UUID]*api.Run{}
	for i := range runs {
		byID[runs[i].ID] = &runs[i]
	}
	out := make([]pair, len(all))
	for i, f := range all {
		out[i] = f.pair
		if f.a != nil {
			out[i].before = byID[*f.a]
		}
		if f.b != nil {
			out[i].after = byID[*f.b]
		}
	}
	return out, err
}

// comparedBytes is how much of each output a comparison shows.
const comparedBytes = 2000

// unended is a job that is not over, with its runs that are not.
type unended struct {
	*open
	counts job.Counts // of all its runs
	runs   []*job.Run
	known  []uuid.UUID // the devices that had a run, of a job that follows devices
}

// unended reads the jobs that are not over.
func (s store) unended(ctx context.Context) ([]unended, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, name, work, values, secrets, limits, whens, selection, origin, state, begin_at, "+
		"created_at, coalesce(adopted_by, created_by), coalesce(owner_id, '00000000-0000-0000-0000-000000000000') FROM jobs "+
		"WHERE ended_at IS NULL")
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (unended, error) {
		o := &open{}
		return unended{open: o, counts: job.Counts{}}, row.Scan(&o.ID, &o.Name, &o.Work, &o.values, &o.secrets, &o.Limits, &o.When,
			&o.selection, &o.origin, &o.State, &o.BeginAt, &o.CreatedAt, &o.by, &o.owner)
	})
	for i := range all {
		if err == nil {
			err = s.runsOf(ctx, &all[i])
		}
	}
	return all, err
}

// runsOf reads the runs of a job that is not over.
func (s store) runsOf(ctx context.Context, u *unended) error {
	rows, err := s.pool.Query(ctx, "SELECT state, count(*) FROM runs WHERE job_id = $1 GROUP BY state", u.ID)
	if err != nil {
		return err
	}
	var state job.State
	var n int
	if _, err := pgx.ForEachRow(rows, []any{&state, &n}, func() error { u.counts[state] = n; return nil }); err != nil {
		return err
	}
	rows, err = s.pool.Query(ctx, "SELECT id, device_id, device_name, site, place, turn, due_at, until, state, journal, "+
		"coalesce(sent_at, '0001-01-01Z') FROM runs WHERE job_id = $1 AND state IN ('waiting', 'sent')", u.ID)
	if err != nil {
		return err
	}
	u.runs, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (*job.Run, error) {
		r := &job.Run{}
		return r, row.Scan(&r.ID, &r.Device, &r.Name, &r.Site, &r.Place, &r.Turn, &r.Due, &r.Until, &r.State, &r.Journal, &r.SentAt)
	})
	if err != nil || !u.When.Follow {
		return err
	}
	if rows, err = s.pool.Query(ctx, "SELECT DISTINCT device_id FROM runs WHERE job_id = $1", u.ID); err == nil {
		u.known, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	}
	return err
}

// adopt makes somebody a job's owner.
func (s store) adopt(ctx context.Context, id, owner uuid.UUID, by string) error {
	_, err := s.pool.Exec(ctx, "UPDATE jobs SET owner_id = $2, adopted_by = $3 WHERE id = $1", id, owner, by)
	return err
}

// sent notes that devices are about to be told of runs.
func (s store) sent(ctx context.Context, ids []uuid.UUID, journals []string) error {
	_, err := s.pool.Exec(ctx, "UPDATE runs r SET state = 'sent', sent_at = now(), journal = x.journal FROM unnest($1::uuid[], "+
		"$2::text[]) x (id, journal) WHERE r.id = x.id AND r.state IN ('waiting', 'sent')", ids, journals)
	return err
}

// outcome is how a run ended, as it is to be written.
type outcome struct {
	job.End
	exit    *int
	head    []byte
	tail    []byte
	dropped int64
	began   *time.Time
	restart *time.Time // when the device was started again within it
	done    chan error // told when it is on disk
}

// end writes how runs ended, and returns those that were not over before.
func (s store) end(ctx context.Context, all []outcome) (ended []uuid.UUID, err error) {
	batch := &pgx.Batch{}
	for _, o := range all {
		batch.Queue(`UPDATE runs SET state = $3, exit = $4, head = $5, tail = $6, dropped = $7, reason = $8, began_at = $9, ended_at = $10,
			restarted_at = $11
			WHERE id = $1 AND device_id = $2 AND state IN ('waiting', 'sent') RETURNING id`,
			o.Run, o.Device, string(o.State), o.exit, nonNil(o.head), nonNil(o.tail), o.dropped, o.Reason, o.began, o.At, o.restart)
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
func (s store) setState(ctx context.Context, id uuid.UUID, state job.JobState, reason string, ended bool) error {
	_, err := s.pool.Exec(ctx, "UPDATE jobs SET state = $2, reason = CASE WHEN $3 = '' THEN reason ELSE $3 END, ended_at = CASE WHEN $4 "+
		"THEN now() ELSE ended_at END WHERE id = $1", id, state, reason, ended)
	return err
}

// again reads what a job that is to be tried again was.
func (s store) again(ctx context.Context, id uuid.UUID) (n newJob, devices []uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx,
		"SELECT name, script_id, package_id, work, values, secrets, limits, whens, selection FROM jobs WHERE id = $1", id).Scan(&n.name,
		&n.script, &n.pack, &n.work, &n.values, &n.secrets, &n.limits, &n.when, &n.selection)
	if err != nil {
		return n, nil, err
	}
	rows, err := s.pool.Query(ctx, "SELECT DISTINCT device_id FROM (SELECT DISTINCT ON (device_id) device_id, state FROM runs WHERE "+
		"job_id = $1 ORDER BY device_id, due_at DESC) r WHERE state IN ('failed', 'timed-out', 'interrupted', 'missed')", id)
	if err != nil {
		return n, nil, err
	}
	devices, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	return n, devices, err
}

// kept is how long jobs are kept that are over.
const kept = 365 * 24 * time.Hour

// expire removes jobs that ended long ago.
func (s store) expire(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM jobs WHERE ended_at < now() - $1::interval", kept)
	return err
}

// runsAt lists the runs at a device, the latest first.
func (s store) runsAt(ctx context.Context, id uuid.UUID, before moment, limit int) ([]api.DeviceRun, error) {
	rows, err := s.pool.Query(ctx, `SELECT r.id, r.device_id, r.device_name, r.state, r.turn, r.due_at, r.exit, r.reason, r.began_at,
		r.ended_at, substring(r.head FROM 1 FOR $5), ''::bytea, r.dropped, j.id, j.name, j.work, j.origin, j.created_by
		FROM runs r JOIN jobs j ON j.id = r.job_id WHERE r.device_id = $1 AND (r.due_at, r.id) < ($2, $3) ORDER BY r.due_at DESC, r.id
		DESC LIMIT $4`, id, before.At, before.ID, limit, groupBytes)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d api.DeviceRun, err error) {
		var w job.Work
		d.Run, err = scanRun(row, &d.Job, &d.JobName, &w, &d.Origin, &d.By)
		d.Work = w.String()
		return d, err
	})
}

// onlyRun reads how far the one run of a job has come.
func (s store) onlyRun(ctx context.Context, id uuid.UUID) (state string, exit *int, reason string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT state, exit, reason FROM runs WHERE job_id = $1 ORDER BY due_at DESC LIMIT 1", id).Scan(&state,
		&exit, &reason)
	return state, exit, reason, err
}

// reseal seals anew the secrets of jobs that were sealed under an older key.
func (s store) reseal(ctx context.Context, ring *secret.Ring) (int, error) {
	return db.Rewrite(ctx, s.pool, "SELECT id::text, secrets FROM jobs WHERE secrets IS NOT NULL AND id::text > $1 ORDER BY "+
		"id::text LIMIT $2", "UPDATE jobs SET secrets = $2 WHERE id = $1::uuid",
		func(id string, old []byte) ([]byte, bool, error) { return ring.Again(old, "job "+id) })
}
