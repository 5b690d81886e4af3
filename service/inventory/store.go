package inventory

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/suspect"
	"moorwatch.example/service/db"
)

// store is every question that this column asks of the database.
type store struct{ pool *pgxpool.Pool }

// accept hands what is known of a device to apply, and stores what it makes of it with the changes,
// all or nothing. changed tells whether anything differs.
func (s store) accept(ctx context.Context, id uuid.UUID, at time.Time,
	apply func(inventory.Snapshot) (inventory.Snapshot, []inventory.Change, error)) (changed bool, err error) {
	for range 2 {
		// once more, where software was removed from the catalogue between being found and being used
		if changed, err = s.acceptOnce(ctx, id, at, apply); !db.Dangling(err) {
			break
		}
	}
	return changed, err
}

func (s store) acceptOnce(ctx context.Context, id uuid.UUID, at time.Time,
	apply func(inventory.Snapshot) (inventory.Snapshot, []inventory.Change, error)) (changed bool, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var items []inventory.Item
		var last time.Time
		err := tx.QueryRow(ctx, `SELECT coalesce((SELECT items FROM inventories i WHERE i.device_id = d.id), '[]'),
			coalesce(d.inventory_at, $2) FROM devices d
			WHERE d.id = $1 AND d.retired_at IS NULL FOR NO KEY UPDATE OF d`, id, at).Scan(&items, &last)
		if err != nil {
			return err
		}
		before := inventory.Of(items)
		after, changes, err := apply(before)
		if err != nil {
			return err
		}
		changed = len(before) == 0 || len(changes) > 0
		if _, err := tx.Exec(ctx, "UPDATE devices SET inventory_at = greatest(inventory_at, $2) WHERE id = $1", id, at); err != nil ||
			!changed {
			return err
		}
		text, err := json.Marshal(after.Items())
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "INSERT INTO inventories VALUES ($1, $2) ON CONFLICT (device_id) DO UPDATE SET items = excluded.items",
			id, text); err != nil {
			return err
		}
		if err := putChanges(ctx, tx, id, last, at, changes); err != nil {
			return err
		}
		if err := putSafety(ctx, tx, id, after); err != nil {
			return err
		}
		return putSoftware(ctx, tx, id, after)
	})
	return changed, err
}

const (
	// mostChanges is how many changes of one inventory are kept; what is beyond shows in the inventory itself.
	mostChanges = 2000
	// mostChangesADay is how many are kept of a device within 24 hours: beyond them its inventory is not taken. A
	// system that is brought to its next release changes about 3,000 items.
	mostChangesADay = 5000
	// mostTitles is how much software of one device is in the catalogue; what is beyond shows in its inventory.
	mostTitles = 8000
)

func putChanges(ctx context.Context, tx pgx.Tx, id uuid.UUID, last, at time.Time, changes []inventory.Change) error {
	if len(changes) == 0 {
		return nil
	}
	var today int
	if err := tx.QueryRow(ctx, "SELECT count(*) FROM (SELECT FROM changes WHERE device_id = $1 AND at > $2 LIMIT $3) x", id,
		at.Add(-24*time.Hour), mostChangesADay).Scan(&today); err != nil {
		return err
	}
	if today >= mostChangesADay {
		return errDay
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"changes"},
		[]string{"device_id", "at", "not_before", "section", "key", "name", "kind", "summary", "before", "after", "signature"},
		pgx.CopyFromSlice(min(len(changes), mostChanges), func(i int) ([]any, error) {
			c := changes[i]
			return []any{id, at, last, c.Section, c.Key, c.Name, c.Kind, c.Summary, c.Before, c.After, c.Signature()}, nil
		}))
	return err
}

// putSafety keeps the section that checks judge beside the device.
func putSafety(ctx context.Context, tx pgx.Tx, id uuid.UUID, after inventory.Snapshot) error {
	safety := map[string]map[string]string{}
	for ref, i := range after {
		if ref.Section == inventory.Safety {
			safety[ref.Key] = i.Fields
		}
	}
	_, err := tx.Exec(ctx, "UPDATE devices SET safety = $2 WHERE id = $1", id, safety)
	return err
}

// putSoftware brings the fleet's list of software up to date with a device.
func putSoftware(ctx context.Context, tx pgx.Tx, id uuid.UUID, after inventory.Snapshot) error {
	var names, versions, sources, purls, built, builtVersions []string
	for _, i := range after.Items() {
		if i.Section == inventory.Software && len(names) < mostTitles {
			names, versions, sources, purls = append(names, i.Name), append(versions, i.Fields["version"]),
				append(sources, i.Fields["source"]), append(purls, i.Fields["purl"])
			built, builtVersions = append(built, i.Fields["source_package"]), append(builtVersions, i.Fields["source_version"])
		}
	}
	if _, err := tx.Exec(ctx, `INSERT INTO software (name, version, source, purl, built_from, built_version) SELECT DISTINCT ON (n.name,
		n.version, n.source) n.* FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[]) n (name, version,
		source, purl, built_from, built_version)
		LEFT JOIN software s USING (name, version, source) WHERE s.id IS NULL OR s.built_from = '' AND n.built_from <> ''
		ORDER BY n.name, n.version, n.source
		ON CONFLICT (name, version, source) DO UPDATE SET built_from = excluded.built_from, built_version = excluded.built_version,
		compared = 0 WHERE excluded.built_from <> ''`, names, versions, sources, purls, built, builtVersions); err != nil {
		return err
	}
	var ids []int32
	rows, err := tx.Query(ctx, "SELECT DISTINCT s.id FROM software s JOIN unnest($1::text[], $2::text[], $3::text[]) n (name, version, "+
		"source) USING (name, version, source)", names, versions, sources)
	if err != nil {
		return err
	}
	if ids, err = pgx.CollectRows(rows, pgx.RowTo[int32]); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM installed WHERE device_id = $1 AND software_id <> ALL($2)", id, ids); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "INSERT INTO installed SELECT $1, unnest($2::int[]) ON CONFLICT DO NOTHING", id, ids)
	return err
}

// expire removes changes from before a time, and software that no device has; it returns the numbers of the latter.
func (s store) expire(ctx context.Context, before time.Time) (gone []int32, err error) {
	if _, err := s.pool.Exec(ctx, "DELETE FROM changes WHERE at < $1", before); err != nil {
		return nil, err
	}
	rows, err := s.pool.Query(ctx, "DELETE FROM software s WHERE NOT EXISTS (SELECT FROM installed i WHERE i.software_id = s.id) "+
		"RETURNING id")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int32])
}

func (s store) inventory(ctx context.Context, id uuid.UUID) (items []inventory.Item, at *time.Time, err error) {
	err = s.pool.QueryRow(ctx, "SELECT i.items, d.inventory_at FROM devices d JOIN inventories i ON i.device_id = d.id WHERE d.id = $1",
		id).Scan(&items, &at)
	return items, at, err
}

func (s store) changes(ctx context.Context, view []uuid.UUID, in api.ListChangesParams, before place, limit int) ([]api.Change, error) {
	rows, err := s.pool.Query(ctx, `SELECT c.id, c.device_id, d.name, c.at, c.not_before, c.section, c.key, c.name, c.kind, c.summary,
		c.before, c.after, c.signature
		FROM changes c JOIN devices d ON d.id = c.device_id WHERE (c.at, c.id) < ($1, $2) AND ($3::uuid IS NULL OR c.device_id = $3)
		AND ($4::text IS NULL OR c.section = $4) AND ($5::timestamptz IS NULL OR c.at >= $5) AND ($6::timestamptz IS NULL OR c.at < $6)
		AND ($7::text IS NULL OR c.signature = $7) AND ($9::uuid[] IS NULL OR c.device_id = ANY($9)) ORDER BY c.at DESC, c.id DESC
		LIMIT $8`,
		before.At, before.ID, in.Device, in.Section, in.From, in.To, in.Signature, limit, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (c api.Change, err error) {
		return c, row.Scan(&c.ID, &c.DeviceID, &c.Device, &c.At, &c.NotBefore, &c.Section, &c.Key, &c.Name, &c.Kind, &c.Summary, &c.Before,
			&c.After, &c.Signature)
	})
}

func (s store) software(ctx context.Context, view []uuid.UUID, search string, after name, limit int) ([]api.Software, error) {
	rows, err := s.pool.Query(ctx, `SELECT s.name, s.source, sum(n.devices)::int,
			jsonb_agg(jsonb_build_object('version', s.version, 'devices', n.devices, 'purl', s.purl) ORDER BY n.devices DESC, s.version
			DESC)
		FROM software s JOIN LATERAL (SELECT count(*)::int AS devices FROM installed i JOIN devices d ON d.id = i.device_id
		AND d.retired_at IS NULL AND ($6::uuid[] IS NULL OR d.id = ANY($6)) WHERE i.software_id = s.id) n ON n.devices > 0
		WHERE (s.name, s.source) > ($1, $2) AND ($3 = '' OR s.name ILIKE '%' || $4 || '%')
		GROUP BY s.name, s.source ORDER BY s.name, s.source LIMIT $5`, after.Name, after.Source, search, db.LikeText(search), limit, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x api.Software, err error) {
		return x, row.Scan(&x.Name, &x.Source, &x.Devices, &x.Versions)
	})
}

// having returns the devices that have a piece of software, by name. after is a name and id joined
// by a zero byte.
func (s store) having(ctx context.Context, view []uuid.UUID, software string, version *string, after string, limit int) ([]uuid.UUID,
	error) {
	from, id, _ := strings.Cut(after, "\x00")
	last, err := uuid.Parse(id)
	if err != nil {
		last = uuid.Nil
	}
	rows, err := s.pool.Query(ctx, `SELECT d.id FROM devices d WHERE d.retired_at IS NULL AND ($6::uuid[] IS NULL OR d.id = ANY($6)) AND (
		d.name, d.id) > ($1, $2) AND EXISTS (SELECT FROM installed i JOIN software s ON s.id = i.software_id
		WHERE i.device_id = d.id AND s.name = $3 AND ($4::text IS NULL OR s.version = $4)) ORDER BY d.name, d.id LIMIT $5`,
		from, last, software, version, limit, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// about is the device or site that an alert is about.
func (s store) about(ctx context.Context, alert uuid.UUID) (scope health.Scope, err error) {
	err = s.pool.QueryRow(ctx, "SELECT CASE WHEN device_id IS NULL THEN 'site' ELSE 'device' END, coalesce(device_id, site_id)::text "+
		"FROM alerts WHERE id = $1", alert).Scan(&scope.Kind, &scope.ID)
	return scope, err
}

// candidates are the changes before an alert, each with how the devices of the same system fall.
type candidates struct {
	site          bool // the alert is about a site
	devices, with int
	changes       map[string]*candidate // by signature
}

type candidate struct {
	summary, section string
	at               time.Time
	counts           suspect.Counts
}

// candidates counts, for each change of the alert's device in the time before it, the devices of
// the same operating system: those with the change, which on a device with the alert may have come
// before its own began (it came at some time between two inventories), and those with an alert of the same check, now or within that time.
func (s store) candidates(ctx context.Context, alert uuid.UUID, before time.Duration) (found candidates, err error) {
	found.changes = map[string]*candidate{}
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		var id *uuid.UUID
		var check, os string
		var since time.Time
		if err := tx.QueryRow(ctx, "SELECT a.device_id, a.check_name, a.since, coalesce(d.os, '') FROM alerts a LEFT JOIN devices d ON "+
			"d.id = a.device_id WHERE a.id = $1", alert).Scan(&id, &check, &since, &os); err != nil {
			return err
		}
		if id == nil {
			found.site = true
			return nil
		}
		from := since.Add(-before)
		const population = `population AS (SELECT d.id, (SELECT min(a.since) FROM alerts a WHERE a.device_id = d.id AND a.check_name = $2
				AND (a.resolved_at IS NULL OR a.resolved_at >= $3)) AS since
			FROM devices d WHERE d.os = $1 AND d.retired_at IS NULL AND d.facts IS NOT NULL)`
		if err := tx.QueryRow(ctx, "WITH "+population+" SELECT count(*), count(since) FROM population", os, check,
			from).Scan(&found.devices, &found.with); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `WITH `+population+`,
			mine AS (SELECT DISTINCT ON (signature) signature, summary, section, at FROM changes
				WHERE device_id = $4 AND at >= $3 AND not_before <= $5 ORDER BY signature, at DESC LIMIT 500)
			SELECT m.signature, m.summary, m.section, m.at, count(p.id) FILTER (WHERE p.since IS NOT NULL), count(p.id) FILTER (WHERE
			p.since IS NULL)
			FROM mine m LEFT JOIN LATERAL (SELECT DISTINCT p.id, p.since FROM changes c JOIN population p ON p.id = c.device_id
				WHERE c.signature = m.signature AND c.at >= $3 AND c.not_before <= coalesce(p.since, now())) p ON true
			GROUP BY m.signature, m.summary, m.section, m.at`, os, check, from, *id, since)
		if err != nil {
			return err
		}
		var signature string
		var x candidate
		_, err = pgx.ForEachRow(rows, []any{&signature, &x.summary, &x.section, &x.at, &x.counts.ChangedWith, &x.counts.ChangedWithout},
			func() error {
				one := x
				one.counts.OthersWith = found.with - x.counts.ChangedWith
				one.counts.OthersWithout = found.devices - found.with - x.counts.ChangedWithout
				found.changes[signature] = &one
				return nil
			})
		return err
	})
	return found, err
}
