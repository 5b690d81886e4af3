package health

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"

	"moorwatch.example/core/response"
)

// remembered is how far back the attempts of responses are looked at.
const remembered = 31 * 24 * time.Hour

const responseState = "x.id, x.device_id, x.check_name, x.subject, x.policy_id, x.policy_name, x.progress, x.job_id, x.began_at, x.ended_at"

func scanResponse(row pgx.CollectableRow) (*responding, error) {
	x := &responding{}
	var job *uuid.UUID
	var ended *time.Time
	err := row.Scan(&x.id, &x.device, &x.check, &x.subject, &x.policy.Policy, &x.policy.Name, &x.Progress, &job, &x.began, &ended)
	if job != nil {
		x.job = *job
	}
	if ended != nil {
		x.ended = *ended
	}
	return x, err
}

// loadResponses reads the responses of devices that are under way, and those that were of late.
func loadResponses(ctx context.Context, tx pgx.Tx, ids []uuid.UUID, all map[uuid.UUID]*judged) error {
	rows, err := tx.Query(ctx, "SELECT "+responseState+
		" FROM responses x WHERE x.device_id = ANY($1) AND (x.ended_at IS NULL OR x.began_at > $2) ORDER BY x.began_at DESC FOR NO "+
		"KEY UPDATE", ids, time.Now().Add(-remembered))
	if err != nil {
		return err
	}
	found, err := pgx.CollectRows(rows, scanResponse)
	for _, x := range found {
		if one := all[x.device]; one != nil {
			one.responses = append(one.responses, x)
		}
	}
	return err
}

func putResponses(ctx context.Context, tx pgx.Tx, all map[uuid.UUID]*judged) error {
	batch := &pgx.Batch{}
	for _, j := range all {
		for _, x := range j.responses {
			switch {
			case x.isNew:
				batch.Queue(`INSERT INTO responses (id, device_id, check_name, subject, policy_id, policy_name, name, progress, state, due,
					began_at, ended_at)
					VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
					x.id, x.device, x.check, x.subject, x.policy.Policy, x.policy.Name, x.Response.Name, x.Progress, x.State,
					orNull(x.Due()), x.began, orNull(x.ended))
			case x.touched:
				batch.Queue("UPDATE responses SET progress = $2, state = $3, due = $4, ended_at = $5 WHERE id = $1", x.id, x.Progress,
					x.State, orNull(x.Due()), orNull(x.ended))
			}
		}
	}
	if batch.Len() == 0 {
		return nil
	}
	return tx.SendBatch(ctx, batch).Close()
}

// dueResponses reads responses whose step is to be done.
func (s store) dueResponses(ctx context.Context, limit int) ([]*responding, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+responseState+
		" FROM responses x WHERE x.ended_at IS NULL AND x.state = 'due' ORDER BY x.began_at LIMIT $1", limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanResponse)
}

// moveResponse notes that the step of a response that was due is done now.
func (s store) moveResponse(ctx context.Context, x *responding) error {
	_, err := s.pool.Exec(ctx, "UPDATE responses SET progress = $2, state = $3, due = $4, job_id = coalesce($5, job_id) WHERE id = $1 "+
		"AND state = 'due' AND ended_at IS NULL", x.id, x.Progress, x.State, orNull(x.Due()), orNil(x.job))
	return err
}

// watchedResponses returns the devices of responses whose watch is over.
func (s store) watchedResponses(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT DISTINCT device_id FROM responses WHERE ended_at IS NULL AND due <= now()")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// doingResponses returns the jobs of responses that wait for them.
func (s store) doingResponses(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT job_id FROM responses WHERE ended_at IS NULL AND state = 'doing' AND job_id IS NOT NULL")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// didResponse notes that the job of a response's step is over, and returns the device; uuid.Nil where no
// response waits for it.
func (s store) didResponse(ctx context.Context, job uuid.UUID, succeeded bool, reason string, now time.Time) (device uuid.UUID, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+responseState+
			" FROM responses x WHERE x.ended_at IS NULL AND x.job_id = $1 AND x.state IN ('doing', 'due') FOR NO KEY UPDATE", job)
		if err != nil {
			return err
		}
		found, err := pgx.CollectRows(rows, scanResponse)
		for _, x := range found {
			x.State = response.Doing // the job may be over before it is noted that it was begun
			x.Did(succeeded, reason, now)
			if _, err := tx.Exec(ctx, "UPDATE responses SET progress = $2, state = $3, due = $4 WHERE id = $1", x.id, x.Progress, x.State,
				orNull(x.Due())); err != nil {
				return err
			}
			device = x.device
		}
		return err
	})
	return device, err
}

func scanResponseRun(row pgx.CollectableRow) (r api.ResponseRun, err error) {
	var c response.Progress
	if err := row.Scan(&r.ID, &r.Device, &r.DeviceName, &r.Check, &r.Subject, &r.Policy, &c, &r.Job, &r.BeganAt, &r.EndedAt); err != nil {
		return r, err
	}
	r.Name, r.State, r.Step, r.Steps, r.Said = c.Response.Name, string(c.State), c.Step+1, len(c.Response.Steps), c.Said
	if r.Said == nil {
		r.Said = []string{}
	}
	doing := c.Response.Steps[c.Step].String()
	r.Doing = &doing
	return r, nil
}

const responseRun = "x.id, x.device_id, d.name, x.check_name, x.subject, x.policy_name, x.progress, x.job_id, x.began_at, x.ended_at"

// responses lists responses before a moment, the latest first, at the devices of a view.
func (s store) responses(ctx context.Context, view []uuid.UUID, device, policy *uuid.UUID, open bool, before moment,
	limit int) ([]api.ResponseRun, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+responseRun+
		` FROM responses x JOIN devices d ON d.id = x.device_id WHERE (x.began_at, x.id) < ($1,
			$2) AND ($3::uuid[] IS NULL OR x.device_id = ANY($3))
		AND ($4::uuid IS NULL OR x.device_id = $4) AND ($5::text IS NULL OR x.policy_id = $5) AND (NOT $6 OR x.ended_at IS NULL)
		ORDER BY x.began_at DESC, x.id DESC LIMIT $7`,
		before.At, before.ID, view, device, textOf(policy), open, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanResponseRun)
}

func textOf(id *uuid.UUID) *string {
	if id == nil {
		return nil
	}
	text := id.String()
	return &text
}

// querier is a pool or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// withResponses adds to alerts what was done about each since it began.
func withResponses(ctx context.Context, q querier, alerts []api.Alert) error {
	type key struct {
		device         uuid.UUID
		check, subject string
	}
	var ids []uuid.UUID
	for _, a := range alerts {
		if a.DeviceID != nil {
			ids = append(ids, *a.DeviceID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	rows, err := q.Query(ctx, "SELECT DISTINCT ON (x.device_id, x.check_name, x.subject) "+responseRun+
		` FROM responses x JOIN devices d ON d.id = x.device_id
		WHERE x.device_id = ANY($1) AND x.began_at > $2 ORDER BY x.device_id, x.check_name, x.subject, x.began_at DESC`,
		ids, time.Now().Add(-remembered))
	if err != nil {
		return err
	}
	found, err := pgx.CollectRows(rows, scanResponseRun)
	latest := map[key]*api.ResponseRun{}
	for i, r := range found {
		latest[key{r.Device, r.Check, r.Subject}] = &found[i]
	}
	for i := range alerts {
		a := &alerts[i]
		if a.DeviceID == nil {
			continue
		}
		if r := latest[key{*a.DeviceID, a.Check, a.Subject}]; r != nil && (r.EndedAt == nil || !r.BeganAt.Before(a.Since)) {
			a.Response = r
		}
	}
	return err
}

// outcomesOf counts how the responses of policies ended in the last 90 days.
func (s store) outcomesOf(ctx context.Context, policies []api.Policy) error {
	ids := make([]string, len(policies))
	for i, y := range policies {
		ids[i] = y.ID.String()
	}
	rows, err := s.pool.Query(ctx, `SELECT policy_id, name, count(*) FILTER (WHERE state = 'healed')::int,
		count(*) FILTER (WHERE state = 'gave up')::int, count(*) FILTER (WHERE state = 'held')::int, count(*) FILTER (WHERE ended_at IS
		NULL)::int
		FROM responses WHERE policy_id = ANY($1) AND began_at > now() - interval '90 days' GROUP BY 1, 2 ORDER BY 1, 2`, ids)
	if err != nil {
		return err
	}
	var id string
	var o api.ResponseOutcome
	all := map[string][]api.ResponseOutcome{}
	_, err = pgx.ForEachRow(rows, []any{&id, &o.Name, &o.Healed, &o.GaveUp, &o.Held, &o.UnderWay},
		func() error { all[id] = append(all[id], o); return nil })
	for i := range policies {
		if list := all[policies[i].ID.String()]; list != nil {
			policies[i].Outcomes = &list
		}
	}
	return err
}
