package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/agent/host/native"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/part"
	"moorwatch.example/service/vitals"
	"moorwatch.example/uplink"
)

// history measures what keeping readings costs: taking them in, at rest, and reading a month back.
func (b *bench) history() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	return errors.Join(b.ingest(w), b.rest(w))
}

// How much is taken in at once.
const (
	ingestLinks   = 40
	ingestBatches = 4 // of link.MaxSends reports, each link: as many as a device may send at once
)

// reporter is a device's link without an agent.
func (w *world) reporter(ctx context.Context, name string) (c *http.Client, id uuid.UUID, hangUp func(), err error) {
	token, err := w.enrolmentToken(ctx, 1)
	if err != nil {
		return nil, id, nil, err
	}
	dir := filepath.Join(w.dir, name)
	i, err := identity.Enrol(ctx, dir, w.url, token, device.Facts{HostName: name})
	if err != nil {
		return nil, id, nil, err
	}
	l, err := i.Dialer().Dial(ctx)
	if err != nil {
		return nil, id, nil, err
	}
	c = &http.Client{Transport: uplink.Transport(func(context.Context, string) (net.Conn, error) { return l.Open(ctx) })}
	return c, uuid.MustParse(i.Device), func() { l.Close() }, nil
}

func send(c *http.Client, batch link.Batch) error {
	body, err := json.Marshal(batch)
	if err != nil {
		return err
	}
	answer, err := c.Post("http://service/reports", "application/json", bytes.NewReader(body))
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("the service answers %s: %s", answer.Status, text)
	}
	return err
}

// ingest sends kept reports over several links at once, and counts the samples that are on disk;
// beside it the same rows by a bare COPY.
func (b *bench) ingest(w *world) error {
	pool, err := pgxpool.New(b.ctx, w.database.Owner)
	if err != nil {
		return err
	}
	defer pool.Close()
	d := sim.Device{Name: "ingest", Kind: sim.Server, Seed: 5}
	samples := 0
	v := d.At(time.Now())
	v.Readings(func(string, float64) { samples++ })
	var links []*http.Client
	for i := range ingestLinks {
		c, _, hangUp, err := w.reporter(b.ctx, fmt.Sprintf("ingest-%d", i))
		if err != nil {
			return err
		}
		defer hangUp()
		links = append(links, c)
	}
	// What the devices kept while they were away: made before the clock starts.
	batches := make([]link.Batch, ingestBatches)
	end := time.Now()
	for i := range batches {
		batches[i].Sent = end
		for r := range link.MaxSends {
			seq := i*link.MaxSends + r + 1
			batches[i].Reports = append(batches[i].Reports,
				link.Report{Seq: uint64(seq), Vitals: d.At(end.Add(time.Duration(seq-ingestBatches*link.MaxSends) * time.Second))})
		}
	}
	failed := make(chan error, ingestLinks)
	var running sync.WaitGroup
	began := time.Now()
	for _, c := range links {
		running.Go(func() {
			epoch := uuid.NewString()
			for _, batch := range batches {
				batch.Epoch = epoch
				if err := send(c, batch); err != nil {
					failed <- err
					return
				}
			}
		})
	}
	running.Wait()
	took := time.Since(began).Seconds()
	if len(failed) > 0 {
		return <-failed
	}
	count := float64(ingestLinks * ingestBatches * link.MaxSends * samples)
	b.figure("ingest, link to committed row", count/took, "sample/s", 100_000, false)
	rows := ingestLinks * ingestBatches * link.MaxSends
	if _, err := pool.Exec(b.ctx, "CREATE TABLE bare (device_id uuid, at timestamptz, layout int, samples bytea)"); err != nil {
		return err
	}
	row := make([]byte, 40)
	id, n := uuid.New(), 0
	began = time.Now()
	if _, err := pool.CopyFrom(b.ctx, pgx.Identifier{"bare"}, []string{"device_id", "at", "layout", "samples"},
		pgx.CopyFromFunc(func() ([]any, error) {
			if n++; n > rows {
				return nil, nil
			}
			return []any{id, end, 1, row}, nil
		})); err != nil {
		return err
	}
	bare := count / time.Since(began).Seconds()
	b.figure("  bare COPY of as many rows", bare, "sample/s", bare, false)
	_, err = pool.Exec(b.ctx, "DROP TABLE bare")
	return err
}

// readEvery is how often this machine is read for the figure of what a sample takes; the readings
// are kept as if half a minute lay between them, which is what a busy machine reads like.
const (
	readEvery = 100 * time.Millisecond
	readTimes = 960
)

// rest measures what a sample of this machine's own vitals takes once it is compressed, roll-ups
// and indexes included, and how long a chart of a month takes among 5,000 devices with such.
func (b *bench) rest(w *world) error {
	pool, err := pgxpool.New(b.ctx, w.database.Owner)
	if err != nil {
		return err
	}
	defer pool.Close()
	table, samples := &series.Table{}, 0
	meter := native.New().Meter
	start := time.Now().Add(-30 * 24 * time.Hour).Truncate(24 * time.Hour)
	for i := range readTimes {
		began := time.Now()
		v, err := meter.Vitals(b.ctx)
		if err != nil {
			return err
		}
		table.Append(start.Add(time.Duration(i)*30*time.Second), func(yield func(string, float64)) {
			v.Readings(func(name string, value float64) { samples++; yield(name, value) })
		})
		time.Sleep(readEvery - time.Since(began))
	}
	v := vitals.New(part.Base{Pool: pool, Bus: &bus.Bus{}}, nil, nil, nil, series.UsualKeep)
	if _, err := pool.Exec(b.ctx, "TRUNCATE chunks"); err != nil {
		return err
	}
	const copies = 200
	for range copies {
		if err := v.Import(b.ctx, uuid.New(), table); err != nil {
			return err
		}
	}
	var size float64
	if err := pool.QueryRow(b.ctx, "SELECT pg_total_relation_size('chunks')").Scan(&size); err != nil {
		return err
	}
	b.figure("at rest, roll-ups and indexes too", size/float64(samples*copies), "byte", 2, true)
	return b.month(w, pool, table)
}

// month gives 5,000 devices a month of five minutes, and reads one reading of one of them back.
func (b *bench) month(w *world, pool *pgxpool.Pool, lately *series.Table) error {
	_, id, hangUp, err := w.reporter(b.ctx, "month")
	if err != nil {
		return err
	}
	defer hangUp()
	v := vitals.New(part.Base{Pool: pool, Bus: &bus.Bus{}}, nil, nil, nil, series.UsualKeep)
	whole := &series.Table{}
	end := time.Now().Add(-4 * time.Hour)
	for at := end.Add(-30 * 24 * time.Hour); at.Before(end); at = at.Add(150 * time.Second) {
		row := int(at.Unix()/150) % lately.Rows()
		whole.Append(at, func(yield func(string, float64)) {
			for _, c := range lately.Columns {
				if row < len(c.Values) {
					yield(c.Name, c.Values[row])
				}
			}
		})
	}
	if err := v.Import(b.ctx, id, whole); err != nil {
		return err
	}
	began := time.Now()
	if _, err := pool.Exec(b.ctx,
		`INSERT INTO chunks SELECT md5(i::text)::uuid, tier, start, data FROM chunks, generate_series(1, 4999) i WHERE device_id = $1 AND tier = 1`, id); err != nil {
		return err
	}
	fmt.Printf("# 5,000 devices were given a month of history in %.0f s\n", time.Since(began).Seconds())
	if _, err := pool.Exec(b.ctx, "ANALYZE chunks"); err != nil {
		return err
	}
	from, buckets, names := time.Now().Add(-30*24*time.Hour), 300, []string{"cpu"}
	var all []float64
	for range 25 {
		began := time.Now()
		h, err := client.Result(w.client.GetReadingsWithResponse(b.ctx, id,
			&api.GetReadingsParams{From: &from, Buckets: &buckets, Name: &names}))
		if err != nil {
			return err
		}
		if len(h.At) < 280 {
			return fmt.Errorf("the chart has %d points", len(h.At))
		}
		all = append(all, ms(time.Since(began)))
	}
	b.figure("chart of 30 days, 5000 devices", quantile(all, 0.95), "ms", 50, true)
	_, err = pool.Exec(b.ctx, "TRUNCATE chunks")
	return err
}

// alerts measures how long it takes from a report's sending until an open console hears of its
// alert, while the whole fleet reports.
func (b *bench) alerts(w *world) error {
	c, id, hangUp, err := w.reporter(b.ctx, "alerts")
	if err != nil {
		return err
	}
	defer hangUp()
	heard, closeStream, err := w.hear(b.ctx)
	if err != nil {
		return err
	}
	defer closeStream()
	epoch := uuid.NewString()
	var all []float64
	for i := range 100 {
		for len(heard) > 0 {
			<-heard
		}
		v := device.Vitals{At: time.Now(), CPU: 5, Memory: 40,
			Disks: []device.Disk{{Mount: fmt.Sprintf("/srv/%03d", i), TotalBytes: 100, UsedBytes: 99}}}
		began := time.Now()
		if err := send(c, link.Batch{Epoch: epoch, Sent: began, Reports: []link.Report{{Seq: uint64(i + 1), Vitals: v}}}); err != nil {
			return err
		}
		for mine := false; !mine; { // others may have alerts at the same time
			select {
			case <-heard:
			case <-time.After(10 * time.Second):
				return errors.New("no alert was heard of within 10 s")
			}
			took := ms(time.Since(began))
			page, err := client.Result(w.client.ListAlertsWithResponse(b.ctx, &api.ListAlertsParams{Device: &id}))
			if err != nil {
				return err
			}
			if mine = len(page.Items) > 0 && page.Items[0].Subject == v.Disks[0].Mount; mine {
				all = append(all, took)
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	b.figure(fmt.Sprintf("report to alert, p99 of 100, %d", b.devices), quantile(all, 0.99), "ms", 1000, true)
	return nil
}

// sweepAll measures how long it takes until every device has answered a question.
func (b *bench) sweepAll(w *world) error {
	where := "name.startsWith('bench-') && online"
	var all []float64
	for range 3 {
		began, answers := time.Now(), 0
		err := w.client.Sweep(b.ctx, api.Sweep{Where: &where, Question: link.Question{Kind: link.AskProcess, Name: "a*"}},
			func(e api.SweepEvent) error {
				if e.Answer != nil {
					answers++
				}
				return nil
			})
		if err != nil {
			return err
		}
		if answers < b.devices {
			return fmt.Errorf("%d of %d devices answered", answers, b.devices)
		}
		all = append(all, time.Since(began).Seconds())
	}
	b.figure(fmt.Sprintf("sweep over %d devices", b.devices), median(all), "s", 3, true)
	return nil
}

// groups measures the preview of a group over 10,000 devices.
func (b *bench) groups(w *world) error {
	pool, err := pgxpool.New(b.ctx, w.database.Owner)
	if err != nil {
		return err
	}
	defer pool.Close()
	const devices = 10_000
	if _, err := pool.Exec(b.ctx, `INSERT INTO devices (id, site_id, name, public_key, enrolled_at, presence_since, os, os_name, os_version,
		addresses, serial, cpu, memory, disk)
		SELECT gen_random_uuid(), (SELECT id FROM sites LIMIT 1), 'many-' || i, decode(md5('g' || i), 'hex'), now(), now(), 'windows', 'Windows 11 Pro', '24H2',
			ARRAY['192.0.2.' || i % 250], 'CS-' || i, i % 100, i % 90, i % 80 FROM generate_series(1, $1 - (SELECT count(*)
			FROM devices)) i`, devices); err != nil {
		return err
	}
	count := func(expression string) (*api.GroupPreview, error) {
		return client.Result(w.client.PreviewGroupWithResponse(b.ctx, api.Expression{Expression: expression}))
	}
	for range 200 { // until the service has read them
		p, err := count("true")
		if err != nil {
			return err
		}
		if p.Of >= devices {
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	var all []float64
	for range 20 {
		began := time.Now()
		p, err := count(`os == "windows" && disk > 40 && !("loan" in tags) && name.startsWith("many-1")`)
		if err != nil {
			return err
		}
		if p.Of < devices {
			return fmt.Errorf("the preview is of %d devices", p.Of)
		}
		all = append(all, ms(time.Since(began)))
	}
	b.figure("group preview, 10000 devices", quantile(all, 0.95), "ms", 100, true)
	return nil
}
