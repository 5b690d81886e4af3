package main

import (
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/patch"
	"moorwatch.example/core/update"
)

// What is missing in the figures of updates: so many updates at each of so many devices.
const (
	patchDevices = 10_000
	patchUpdates = 200
	rehearsals   = 100
)

// patches measures with which rates of error rollouts are held, and how long exposure and a plan take.
func (b *bench) patches() error {
	bad, good := 0, 0
	for seed := range uint64(rehearsals) {
		if patch.Rehearse(seed, b.devices, 0.12) == 0 {
			bad++
		}
		if patch.Rehearse(1000+seed, b.devices, 0) >= 0 {
			good++
		}
	}
	b.figure("bad rollouts held before ring two", float64(bad), "of 100", rehearsals, false)
	b.figure("good rollouts held", max(float64(good), 0.1), "of 100", 5, true)
	w, err := b.begin()
	if err != nil {
		return err
	}
	pool, err := pgxpool.New(b.ctx, w.database.Owner)
	if err != nil {
		return err
	}
	defer pool.Close()
	for _, query := range []string{
		fmt.Sprintf(`INSERT INTO devices (id, site_id, name, public_key, enrolled_at, presence_since, os, os_name, os_version, addresses,
			serial, capabilities)
			SELECT gen_random_uuid(), (SELECT id FROM sites LIMIT 1), 'patch-' || i, decode(md5('p' || i), 'hex'), now(), now(),
			'linux', 'Debian GNU/Linux', '12', ARRAY['192.0.2.' || i %% 250], 'CS-' || i, ARRAY['updates', 'commands']
			FROM generate_series(1, %d) i`, patchDevices),
		fmt.Sprintf(`INSERT INTO updates (source, name, to_version, content) SELECT 'apt', 'pack-' || i, '2.' || i,
			jsonb_build_object('source', 'apt', 'name', 'pack-' || i, 'to', '2.' || i, 'class', CASE WHEN i %% 3 = 0 THEN 'security' ELSE 'other' END, 'severity', CASE WHEN i %% 3 = 0 THEN 'high' ELSE '' END)
			FROM generate_series(1, %d) i`, 3*patchUpdates),
		`INSERT INTO missing (device_id, digest, problem, told_at, updates) SELECT d.id, repeat('0', 64),
			'', now(), ARRAY(SELECT u.id FROM (SELECT id, row_number() OVER (ORDER BY id) n FROM updates WHERE name LIKE 'pack-%') u WHERE (u.n + d.n) % 3 = 0)
			FROM (SELECT id, row_number() OVER () n FROM devices WHERE name LIKE 'patch-%') d`,
		"ANALYZE missing", "ANALYZE updates", "ANALYZE devices"} {
		if _, err := pool.Exec(b.ctx, query); err != nil {
			return err
		}
	}
	if _, err := client.Made(w.client.AddApprovalWithResponse(b.ctx,
		patch.Rule{Name: "Security", Do: patch.Approve, Scope: health.Scope{Kind: health.Everywhere},
			Classes: []update.Class{update.Security}})); err != nil {
		return err
	}
	spec := patch.Rollout{Name: "All", Restart: patch.RestartNever, WaitHours: 1,
		Rings: []patch.Ring{{Name: "a", Share: 5, SoakMinutes: 60}, {Name: "b", Share: 25, SoakMinutes: 60}, {Name: "c"}}}
	var took []float64
	// The devices were put into the database beside the service, which reads all of it once a minute.
	readBy := time.Now().Add(2 * time.Minute)
	for len(took) < 3 {
		began := time.Now()
		page, err := client.Result(w.client.ListExposureWithResponse(b.ctx, &api.ListExposureParams{}))
		if err != nil {
			return err
		}
		if page.Totals.Devices < patchDevices {
			if began.After(readBy) {
				return fmt.Errorf("%d devices tell of updates", page.Totals.Devices)
			}
			time.Sleep(200 * time.Millisecond)
			continue
		}
		r, err := client.Made(w.client.AddRolloutWithResponse(b.ctx,
			api.NewRollout{Spec: spec, Where: new("name.startsWith('patch-')"), Plan: new(true)}))
		if err != nil && began.Before(readBy) { // the roster does not have them yet
			time.Sleep(time.Second)
			continue
		}
		if err != nil {
			return err
		}
		if r.Rings[2].States["planned"] == 0 {
			return fmt.Errorf("the plan has nothing to do: %+v", r.Rings)
		}
		took = append(took, time.Since(began).Seconds())
	}
	b.figure("exposure and plan of 10,000 devices", median(took), "s", 2, true)
	return nil
}
