package patch

import (
	"context"
	"encoding/json"
	"strings"

	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/pack"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
	"moorwatch.example/core/versions"
)

// lack works out which devices have software that a package of the library would bring to a newer version: then the
// package is an update that they miss.
func (c *Service) lack(ctx context.Context) error {
	offers, err := c.jobs.Offers(ctx)
	if err != nil {
		return err
	}
	return c.store.setLacking(ctx, offers)
}

// setLacking notes what devices have of the software of packages in an older version.
func (s store) setLacking(ctx context.Context, offers []pack.Package) error {
	names, tos, contents, of := make([]string, len(offers)), make([]string, len(offers)), make([]string, len(offers)),
		make([]string, len(offers))
	for i, p := range offers {
		title := p.Description
		if title == "" {
			title = p.Name
		}
		u := update.Update{Source: patch.PackageSource, Name: p.Name, Title: title, To: p.Version, Class: update.Feature}
		for _, f := range p.Files {
			u.Size += f.Size
		}
		text, err := json.Marshal(u)
		if err != nil {
			return err
		}
		names[i], tos[i], contents[i], of[i] = p.Name, p.Version, string(text), strings.ToLower(p.There.Of)
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO updates (source, name, to_version, content) SELECT $1, n.name, n.to_version,
			n.content::jsonb FROM unnest($2::text[], $3::text[], $4::text[]) n (name, to_version, content)
			LEFT JOIN updates u ON (u.source, u.name, u.to_version) = ($1, n.name, n.to_version) WHERE u.id IS NULL ON CONFLICT DO NOTHING`,
			patch.PackageSource, names, tos, contents); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `SELECT n.place::int - 1, u.id, s.id,
			s.version FROM unnest($2::text[], $3::text[], $4::text[]) WITH ORDINALITY n (name, to_version, of, place)
			JOIN updates u ON (u.source, u.name, u.to_version) = ($1, n.name, n.to_version) JOIN software s ON lower(s.name) = n.of`,
			patch.PackageSource, names, tos, of)
		if err != nil {
			return err
		}
		var place int
		var update, software int32
		var version string
		var updates, pieces []int32
		var systems []string
		if _, err := pgx.ForEachRow(rows, []any{&place, &update, &software, &version}, func() error {
			if version != "" && versions.Debian(version, offers[place].Version) < 0 {
				updates, pieces, systems = append(updates, update), append(pieces, software),
					append(systems, strings.Join(offers[place].Systems, ","))
			}
			return nil
		}); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `WITH n AS (SELECT DISTINCT ON (d.id, x.update_id) d.id, x.update_id,
			s.version FROM unnest($1::int[], $2::int[], $3::text[]) x (update_id, software_id, systems)
				JOIN installed i ON i.software_id = x.software_id JOIN software s ON s.id = x.software_id JOIN devices d
				ON d.id = i.device_id AND d.retired_at IS NULL
				WHERE x.systems = '' OR d.os = ANY(string_to_array(x.systems, ',')) ORDER BY d.id, x.update_id, s.version),
			gone AS (DELETE FROM lacking l WHERE NOT EXISTS (SELECT FROM n WHERE (n.id, n.update_id) = (l.device_id, l.update_id)))
			INSERT INTO lacking AS l SELECT * FROM n ON CONFLICT (device_id, update_id) DO UPDATE
			SET from_version = excluded.from_version WHERE l.from_version <> excluded.from_version`, updates, pieces, systems)
		return err
	})
}
