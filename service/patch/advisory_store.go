package patch

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/advisory"
	"moorwatch.example/service/db"
)

// importing is one import into a feed, all of it or nothing.
type importing struct {
	tx         pgx.Tx
	ctx        context.Context
	feed       string
	id         uuid.UUID
	advisories []advisory.Advisory // that wait to be written
	packages   int                 // of them
	exploited  []advisory.Exploited
}

// mostWaiting is how many advisories are written at once, and how many of their packages in dozens.
const mostWaiting = 500

func (m *importing) add(a advisory.Advisory) error {
	m.advisories, m.packages = append(m.advisories, a), m.packages+len(a.Affected)
	if len(m.advisories) >= mostWaiting || m.packages >= 12*mostWaiting {
		return m.flush()
	}
	return nil
}

func (m *importing) addExploited(e advisory.Exploited) error {
	if m.exploited = append(m.exploited, e); len(m.exploited) >= mostWaiting {
		return m.flush()
	}
	return nil
}

// flush writes what waits. An advisory that another feed has in a later state stays as it is.
func (m *importing) flush() error {
	last := map[string]int{} // a file may have one twice
	for i, a := range m.advisories {
		last[a.ID] = i
	}
	batch := &pgx.Batch{}
	for i, a := range m.advisories {
		if last[a.ID] != i {
			continue
		}
		affected := a.Affected
		if a.Affected = nil; a.Withdrawn {
			affected = nil
		}
		if a.Aliases == nil {
			a.Aliases = []string{}
		}
		keys, packages := make([]string, len(affected)), make([]string, len(affected))
		for j := range affected {
			text, err := json.Marshal(affected[j])
			if err != nil {
				return err
			}
			keys[j], packages[j] = affected[j].Key(), string(text)
		}
		batch.Queue(`WITH a AS (INSERT INTO advisories AS o (id, names, feed, content, score, severity, import) VALUES ($1, $2, $3, $4, $5,
			$6, $7)
				ON CONFLICT (id) DO UPDATE SET names = excluded.names, feed = excluded.feed, content = excluded.content, score =
				excluded.score, severity = excluded.severity, import = excluded.import
				WHERE o.feed = excluded.feed OR coalesce(o.content->>'modified', '') < coalesce(excluded.content->>'modified', '')
				RETURNING num),
			d AS (DELETE FROM advisory_packages p USING a WHERE p.advisory_num = a.num)
			INSERT INTO advisory_packages SELECT a.num, n.key, n.affected::jsonb FROM a, unnest($8::text[], $9::text[]) n (key, affected)`,
			a.ID, a.Aliases, m.feed, a, a.Score, a.Severity, m.id, keys, packages)
	}
	for _, e := range m.exploited {
		batch.Queue(`INSERT INTO exploited VALUES ($1, $2, $3, $4) ON CONFLICT (name) DO UPDATE SET feed = excluded.feed, content =
			excluded.content, import = excluded.import`, e.Name, m.feed, e, m.id)
	}
	m.advisories, m.packages, m.exploited = m.advisories[:0], 0, m.exploited[:0]
	return m.tx.SendBatch(m.ctx, batch).Close()
}

// refusal is what an import could not use.
type refusal struct {
	count int
	first []string
}

// importFeed has read hand over what a file holds; whole tells that it is all of the feed. What it answers is
// asked for when read is done.
func (s store) importFeed(ctx context.Context, feed, by string, whole bool, read func(*importing, *refusal) error) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO feeds (name, imported_by) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET imported_by = "+
			"excluded.imported_by, imported_at = now()", feed, by); err != nil {
			return err
		}
		m, refused := &importing{tx: tx, ctx: ctx, feed: feed, id: uuid.New()}, &refusal{first: []string{}}
		if err := read(m, refused); err != nil {
			return err
		}
		if err := m.flush(); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE feeds SET refused = $2, refusals = $3 WHERE name = $1", feed, refused.count,
			refused.first); err != nil {
			return err
		}
		if whole {
			for _, table := range []string{"advisories", "exploited"} {
				if _, err := tx.Exec(ctx, "DELETE FROM "+table+" WHERE feed = $1 AND import <> $2", feed, m.id); err != nil {
					return err
				}
			}
		}
		return imported(ctx, tx)
	})
}

// imported brings what depends on advisories up to date: which of them are exploited, now; the rest when
// software is compared again.
func imported(ctx context.Context, tx pgx.Tx) error {
	if _, err := tx.Exec(ctx, `UPDATE advisories a SET exploited = e.content FROM advisories b LEFT JOIN LATERAL
		(SELECT content FROM exploited e WHERE e.name = b.id OR e.name = ANY(b.names) ORDER BY e.name LIMIT 1) e ON true
		WHERE b.num = a.num AND a.exploited IS DISTINCT FROM e.content`); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "UPDATE advisory_imports SET count = count + 1")
	return err
}

func (s store) removeFeed(ctx context.Context, name string) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "DELETE FROM feeds WHERE name = $1 RETURNING name", name).Scan(&name); err != nil {
			return err
		}
		return imported(ctx, tx)
	})
}

func (s store) feeds(ctx context.Context, after string, limit int) ([]api.Feed, error) {
	rows, err := s.pool.Query(ctx, `SELECT f.name, (SELECT count(*) FROM advisories a WHERE a.feed = f.name)::int,
		(SELECT count(*) FROM exploited e WHERE e.feed = f.name)::int, f.refused, f.refusals, f.imported_at, f.imported_by,
		(SELECT count(*) FROM software WHERE compared < (SELECT count FROM advisory_imports))::int FROM feeds f WHERE f.name > $1
		ORDER BY f.name LIMIT $2`, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (f api.Feed, err error) {
		return f, row.Scan(&f.Name, &f.Advisories, &f.Exploited, &f.Refused, &f.Refusals, &f.ImportedAt, &f.ImportedBy, &f.Pending)
	})
}

// feed is one feed.
func (s store) feed(ctx context.Context, name string) (api.Feed, error) {
	all, err := s.feeds(ctx, "", 1000)
	for _, f := range all {
		if f.Name == name {
			return f, nil
		}
	}
	if err == nil {
		err = pgx.ErrNoRows
	}
	return api.Feed{}, err
}

// piece is a piece of software that is to be compared with advisories.
type piece struct {
	id                              int32
	purl, builtFrom, builtOfVersion string
}

// mostCompared is how many pieces of software are compared at once.
const mostCompared = 2000

// compare hands some pieces of software that were not compared since the last import to match, with a way to
// the advisories' packages, and keeps the weaknesses that it finds. count is of how many it was; import_ counts the imports.
func (s store) compare(ctx context.Context, match func(all []piece,
	packages func(keys []string) (*advisory.Index, []int32, error)) (map[int32][]advisory.Hit, []int32, error)) (count, import_ int,
	err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "SELECT count FROM advisory_imports").Scan(&import_); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "SELECT id, purl, built_from, built_version FROM software WHERE compared < $1 ORDER BY id LIMIT $2 "+
			"FOR NO KEY UPDATE SKIP LOCKED", import_, mostCompared)
		if err != nil {
			return err
		}
		all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (p piece, err error) {
			return p, row.Scan(&p.id, &p.purl, &p.builtFrom, &p.builtOfVersion)
		})
		if count = len(all); err != nil || count == 0 {
			return err
		}
		found, nums, err := match(all, func(keys []string) (*advisory.Index, []int32, error) { return packagesOf(ctx, tx, keys) })
		if err != nil {
			return err
		}
		ids, had := make([]int32, 0, count), [][]any{}
		for _, p := range all {
			ids = append(ids, p.id)
			for _, h := range found[p.id] {
				had = append(had, []any{p.id, nums[h.Advisory], h.Release, h.Fixed})
			}
		}
		if _, err := tx.Exec(ctx, "DELETE FROM weaknesses WHERE software_id = ANY($1)", ids); err != nil {
			return err
		}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"weaknesses"}, []string{"software_id", "advisory_num", "release", "fixed"},
			pgx.CopyFromRows(had)); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE software SET compared = $2 WHERE id = ANY($1)", ids, import_)
		return err
	})
	return count, import_, err
}

// packagesOf makes an index of the advisories about some packages; nums are their numbers.
func packagesOf(ctx context.Context, tx pgx.Tx, keys []string) (x *advisory.Index, nums []int32, err error) {
	rows, err := tx.Query(ctx, "SELECT advisory_num, affected FROM advisory_packages WHERE key = ANY($1) ORDER BY advisory_num", keys)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	var all []advisory.Advisory
	for rows.Next() {
		var num int32
		var one advisory.Affected
		if err := rows.Scan(&num, &one); err != nil {
			return nil, nil, err
		}
		if n := len(nums); n == 0 || nums[n-1] != num {
			nums, all = append(nums, num), append(all, advisory.Advisory{})
		}
		last := &all[len(all)-1]
		last.Affected = append(last.Affected, one)
	}
	return advisory.NewIndex(all), nums, rows.Err()
}

// sourceOf is by which word an inventory calls the source of an update.
const sourceOf = "CASE u.source WHEN 'apt' THEN 'deb' WHEN 'dnf' THEN 'rpm' WHEN 'zypper' THEN 'rpm' ELSE u.source END"

// mends notes which advisories each update mends: those that it names, and those about what devices have of the
// same name that mended says it mends.
func (s store) mends(ctx context.Context, mended func(purl, to, fixed string) bool) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		found := map[int32]map[int32]bool{}
		note := func(update, num int32) {
			if found[update] == nil {
				found[update] = map[int32]bool{}
			}
			found[update][num] = true
		}
		var update, num int32
		var purl, to, fixed string
		rows, err := tx.Query(ctx, "SELECT DISTINCT u.id, w.advisory_num, s.purl, u.to_version, w.fixed FROM updates u JOIN software s "+
			"ON s.name = u.name AND s.source = "+sourceOf+" JOIN weaknesses w ON w.software_id = s.id WHERE w.fixed <> ''")
		if err != nil {
			return err
		}
		if _, err := pgx.ForEachRow(rows, []any{&update, &num, &purl, &to, &fixed}, func() error {
			if mended(purl, to, fixed) {
				note(update, num)
			}
			return nil
		}); err != nil {
			return err
		}
		rows, err = tx.Query(ctx, "SELECT u.id, a.num FROM updates u CROSS JOIN LATERAL "+
			"jsonb_array_elements_text(coalesce(u.content->'advisories', '[]')) n JOIN advisories a ON a.id = n OR a.names @> ARRAY[n]")
		if err != nil {
			return err
		}
		if _, err := pgx.ForEachRow(rows, []any{&update, &num}, func() error { note(update, num); return nil }); err != nil {
			return err
		}
		var updates, nums []int32
		for u, all := range found {
			for n := range all {
				updates, nums = append(updates, u), append(nums, n)
			}
		}
		_, err = tx.Exec(ctx, `WITH n AS (SELECT u.id,
			coalesce(array_agg(n.num ORDER BY n.num) FILTER (WHERE n.num IS NOT NULL), '{}') AS mends FROM updates u LEFT
			JOIN unnest($1::int[], $2::int[]) n (id, num) USING (id) GROUP BY u.id)
			UPDATE updates u SET mends = n.mends FROM n WHERE n.id = u.id AND u.mends <> n.mends`, updates, nums)
		return err
	})
}

// weigh notes which advisories are about software of devices, of some or, for nil, of all. An advisory about a
// release of a distribution, such as 12, is about devices of 12 and 12.7.
func (s store) weigh(ctx context.Context, devices []uuid.UUID) error {
	_, err := s.pool.Exec(ctx, `WITH n AS (SELECT d.id, array_agg(DISTINCT a.num ORDER BY a.num) AS advisories,
		count(DISTINCT a.num) FILTER (WHERE a.exploited IS NOT NULL) AS exploited
			FROM weaknesses w JOIN advisories a ON a.num = w.advisory_num JOIN installed i ON i.software_id = w.software_id JOIN devices d
			ON d.id = i.device_id AND d.retired_at IS NULL
			WHERE ($1::uuid[] IS NULL OR d.id = ANY($1)) AND `+ofRelease+` GROUP BY d.id),
		gone AS (DELETE FROM weak_devices w WHERE ($1::uuid[] IS NULL OR w.device_id = ANY($1)) AND NOT EXISTS (SELECT FROM n
		WHERE n.id = w.device_id))
		INSERT INTO weak_devices AS o SELECT * FROM n ON CONFLICT (device_id) DO UPDATE SET advisories = excluded.advisories, exploited =
		excluded.exploited
			WHERE (o.advisories, o.exploited) IS DISTINCT FROM (excluded.advisories, excluded.exploited)`, devices)
	return err
}

const ofRelease = "(w.release = '' OR d.os_version = '' OR d.os_version = w.release OR starts_with(d.os_version, w.release || '.'))"

// ranked is where in the list of advisories one stands.
type ranked struct {
	Exploited bool    `json:"exploited"`
	Score     float32 `json:"score"`
	Devices   int     `json:"devices"`
	ID        string  `json:"id"`
}

const selectAdvisory = `SELECT a.id, a.names, a.content->>'summary', a.score, a.severity, (a.content->>'published')::timestamptz,
	a.exploited, coalesce(n.devices, 0)::int, a.feed,
	coalesce((SELECT array_agg(DISTINCT s.name) FROM weaknesses w JOIN software s ON s.id = w.software_id WHERE w.advisory_num = a.num),
	'{}'),
	coalesce((SELECT jsonb_agg(jsonb_build_object('source', u.source, 'name', u.name, 'to', u.to_version, 'devices', m.devices)
	ORDER BY m.devices DESC, u.name) FROM updates u
		JOIN LATERAL (SELECT count(*)::int AS devices FROM missing m JOIN devices d ON d.id = m.device_id AND d.retired_at IS NULL
		WHERE m.updates @> ARRAY[u.id] AND ($1::uuid[] IS NULL OR d.id = ANY($1))) m ON m.devices > 0 WHERE u.mends @> ARRAY[a.num]), '[]')
	FROM advisories a `

// counted are the devices of a view by advisory.
const countedDevices = "(SELECT x.num, count(*) AS devices FROM weak_devices w JOIN devices d ON d.id = w.device_id AND d.retired_at IS " +
	"NULL CROSS JOIN LATERAL unnest(w.advisories) x (num) WHERE ($1::uuid[] IS NULL OR d.id = ANY($1)) AND ($2::uuid IS NULL OR d.id = " +
	"$2) GROUP BY x.num) n ON n.num = a.num"

func scanAdvisory(row pgx.CollectableRow) (a api.Advisory, err error) {
	return a, row.Scan(&a.ID, &a.Aliases, &a.Summary, &a.Score, &a.Severity, &a.Published, &a.Exploited, &a.Devices, &a.Feed, &a.Packages,
		&a.Updates)
}

func (s store) advisories(ctx context.Context, view []uuid.UUID, in api.ListAdvisoriesParams, after ranked, limit int) ([]api.Advisory,
	error) {
	search := ""
	if in.Search != nil {
		search = *in.Search
	}
	rows, err := s.pool.Query(ctx, selectAdvisory+"JOIN "+countedDevices+` WHERE ($3::bool IS NOT TRUE OR a.exploited IS NOT NULL)
		AND ($4 = '' OR a.id ILIKE '%' || $5 || '%' OR a.content->>'summary' ILIKE '%' || $5 || '%' OR EXISTS (SELECT
		FROM unnest(a.names) x WHERE x ILIKE '%' || $5 || '%')
			OR EXISTS (SELECT FROM weaknesses w JOIN software s ON s.id = w.software_id WHERE w.advisory_num = a.num
			AND s.name ILIKE '%' || $5 || '%'))
		AND ($6 = '' OR (a.exploited IS NOT NULL, a.score, n.devices) < ($7, $8::real, $9) OR (a.exploited IS NOT NULL, a.score,
		n.devices) = ($7, $8::real, $9) AND a.id > $6)
		ORDER BY (a.exploited IS NOT NULL) DESC, a.score DESC, n.devices DESC, a.id LIMIT $10`,
		view, in.Device, in.Exploited, search, db.LikeText(search), after.ID, after.Exploited, after.Score, after.Devices, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanAdvisory)
}

// advisory is one by its id or another of its names, with what else is known of it.
func (s store) advisory(ctx context.Context, view []uuid.UUID, name string) (a api.Advisory, whole advisory.Advisory, err error) {
	rows, err := s.pool.Query(ctx, selectAdvisory+"LEFT JOIN "+countedDevices+
		" WHERE a.id = $3 OR a.names @> ARRAY[$3::text] ORDER BY a.id = $3 DESC, a.id LIMIT 1", view, nil, name)
	if err != nil {
		return a, whole, err
	}
	if a, err = pgx.CollectExactlyOneRow(rows, scanAdvisory); err == nil {
		err = s.pool.QueryRow(ctx, "SELECT content FROM advisories WHERE id = $1", a.ID).Scan(&whole)
	}
	return a, whole, err
}

// weakSoftware lists the software that an advisory is about, that which most devices have first.
func (s store) weakSoftware(ctx context.Context, view []uuid.UUID, id string) ([]api.WeakSoftware, error) {
	rows, err := s.pool.Query(ctx, `SELECT s.name, s.version, s.source, count(DISTINCT d.id)::int,
		max(w.fixed) FROM advisories a JOIN weaknesses w ON w.advisory_num = a.num JOIN software s ON s.id = w.software_id
		JOIN installed i ON i.software_id = s.id JOIN devices d ON d.id = i.device_id AND d.retired_at IS NULL AND `+ofRelease+`
		WHERE a.id = $2 AND ($1::uuid[] IS NULL OR d.id = ANY($1)) GROUP BY s.id ORDER BY 4 DESC, s.name, s.version LIMIT 200`, view, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x api.WeakSoftware, err error) {
		return x, row.Scan(&x.Name, &x.Version, &x.Source, &x.Devices, &x.Fixed)
	})
}

// weakDevices lists the devices that an advisory is about.
func (s store) weakDevices(ctx context.Context, view []uuid.UUID, id string, after named, limit int) ([]api.WeakDevice, error) {
	rows, err := s.pool.Query(ctx, `SELECT d.id, d.name, o.name, t.name,
		jsonb_agg(jsonb_build_object('name', s.name, 'version', s.version, 'source', s.source, 'devices', 1, 'fixed', w.fixed)
		ORDER BY s.name)
		FROM advisories a JOIN weaknesses w ON w.advisory_num = a.num JOIN software s ON s.id = w.software_id JOIN installed i
		ON i.software_id = s.id
		JOIN devices d ON d.id = i.device_id AND d.retired_at IS NULL AND `+ofRelease+` JOIN sites t ON t.id = d.site_id JOIN organisations o ON o.id = t.organisation_id
		WHERE a.id = $2 AND ($1::uuid[] IS NULL OR d.id = ANY($1)) AND (d.name, d.id::text) > ($3, $4) GROUP BY d.id, d.name, o.name,
		t.name ORDER BY d.name, d.id::text LIMIT $5`, view, id, after.Name, after.ID, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x api.WeakDevice, err error) {
		return x, row.Scan(&x.DeviceID, &x.Device, &x.Organisation, &x.Site, &x.Software)
	})
}

// weak is what advisories say of a device.
type weak struct{ advisories, exploited int }

// weakest are the devices with weaknesses.
func (s store) weakest(ctx context.Context) (map[uuid.UUID]weak, error) {
	rows, err := s.pool.Query(ctx, "SELECT device_id, cardinality(advisories), exploited FROM weak_devices")
	if err != nil {
		return nil, err
	}
	all := map[uuid.UUID]weak{}
	var id uuid.UUID
	var w weak
	_, err = pgx.ForEachRow(rows, []any{&id, &w.advisories, &w.exploited}, func() error { all[id] = w; return nil })
	return all, err
}

// mirrored is what a mirrored feed was like when it was last imported; "" where it never was.
func (s store) mirrored(ctx context.Context, name string) (stamp string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT coalesce((SELECT stamp FROM mirrored WHERE name = $1), '')", name).Scan(&stamp)
	return stamp, err
}

func (s store) setMirrored(ctx context.Context, name, stamp string) error {
	_, err := s.pool.Exec(ctx, "INSERT INTO mirrored VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET stamp = excluded.stamp", name, stamp)
	return err
}
