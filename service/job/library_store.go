package job

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/script"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
)

// library is one of the two libraries, which are kept alike: what is in it as it is, and the versions of
// what it was.
type library[T any] struct {
	table, versions, key string
	scan                 pgx.RowToFunc[T]
}

var (
	scripts  = library[api.Script]{"scripts", "script_versions", "script_id", scanScript}
	packages = library[api.Package]{"packages", "package_versions", "package_id", scanPackage}
)

func scanScript(row pgx.CollectableRow) (s api.Script, err error) {
	if err := row.Scan(&s.ID, &s.Version, &s.Content, &s.ChangedAt, &s.ChangedBy); err != nil {
		return s, err
	}
	file, err := s.Content.File()
	s.File = string(file)
	return s, err
}

func scanPackage(row pgx.CollectableRow) (p api.Package, err error) {
	if err := row.Scan(&p.ID, &p.Version, &p.Content, &p.ChangedAt, &p.ChangedBy); err != nil {
		return p, err
	}
	file, err := p.Content.File()
	p.File = string(file)
	return p, err
}

func (l library[T]) list(ctx context.Context, s store, after string, limit int) ([]T, error) {
	rows, err := s.pool.Query(ctx, "SELECT id, version, content, changed_at, changed_by FROM "+l.table+
		" WHERE removed_at IS NULL AND name > $1 ORDER BY name LIMIT $2", after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, l.scan)
}

// one reads one as it is, or a version of it; one that was removed is missing.
func (l library[T]) one(ctx context.Context, s store, id uuid.UUID, version *int) (t T, err error) {
	rows, err := s.pool.Query(ctx, `SELECT s.id, v.version, v.content, v.changed_at, v.changed_by FROM `+l.table+` s JOIN `+l.versions+
		` v ON v.`+l.key+` = s.id
		WHERE s.id = $1 AND s.removed_at IS NULL AND v.version = coalesce($2, s.version)`, id, version)
	if err != nil {
		return t, err
	}
	return pgx.CollectExactlyOneRow(rows, l.scan)
}

func (l library[T]) past(ctx context.Context, s store, id uuid.UUID, before, limit int) ([]T, error) {
	rows, err := s.pool.Query(ctx, `SELECT s.id, v.version, v.content, v.changed_at, v.changed_by FROM `+l.versions+` v JOIN `+l.table+
		` s ON s.id = v.`+l.key+`
		WHERE s.id = $1 AND s.removed_at IS NULL AND v.version < $2 ORDER BY v.version DESC LIMIT $3`, id, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, l.scan)
}

// put adds one, or changes the one of an id; what it becomes is a version.
func (l library[T]) put(ctx context.Context, s store, id *uuid.UUID, name string, content any, by string) (made T, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		query, args := "INSERT INTO "+l.table+" (name, content, changed_by) VALUES ($1, $2, $3)", []any{name, content, by}
		if id != nil {
			query, args = "UPDATE "+l.table+" SET name = $1, content = $2, changed_by = $3, changed_at = now(), version = version + 1 "+
				"WHERE id = $4 AND removed_at IS NULL", append(args, *id)
		}
		rows, err := tx.Query(ctx, `WITH made AS (`+query+` RETURNING *), kept AS (INSERT INTO `+l.versions+` (`+l.key+`, version, content,
			changed_at, changed_by)
			SELECT id, version, content, changed_at, changed_by FROM made) SELECT id, version, content, changed_at, changed_by FROM made`,
			args...)
		if err != nil {
			return err
		}
		made, err = pgx.CollectExactlyOneRow(rows, l.scan)
		return err
	})
	return made, err
}

func (l library[T]) remove(ctx context.Context, s store, id uuid.UUID) (name string, err error) {
	return name, s.pool.QueryRow(ctx, "UPDATE "+l.table+" SET removed_at = now() WHERE id = $1 AND removed_at IS NULL RETURNING name",
		id).Scan(&name)
}

func (s store) scripts(ctx context.Context, after string, limit int) ([]api.Script, error) {
	return scripts.list(ctx, s, after, limit)
}

func (s store) script(ctx context.Context, id uuid.UUID, version *int) (api.Script, error) {
	return scripts.one(ctx, s, id, version)
}

func (s store) setScript(ctx context.Context, id *uuid.UUID, content script.Script, by string) (api.Script, error) {
	return scripts.put(ctx, s, id, content.Name, content, by)
}

// noScripts tells whether there never was one.
func (s store) noScripts(ctx context.Context) (none bool, err error) {
	return none, s.pool.QueryRow(ctx, "SELECT NOT EXISTS (SELECT FROM scripts)").Scan(&none)
}

// packages lists packages with how many devices have each by the last job that concerned it there.
func (s store) packages(ctx context.Context, after string, limit int) ([]api.Package, error) {
	all, err := packages.list(ctx, s, after, limit)
	if err != nil {
		return nil, err
	}
	rows, err := s.pool.Query(ctx, `SELECT package_id,
		count(*)::int FROM (SELECT DISTINCT ON (j.package_id, r.device_id) j.package_id, j.work->>'action' AS action
		FROM runs r JOIN jobs j ON j.id = r.job_id WHERE j.package_id IS NOT NULL AND r.state = 'succeeded'
		ORDER BY j.package_id, r.device_id, r.ended_at DESC) last
		WHERE action = 'install' GROUP BY 1`)
	if err != nil {
		return nil, err
	}
	counts := map[uuid.UUID]int{}
	var id uuid.UUID
	var n int
	_, err = pgx.ForEachRow(rows, []any{&id, &n}, func() error { counts[id] = n; return nil })
	for i := range all {
		n := counts[all[i].ID]
		all[i].Devices = &n
	}
	return all, err
}

func (s store) pack(ctx context.Context, id uuid.UUID, version *int) (api.Package, error) {
	return packages.one(ctx, s, id, version)
}

func (s store) packageVersions(ctx context.Context, id uuid.UUID, before, limit int) ([]api.Package, error) {
	return packages.past(ctx, s, id, before, limit)
}

func (s store) setPackage(ctx context.Context, id *uuid.UUID, p pack.Package, by string) (api.Package, error) {
	return packages.put(ctx, s, id, p.Name, p, by)
}

func (s store) removePackage(ctx context.Context, id uuid.UUID) (name string, err error) {
	return packages.remove(ctx, s, id)
}

// named is where in a list by name something stands.
type named struct {
	Name string `json:"name"`
	ID   string `json:"id"`
}

// usedBy tells which packages bring a content.
const usedBy = `(SELECT coalesce(array_agg(p.name ORDER BY p.name), '{}') FROM packages p WHERE p.removed_at IS NULL
	AND p.content->'files' @> jsonb_build_array(jsonb_build_object('sha256', c.sha256)))`

const contentColumns = "c.sha256, c.name, c.size, c.whole, c.added_at, c.added_by, " + usedBy

func scanContent(row pgx.CollectableRow) (x api.Content, err error) {
	users := []string{}
	err = row.Scan(&x.Sha256, &x.Name, &x.Size, &x.Whole, &x.AddedAt, &x.AddedBy, &users)
	x.Packages = &users
	return x, err
}

func (s store) contents(ctx context.Context, after named, limit int) ([]api.Content, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+contentColumns+
		" FROM contents c WHERE (c.name, c.sha256) > ($1, $2) ORDER BY c.name, c.sha256 LIMIT $3", after.Name, after.ID, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanContent)
}

func (s store) content(ctx context.Context, digest string) (api.Content, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+contentColumns+" FROM contents c WHERE c.sha256 = $1", digest)
	if err != nil {
		return api.Content{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanContent)
}

// addContent notes a file that is to come, with its key; one that is known stays as it is.
func (s store) addContent(ctx context.Context, in api.NewContent, name, by string, key []byte) (api.Content, error) {
	if _, err := s.pool.Exec(ctx, "INSERT INTO contents (sha256, name, size, added_by, key) VALUES ($1, $2, $3, $4, $5) ON CONFLICT "+
		"DO NOTHING", in.Sha256, name, in.Size, by, key); err != nil {
		return api.Content{}, err
	}
	return s.content(ctx, in.Sha256)
}

func (s store) wholeContent(ctx context.Context, digest, quick string) error {
	_, err := s.pool.Exec(ctx, "UPDATE contents SET whole = true, quick = $2 WHERE sha256 = $1", digest, quick)
	return err
}

// contentKey is the sealed key of a file; nil for one that is not encrypted.
func (s store) contentKey(ctx context.Context, digest string) (key []byte, err error) {
	err = s.pool.QueryRow(ctx, "SELECT key FROM contents WHERE sha256 = $1", digest).Scan(&key)
	return key, err
}

func (s store) setContentKey(ctx context.Context, digest string, key []byte) error {
	_, err := s.pool.Exec(ctx, "UPDATE contents SET key = $2 WHERE sha256 = $1 AND NOT whole", digest, key)
	return err
}

func (s store) resealContents(ctx context.Context, ring *secret.Ring) (int, error) {
	return db.Rewrite(ctx, s.pool, "SELECT sha256, key FROM contents WHERE key IS NOT NULL AND sha256 > $1 ORDER BY sha256 LIMIT $2",
		"UPDATE contents SET key = $2 WHERE sha256 = $1",
		func(digest string, old []byte) ([]byte, bool, error) { return ring.Again(old, filePurpose(digest)) })
}

// quickDigest is the quick digest of a content, empty where it is not known.
func (s store) quickDigest(ctx context.Context, digest string) (quick string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT coalesce(quick, '') FROM contents WHERE sha256 = $1", digest).Scan(&quick)
	return quick, err
}

// removeContent removes a file, unless packages bring it: those are returned.
func (s store) removeContent(ctx context.Context, digest string) (name string, users []string, err error) {
	x, err := s.content(ctx, digest)
	if err != nil || len(*x.Packages) > 0 {
		return x.Name, *orNone(x.Packages), err
	}
	_, err = s.pool.Exec(ctx, "DELETE FROM contents WHERE sha256 = $1", digest)
	return x.Name, nil, err
}

func orNone(list *[]string) *[]string {
	if list == nil {
		return &[]string{}
	}
	return list
}

// unusedContents forgets files that neither a package nor a job that is not over brings, added before a
// time, and those that were never whole, added before another.
func (s store) unusedContents(ctx context.Context, before, parts time.Time) ([]string, error) {
	rows, err := s.pool.Query(ctx, `DELETE FROM contents c WHERE (
		c.added_at < $1 AND NOT EXISTS (SELECT FROM package_versions v JOIN packages p ON p.id = v.package_id
		WHERE p.removed_at IS NULL AND v.content->'files' @> jsonb_build_array(jsonb_build_object('sha256', c.sha256)))
		AND NOT EXISTS (SELECT FROM jobs j WHERE j.ended_at IS NULL AND j.work::text LIKE '%' || c.sha256 || '%')) OR (NOT c.whole
		AND c.added_at < $2) RETURNING c.sha256`, before, parts)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}
