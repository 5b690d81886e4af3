package fleet

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/roster"
)

// listed reads rows for the roster, of all devices when ids is nil.
func (s store) listed(ctx context.Context, ids []uuid.UUID) ([]listed, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+deviceColumns+`, s.id, o.id, d.vitals,
		coalesce(d.facts->>'vendor', ''), coalesce(d.facts->>'kernel', ''), coalesce(d.facts->>'cpu_model', ''), coalesce(d.facts->>'time_zone', ''),
		ARRAY(SELECT i.software_id FROM installed i WHERE i.device_id = d.id ORDER BY i.software_id)`+fromDevices+"($1::uuid[] IS NULL OR d.id = ANY($1))", ids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (l listed, err error) {
		var vitals []byte
		err = row.Scan(append(deviceFields(&l.Device), &l.site, &l.organisation, &vitals, &l.vendor, &l.kernel, &l.processor, &l.zone,
			&l.software)...)
		if err == nil && vitals != nil {
			var v device.Vitals
			err = json.Unmarshal(vitals, &v)
			v.Readings(func(name string, value float64) {
				l.readings = append(l.readings, roster.Reading{Name: name, Value: value})
			})
		}
		return l, err
	})
}

// titles calls add for each piece of software of ids that is known.
func (s store) titles(ctx context.Context, ids []int32, add func(id int32, name, version string)) error {
	rows, err := s.pool.Query(ctx, "SELECT id, name, version FROM software WHERE id = ANY($1)", ids)
	if err != nil {
		return err
	}
	var id int32
	var name, version string
	_, err = pgx.ForEachRow(rows, []any{&id, &name, &version}, func() error { add(id, name, version); return nil })
	return err
}

const groupColumns = `g.id, g.name, g.expression, g.changed_at, g.changed_by, g.organisation_id,
	ARRAY(SELECT m.device_id FROM group_members m JOIN devices d ON d.id = m.device_id AND d.retired_at IS NULL WHERE m.group_id = g.id)`

func scanGroup(row pgx.CollectableRow) (g api.Group, err error) {
	var members []uuid.UUID
	err = row.Scan(&g.ID, &g.Name, &g.Expression, &g.ChangedAt, &g.ChangedBy, &g.Organisation, &members)
	g.Reported, _ = reportedIn(g.Expression) // one that cannot be read any more holds no device
	if g.Reported == nil {
		g.Reported = []string{}
	}
	if g.Expression == "" {
		g.Members = &members
	}
	return g, err
}

// groups lists groups by name, those of own where that is not nil; limit 0 is all.
func (s store) groups(ctx context.Context, own []uuid.UUID, after string, limit int) ([]api.Group, error) {
	var most *int
	if limit > 0 {
		most = &limit
	}
	rows, err := s.pool.Query(ctx, "SELECT "+groupColumns+
		" FROM groups g WHERE g.name > $1 AND ($3::uuid[] IS NULL OR g.id = ANY($3)) ORDER BY g.name LIMIT $2", after, most, own)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanGroup)
}

// setGroup adds a group, or changes the one of this id, with its members.
func (s store) setGroup(ctx context.Context, id, of *uuid.UUID, name, expression string, members []uuid.UUID, by string) (g api.Group,
	err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if id == nil {
			if err := tx.QueryRow(ctx, "INSERT INTO groups (name, expression, changed_at, changed_by, organisation_id) VALUES ($1, $2, "+
				"now(), $3, $4) RETURNING id", name, expression, by, of).Scan(&g.ID); err != nil {
				return err
			}
		} else {
			g.ID = *id
			var at time.Time
			if err := tx.QueryRow(ctx, "UPDATE groups SET name = $2, expression = $3, changed_at = now(), changed_by = $4, "+
				"organisation_id = $5 WHERE id = $1 RETURNING changed_at", g.ID, name, expression, by, of).Scan(&at); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "DELETE FROM group_members WHERE group_id = $1", g.ID); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "INSERT INTO group_members SELECT DISTINCT $1::uuid, d.id FROM devices d WHERE d.id = ANY($2)", g.ID,
			members); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "SELECT "+groupColumns+" FROM groups g WHERE g.id = $1", g.ID)
		if err != nil {
			return err
		}
		g, err = pgx.CollectExactlyOneRow(rows, scanGroup)
		return err
	})
	return g, err
}

// groupOrganisation is whose devices a group holds; nil for one that is global.
func (s store) groupOrganisation(ctx context.Context, id uuid.UUID) (of *uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, "SELECT organisation_id FROM groups WHERE id = $1", id).Scan(&of)
	return of, err
}

func (s store) groupExpression(ctx context.Context, id uuid.UUID) (expression string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT expression FROM groups WHERE id = $1", id).Scan(&expression)
	return expression, err
}

// onlyOrganisation is the one that there is; nil where there are none or several.
func (s store) onlyOrganisation(ctx context.Context) (only *uuid.UUID, err error) {
	rows, err := s.pool.Query(ctx, "SELECT id FROM organisations LIMIT 2")
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	if err != nil || len(all) != 1 {
		return nil, err
	}
	return &all[0], nil
}

func (s store) removeGroup(ctx context.Context, id uuid.UUID) (name string, err error) {
	err = s.pool.QueryRow(ctx, "DELETE FROM groups WHERE id = $1 RETURNING name", id).Scan(&name)
	return name, err
}

// setTags sets a device's tags, and returns its name.
func (s store) setTags(ctx context.Context, id uuid.UUID, tags []string) (name string, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "SELECT name FROM devices WHERE id = $1 AND retired_at IS NULL FOR NO KEY UPDATE",
			id).Scan(&name); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM tags WHERE device_id = $1", id); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO tags SELECT $1, unnest($2::text[])", id, tags)
		return err
	})
	return name, err
}

func (s store) addFavourite(ctx context.Context, person, device uuid.UUID) error {
	_, err := s.pool.Exec(ctx, "INSERT INTO favourites VALUES ($1, $2) ON CONFLICT DO NOTHING", person, device)
	return err
}

func (s store) removeFavourite(ctx context.Context, person, device uuid.UUID) error {
	_, err := s.pool.Exec(ctx, "DELETE FROM favourites WHERE person_id = $1 AND device_id = $2", person, device)
	return err
}

func (s store) favourites(ctx context.Context, person uuid.UUID) ([]uuid.UUID, error) {
	rows, err := s.pool.Query(ctx, "SELECT device_id FROM favourites WHERE person_id = $1", person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}
