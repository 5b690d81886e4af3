package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/bus"
)

// store is every question that this column asks of the database.
type store struct {
	pool *pgxpool.Pool
	bus  *bus.Bus
}

const deviceColumns = `d.id, d.name, o.name, s.name, d.os, d.os_name, d.os_version, d.arch, d.model, d.serial, d.addresses,
	d.capabilities, d.agent_version, d.cores, d.memory_bytes, d.online, d.presence_since, d.last_heard, d.people, d.last_people, d.last_people_at, d.alias, d.note, d.cpu, d.memory, d.disk, d.condition,
	ARRAY(SELECT t.tag FROM tags t WHERE t.device_id = d.id ORDER BY t.tag)`

const fromDevices = ` FROM devices d JOIN sites s ON s.id = d.site_id JOIN organisations o ON o.id = s.organisation_id
	WHERE d.retired_at IS NULL AND `

func scanDevice(row pgx.CollectableRow) (d api.Device, err error) {
	return d, row.Scan(deviceFields(&d)...)
}

func deviceFields(d *api.Device) []any {
	return []any{&d.ID, &d.Name, &d.Organisation, &d.Site, &d.OS, &d.OSName, &d.OSVersion, &d.Arch, &d.Model, &d.Serial, &d.Addresses,
		&d.Capabilities, &d.AgentVersion, &d.Cores, &d.MemoryBytes, &d.Online, &d.Since, &d.LastHeard, &d.People, &d.LastPeople,
		&d.LastPeopleAt, &d.Alias, &d.Note, &d.CPU, &d.Memory, &d.Disk, &d.Condition, &d.Tags}
}

func (s store) collect(ctx context.Context, query string, args ...any) ([]api.Device, error) {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDevice)
}

func (s store) devices(ctx context.Context, after place, limit int) ([]api.Device, error) {
	return s.collect(ctx, "SELECT "+deviceColumns+fromDevices+"(d.name, d.id) > ($1, $2) ORDER BY d.name, d.id LIMIT $3", after.Name,
		after.ID, limit)
}

func (s store) devicesAt(ctx context.Context, addresses []string) ([]api.Device, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+deviceColumns+fromDevices+"d.addresses && $1 ORDER BY d.name, d.id LIMIT 5000", addresses)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDevice)
}

func (s store) devicesByID(ctx context.Context, ids []uuid.UUID) ([]api.Device, error) {
	return s.collect(ctx, "SELECT "+deviceColumns+fromDevices+"d.id = ANY($1)", ids)
}

func (s store) devicesNamed(ctx context.Context, name string) ([]api.Device, error) {
	return s.collect(ctx, "SELECT "+deviceColumns+fromDevices+"lower(d.name) = lower($1) ORDER BY d.name, d.id LIMIT 20", name)
}

func (s store) detail(ctx context.Context, id uuid.UUID) (d api.DeviceDetail, err error) {
	var facts, vitals []byte
	err = s.pool.QueryRow(ctx, "SELECT "+deviceColumns+", d.enrolled_at, d.facts, d.vitals"+fromDevices+"d.id = $1", id).
		Scan(append(deviceFields(&d.Device), &d.EnrolledAt, &facts, &vitals)...)
	if err != nil {
		return d, err
	}
	if facts != nil {
		d.Facts = new(device.Facts)
		err = json.Unmarshal(facts, d.Facts)
	}
	if vitals != nil {
		d.Vitals = new(device.Vitals)
		err = errors.Join(err, json.Unmarshal(vitals, d.Vitals))
	}
	if err != nil {
		return d, err
	}
	rows, err := s.pool.Query(ctx, "SELECT check_name, subject, level, message, since, pending FROM findings WHERE device_id = $1 ORDER "+
		"BY since DESC", id)
	if err != nil {
		return d, err
	}
	d.Findings, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (f health.Finding, err error) {
		return f, row.Scan(&f.Check, &f.Subject, &f.Level, &f.Message, &f.Since, &f.Pending)
	})
	slices.SortStableFunc(d.Findings, health.ByHarm)
	return d, err
}

// retire returns the device's name.
func (s store) retire(ctx context.Context, id uuid.UUID) (name string, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		name, err = s.retireIn(ctx, tx, id)
		return err
	})
	return name, err
}

// retireIn retires a device in a transaction, with what others keep of it.
func (s store) retireIn(ctx context.Context, tx pgx.Tx, id uuid.UUID) (name string, err error) {
	if err := tx.QueryRow(ctx, "UPDATE devices SET retired_at = now(), online = false WHERE id = $1 AND retired_at IS NULL RETURNING name",
		id).Scan(&name); err != nil {
		return name, err
	}
	return name, s.bus.DeviceRetiring.Do(ctx, bus.DeviceRetiring{Tx: tx, Device: id})
}

// move gives a device to another site, with what others keep of it.
func (s store) move(ctx context.Context, id, site uuid.UUID) (name string, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "UPDATE devices SET site_id = $2 WHERE id = $1 AND retired_at IS NULL RETURNING name", id,
			site).Scan(&name); err != nil {
			return err
		}
		return s.bus.DeviceMoving.Do(ctx, bus.DeviceMoving{Tx: tx, Device: id, Site: site})
	})
	return name, err
}

// key returns the key a device enrolled with, and whether the device is retired. One that goes on as another is
// not: it has the other's key.
func (s store) key(ctx context.Context, id uuid.UUID) (key []byte, retired bool, err error) {
	err = s.pool.QueryRow(ctx, `SELECT coalesce(n.public_key, d.public_key), d.retired_at IS NOT NULL AND n.id IS NULL
		FROM devices d LEFT JOIN devices n ON n.id = d.successor_id AND n.retired_at IS NULL WHERE d.id = $1`, id).Scan(&key, &retired)
	return key, retired, err
}

func (s store) audience(ctx context.Context) (audience string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT value FROM service WHERE name = 'audience'").Scan(&audience)
	return audience, err
}

type organisation struct {
	ID    uuid.UUID
	Name  string
	Sites []api.Site
}

// organisations lists organisations with their sites; of a view those whose sites or devices it holds.
func (s store) organisations(ctx context.Context, view []uuid.UUID, after string, limit int) ([]organisation, error) {
	rows, err := s.pool.Query(ctx, `WITH own AS (
		SELECT s.* FROM sites s WHERE $3::uuid[] IS NULL OR s.id = ANY($3) OR EXISTS (SELECT FROM devices d WHERE d.site_id = s.id
		AND d.id = ANY($3)))
		SELECT o.id, o.name, s.id, s.name FROM (SELECT * FROM organisations o WHERE o.name > $1 AND ($3::uuid[] IS NULL
		OR o.id IN (SELECT organisation_id FROM own)) ORDER BY o.name LIMIT $2) o
		LEFT JOIN own s ON s.organisation_id = o.id ORDER BY o.name, s.name`, after, limit, view)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []organisation
	for rows.Next() {
		var o organisation
		var site *uuid.UUID
		var name *string
		if err := rows.Scan(&o.ID, &o.Name, &site, &name); err != nil {
			return nil, err
		}
		if len(all) == 0 || all[len(all)-1].ID != o.ID {
			o.Sites = []api.Site{}
			all = append(all, o)
		}
		if site != nil {
			last := &all[len(all)-1]
			last.Sites = append(last.Sites, api.Site{ID: *site, Name: *name, Organisation: o.Name})
		}
	}
	return all, rows.Err()
}

// renameOrganisation gives an organisation another name, and returns the one before with the devices that stand there.
func (s store) renameOrganisation(ctx context.Context, id uuid.UUID, name string) (before string, devices []uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, `WITH old AS (SELECT name FROM organisations WHERE id = $1),
		new AS (UPDATE organisations SET name = $2 WHERE id = $1)
		SELECT old.name, ARRAY(SELECT d.id FROM devices d JOIN sites s ON s.id = d.site_id WHERE s.organisation_id = $1) FROM old`,
		id, name).Scan(&before, &devices)
	return before, devices, err
}

// renameSite is renameOrganisation for a site.
func (s store) renameSite(ctx context.Context, id uuid.UUID, name string) (before string, devices []uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, `WITH old AS (SELECT name FROM sites WHERE id = $1), new AS (UPDATE sites SET name = $2 WHERE id = $1)
		SELECT old.name, ARRAY(SELECT id FROM devices WHERE site_id = $1) FROM old`, id, name).Scan(&before, &devices)
	return before, devices, err
}

// setNote sets what people call a device and note about it; nothing is kept of empty texts.
func (s store) setNote(ctx context.Context, id uuid.UUID, alias, note string) (name string, err error) {
	err = s.pool.QueryRow(ctx, "UPDATE devices SET alias = nullif($2, ''), note = nullif($3, '') WHERE id = $1 AND retired_at IS NULL "+
		"RETURNING name", id, alias, note).Scan(&name)
	return name, err
}

// sites hands every site to each, with its organisation.
func (s store) sites(ctx context.Context, each func(site, organisation uuid.UUID)) error {
	rows, err := s.pool.Query(ctx, "SELECT id, organisation_id FROM sites")
	if err != nil {
		return err
	}
	var site, organisation uuid.UUID
	_, err = pgx.ForEachRow(rows, []any{&site, &organisation}, func() error { each(site, organisation); return nil })
	return err
}

// organisationOf finds the organisation of a site; "" where there is no such site.
func (s store) organisationOf(ctx context.Context, site string) (id string, err error) {
	err = s.pool.QueryRow(ctx, "SELECT coalesce((SELECT organisation_id::text FROM sites WHERE id::text = $1), '')", site).Scan(&id)
	return id, err
}

// site finds a site, and makes it and its organisation where they are missing.
func (s store) site(ctx context.Context, organisation, name string) (id uuid.UUID, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var owner uuid.UUID
		if err := tx.QueryRow(ctx, "INSERT INTO organisations (name) VALUES ($1) ON CONFLICT (name) DO UPDATE SET name = excluded.name "+
			"RETURNING id", organisation).Scan(&owner); err != nil {
			return err
		}
		return tx.QueryRow(ctx, "INSERT INTO sites (organisation_id, name) VALUES ($1, $2) ON CONFLICT (organisation_id, name) DO "+
			"UPDATE SET name = excluded.name RETURNING id", owner, name).Scan(&id)
	})
	return id, err
}

// knownSite finds a site that is there.
func (s store) knownSite(ctx context.Context, organisation, name string) (id uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx,
		"SELECT s.id FROM sites s JOIN organisations o ON o.id = s.organisation_id WHERE o.name = $1 AND s.name = $2", organisation,
		name).Scan(&id)
	return id, err
}

const tokenColumns = "t.id, o.name, s.name, t.uses, t.used, t.expires_at, t.created_at, t.created_by, t.revoked_at, t.approval"

func scanToken(row pgx.CollectableRow) (t api.EnrolmentToken, err error) {
	return t, row.Scan(&t.ID, &t.Organisation, &t.Site, &t.Uses, &t.Used, &t.ExpiresAt, &t.CreatedAt, &t.CreatedBy, &t.RevokedAt,
		&t.Approval)
}

func (s store) tokens(ctx context.Context, view []uuid.UUID, before time.Time, limit int) ([]api.EnrolmentToken, error) {
	rows, err := s.pool.Query(ctx, "SELECT "+tokenColumns+
		` FROM enrolment_tokens t JOIN sites s ON s.id = t.site_id JOIN organisations o ON o.id = s.organisation_id
		WHERE t.created_at < $1 AND ($3::uuid[] IS NULL OR t.site_id = ANY($3)) ORDER BY t.created_at DESC LIMIT $2`, before, limit, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanToken)
}

// maker is who makes an enrolment token: a person, or the service where person is uuid.Nil.
type maker struct {
	person uuid.UUID
	name   string
}

func (s store) addToken(ctx context.Context, hash []byte, site uuid.UUID, uses int, approval bool, expires time.Time,
	by maker) (t api.EnrolmentToken, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		t, err = addToken(ctx, tx, hash, site, uses, approval, expires, by)
		return err
	})
	return t, err
}

func addToken(ctx context.Context, tx pgx.Tx, hash []byte, site uuid.UUID, uses int, approval bool, expires time.Time,
	by maker) (t api.EnrolmentToken, err error) {
	rows, err := tx.Query(ctx, `WITH t AS (INSERT INTO enrolment_tokens (hash, site_id, uses, approval, expires_at, created_at,
		created_by, person_id)
		VALUES ($1, $2, $3, $6, $4, clock_timestamp(), $5, nullif($7, '00000000-0000-0000-0000-000000000000'::uuid)) RETURNING *)
		SELECT `+tokenColumns+" FROM t JOIN sites s ON s.id = t.site_id JOIN organisations o ON o.id = s.organisation_id", hash, site,
		uses, expires, by.name, approval, by.person)
	if err != nil {
		return t, err
	}
	return pgx.CollectExactlyOneRow(rows, scanToken)
}

func (s store) revokeToken(ctx context.Context, view []uuid.UUID, id uuid.UUID) error {
	var site string
	return s.pool.QueryRow(ctx, "UPDATE enrolment_tokens SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL AND ($2::uuid[] IS "+
		"NULL OR site_id = ANY($2)) RETURNING site_id", id, view).Scan(&site)
}

// Reasons why an enrolment token does not hold.
var (
	errUnknown = errors.New("it is not one of this service")
	errRevoked = errors.New("it was revoked")
	errExpired = errors.New("it has expired")
	errUsedUp  = errors.New("it was used as often as it allows")
)

// orphaned tells whether whoever made a token may not enrol devices at its site any more.
func (s store) orphaned(ctx context.Context, hash []byte) (bool, error) {
	asked := bus.PersonMay{Permission: access.FleetEnrol}
	err := s.pool.QueryRow(ctx, `SELECT t.person_id, s.id::text, s.organisation_id::text FROM enrolment_tokens t
		JOIN sites s ON s.id = t.site_id WHERE t.hash = $1 AND t.person_id IS NOT NULL`, hash).Scan(&asked.Person, &asked.Site,
		&asked.Organisation)
	if errors.Is(err, pgx.ErrNoRows) { // the service made it, or there is no such token
		return false, nil
	}
	if err != nil {
		return false, err
	}
	may, err := s.bus.PersonMay.Ask(ctx, asked)
	return !may, err
}

// enrol spends one use of a token and adds the device, both or neither. The device waits to be let in where the token
// says so, or where its maker may not enrol devices any more.
func (s store) enrol(ctx context.Context, hash []byte, id uuid.UUID, name string, key []byte) (e api.Enrolled, err error) {
	e.Device, e.Name = id, name
	orphaned, err := s.orphaned(ctx, hash)
	if err != nil {
		return e, err
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var site uuid.UUID
		var uses, used int
		var expired, revoked, waiting bool
		err := tx.QueryRow(ctx, `SELECT t.site_id, o.name, s.name, t.uses, t.used, t.expires_at <= now(), t.revoked_at IS NOT NULL,
			t.approval
			FROM enrolment_tokens t JOIN sites s ON s.id = t.site_id JOIN organisations o ON o.id = s.organisation_id
			WHERE t.hash = $1 FOR UPDATE OF t`, hash).Scan(&site, &e.Organisation, &e.Site, &uses, &used, &expired, &revoked, &waiting)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return errUnknown
		case err != nil:
			return err
		case revoked:
			return errRevoked
		case expired:
			return errExpired
		case used >= uses:
			return errUsedUp
		}
		if _, err := tx.Exec(ctx, "UPDATE enrolment_tokens SET used = used + 1 WHERE hash = $1", hash); err != nil {
			return err
		}
		waiting = waiting || orphaned
		_, err = tx.Exec(ctx, "INSERT INTO devices (id, site_id, name, public_key, enrolled_at, presence_since, waiting) VALUES ($1, "+
			"$2, $3, $4, now(), now(), $5)",
			id, site, name, key, waiting)
		e.Waiting = &waiting
		return err
	})
	return e, err
}

func (s store) setFacts(ctx context.Context, id uuid.UUID, f device.Facts) error {
	text, err := json.Marshal(f)
	if err != nil {
		return err
	}
	_, err = s.pool.Exec(ctx, `UPDATE devices SET name = $2, facts = $3, os = $4, os_name = $5, os_version = $6, arch = $7, model = $8,
		serial = $9,
		addresses = $10, capabilities = $11, agent_version = $12, cores = $13, memory_bytes = $14 WHERE id = $1`,
		id, f.HostName, text, f.OS, f.OSName, f.OSVersion, f.Arch, f.Model, f.Serial, f.Addresses, f.Capabilities, f.AgentVersion, f.Cores,
		f.MemoryBytes)
	return err
}

// setPresence notes that devices came or went. Rows are locked in order, as every writer of many
// devices does, so that none waits for another in a circle.
func (s store) setPresence(ctx context.Context, changes []presence) error {
	ids, online, at := make([]uuid.UUID, len(changes)), make([]bool, len(changes)), make([]time.Time, len(changes))
	for i, c := range changes {
		ids[i], online[i], at[i] = c.device, c.online, c.at
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT FROM devices WHERE id = ANY($1) ORDER BY id FOR NO KEY UPDATE", ids); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE devices d SET online = c.online, last_heard = c.at,
			presence_since = CASE WHEN d.online = c.online THEN d.presence_since ELSE c.at END
			FROM unnest($1::uuid[], $2::bool[], $3::timestamptz[]) c (id, online, at) WHERE d.id = c.id AND d.retired_at IS NULL`,
			ids, online, at)
		return err
	})
}

// allSilent notes that no device is connected, and returns those that are not judged so yet.
func (s store) allSilent(ctx context.Context) ([]uuid.UUID, error) {
	if _, err := s.pool.Exec(ctx,
		"UPDATE devices SET online = false, presence_since = coalesce(last_heard, now()) WHERE online"); err != nil {
		return nil, err
	}
	rows, err := s.pool.Query(ctx, "SELECT id FROM devices WHERE condition <> 'silent' AND retired_at IS NULL")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

func (s store) setConflict(ctx context.Context, id uuid.UUID, at time.Time) (name string, err error) {
	err = s.pool.QueryRow(ctx, "UPDATE devices SET conflict_at = $2 WHERE id = $1 RETURNING name", id, at).Scan(&name)
	return name, err
}

// setExceeded notes what a device had too much of. It fails with pgx.ErrNoRows where that was noted after last.
func (s store) setExceeded(ctx context.Context, id uuid.UUID, what string, last time.Time) (name string, err error) {
	err = s.pool.QueryRow(ctx, "UPDATE devices SET exceeded_at = now(), exceeded = $2 WHERE id = $1 AND (exceeded_at IS NULL OR "+
		"exceeded_at < $3 OR exceeded <> $2) RETURNING name",
		id, what, last).Scan(&name)
	return name, err
}
