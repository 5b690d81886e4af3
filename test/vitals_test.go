package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/agent"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
	"moorwatch.example/service"
	"moorwatch.example/service/db/cluster"
	"moorwatch.example/uplink"
)

// startFails starts a service that is expected to refuse.
func startFails(t *testing.T, w *world) (*service.Service, error) {
	t.Helper()
	s, err := service.Start(t.Context(), w.config)
	if err == nil {
		s.Stop()
	}
	return s, err
}

// reporter is a device's link without an agent, to say what no agent would.
type reporter struct {
	id     uuid.UUID
	client *http.Client
}

func (w *world) reporter(t *testing.T, name string) *reporter {
	t.Helper()
	dir, id := w.enrol(t, name)
	return &reporter{id, connect(t, dir)}
}

func connect(t *testing.T, dir string) *http.Client {
	t.Helper()
	l, err := must(identity.Load(dir))(t).Dialer().Dial(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return &http.Client{Transport: uplink.Transport(func(ctx context.Context, _ string) (net.Conn, error) { return l.Open(ctx) })}
}

func (r *reporter) send(t *testing.T, body io.Reader) (int, link.Receipt, string) {
	t.Helper()
	answer, err := r.client.Post("http://service/reports", "application/json", body)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text := must(io.ReadAll(answer.Body))(t)
	var receipt link.Receipt
	json.Unmarshal(text, &receipt)
	return answer.StatusCode, receipt, string(text)
}

func batch(t *testing.T, epoch string, sent time.Time, reports ...link.Report) io.Reader {
	t.Helper()
	return bytes.NewReader(must(json.Marshal(link.Batch{Epoch: epoch, Sent: sent, Reports: reports}))(t))
}

// stored lists when the stored reports of a device were taken.
func (w *world) stored(t *testing.T, id uuid.UUID) (times []time.Time) {
	t.Helper()
	times, _ = kept(t, w.config.Database, id, "cpu")
	return times
}

// kept reads what a database keeps of a reading: the chunks, then what is not compressed yet.
func kept(t *testing.T, address string, id uuid.UUID, name string) (times []time.Time, values []float64) {
	t.Helper()
	db := must(pgx.Connect(t.Context(), address))(t)
	defer db.Close(context.Background())
	rows := must(db.Query(t.Context(), "SELECT data FROM chunks WHERE device_id = $1 AND tier = 0 ORDER BY start", id))(t)
	for _, data := range must(pgx.CollectRows(rows, pgx.RowTo[[]byte]))(t) {
		table := must(series.Decode(data, func(column string) bool { return column == name }))(t)
		times, values = append(times, table.At...), append(values, table.Columns[0].Values...)
	}
	rows = must(db.Query(t.Context(), "SELECT r.at, r.samples, l.names FROM readings r JOIN layouts l ON l.id = r.layout WHERE "+
		"r.device_id = $1 ORDER BY r.at", id))(t)
	var at time.Time
	var samples []byte
	var names []string
	must(pgx.ForEachRow(rows, []any{&at, &samples, &names}, func() error {
		times = append(times, at)
		return series.Row(samples, len(names), func(i int) series.Quantum { return device.QuantumOf(names[i]) }, func(i int, v float64) {
			if names[i] == name {
				values = append(values, v)
			}
		})
	}))(t)
	return times, values
}

func TestEachReportIsStoredOnce(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	r := w.reporter(t, "hay-desk-01")
	epoch, now := uuid.NewString(), time.Now()
	report := func(seq uint64) link.Report {
		return link.Report{Seq: seq, Vitals: device.Vitals{At: now.Add(time.Duration(seq) * time.Millisecond), CPU: 5, Memory: 50}}
	}
	for _, seqs := range [][]uint64{{1, 2}, {1, 2}, {2, 3}, {3}, {4, 7}} {
		var list []link.Report
		for _, s := range seqs {
			list = append(list, report(s))
		}
		status, receipt, text := r.send(t, batch(t, epoch, now, list...))
		if status != http.StatusOK || receipt.Through != seqs[len(seqs)-1] {
			t.Fatalf("%v: %d %s", seqs, status, text)
		}
	}
	if got := w.stored(t, r.id); len(got) != 5 {
		t.Errorf("%d reports are stored of 5", len(got))
	}
	if _, receipt, _ := r.send(t, batch(t, uuid.NewString(), now, report(1))); receipt.Through != 1 || len(w.stored(t, r.id)) != 6 {
		t.Error("a new spool's first report was taken for an old one")
	}
}

func TestBadReports(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	r := w.reporter(t, "hay-desk-01")
	now, epoch := time.Now(), uuid.NewString()
	absurd := link.Report{Seq: 1, Vitals: device.Vitals{At: now, CPU: 1e12}}
	good := link.Report{Seq: 2, Vitals: device.Vitals{At: now, CPU: 5}}
	status, receipt, _ := r.send(t, batch(t, epoch, now, absurd, good))
	if status != http.StatusOK || receipt.Through != 2 || len(receipt.Refused) != 1 ||
		!strings.Contains(receipt.Refused[0].Reason, "cpu is 1e+12") {
		t.Errorf("an absurd report beside a good one: %d, %+v", status, receipt)
	}
	if n := len(w.stored(t, r.id)); n != 1 {
		t.Errorf("%d reports are stored, want the good one", n)
	}
	huge := io.MultiReader(strings.NewReader(`{"epoch":"`+epoch+`","reports":[{"seq":3,"vitals":{"people":[{"name":"`),
		io.LimitReader(endless{}, 100<<20))
	if status, _, text := r.send(t, huge); status != http.StatusRequestEntityTooLarge {
		t.Errorf("100 MB of a report: %d %s", status, text)
	}
	for name, body := range map[string]string{"no JSON": "moor", "no epoch": `{"epoch":"x","reports":[{"seq":1}]}`,
		"no reports": `{"epoch":"` + epoch + `"}`,
		"backwards":  `{"epoch":"` + epoch + `","reports":[{"seq":9},{"seq":8}]}`, "from zero": `{"epoch":"` + epoch +
			`","reports":[{"seq":0}]}`} {
		if status, _, text := r.send(t, strings.NewReader(body)); status != http.StatusBadRequest || text == "" {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	if status, _, _ := r.send(t, batch(t, epoch, now, link.Report{Seq: 4, Vitals: device.Vitals{At: now}})); status != http.StatusOK {
		t.Errorf("after all that a good report: %d", status)
	}
	answer := must(r.client.Post("http://service/facts", "application/json",
		strings.NewReader(`{"host_name":"`+strings.Repeat("x", 2<<20)+`"}`)))(t)
	if answer.Body.Close(); answer.StatusCode != http.StatusRequestEntityTooLarge {
		t.Errorf("facts of 2 MB: %d", answer.StatusCode)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// A device whose clock is a year ahead connects, is shown at the right time, and told of.
func TestWrongClock(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	r := w.reporter(t, "tarn-fell-1")
	began := time.Now()
	wrong := began.AddDate(1, 0, 0)
	status, _, text := r.send(t, batch(t, uuid.NewString(), wrong,
		link.Report{Seq: 1, Vitals: device.Vitals{At: wrong.Add(-time.Minute), CPU: 5}}))
	if status != http.StatusOK {
		t.Fatal(status, text)
	}
	at := w.stored(t, r.id)[0]
	if off := at.Sub(began.Add(-time.Minute)).Abs(); off > 10*time.Second {
		t.Errorf("the reading is stored %s off", off)
	}
	w.await(t, "the wrong clock is told of", func() bool {
		f := must(w.owner.Device(t.Context(), r.id))(t).Findings
		return len(f) == 1 && strings.Contains(f[0].Message, "days ahead")
	})
}

func TestHistory(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	r := w.reporter(t, "hay-desk-01")
	now := time.Now()
	var list []link.Report
	for i := range 100 {
		at := now.Add(time.Duration(i-100)*time.Minute + 30*time.Second)
		list = append(list, link.Report{Seq: uint64(i + 1),
			Vitals: device.Vitals{At: at, CPU: float64(i), Disks: []device.Disk{{Mount: "/", TotalBytes: 100, UsedBytes: 93}}}})
	}
	if status, _, text := r.send(t, batch(t, uuid.NewString(), now, list...)); status != http.StatusOK {
		t.Fatal(text)
	}
	from, buckets := now.Add(-200*time.Minute), 20
	for _, compressed := range []bool{false, true} {
		if compressed { // as it will be once its window is over
			if err := w.Vitals.CompactBefore(t.Context(), now.Add(5*time.Hour)); err != nil {
				t.Fatal(err)
			}
		}
		answer := must(client.Result(w.owner.GetReadingsWithResponse(t.Context(), r.id,
			&api.GetReadingsParams{From: &from, To: &now, Buckets: &buckets})))(t)
		count := 0
		for _, n := range answer.Counts {
			count += n
		}
		if count != 100 || len(answer.At) < 10 || len(answer.At) > 12 || answer.Tier != "5-minute" {
			t.Errorf("compressed %t: %d reports in %d buckets of %s", compressed, count, len(answer.At), answer.Tier)
		}
		for _, one := range answer.Readings {
			for i, s := range one.Spans {
				if one.Name == "cpu" && (s.Min > s.Mean || s.Mean > s.Max || s.Max > 99) || one.Name == "disk /" && s.Max != 93 {
					t.Errorf("compressed %t: %s at %s is %+v", compressed, one.Name, answer.At[i], s)
				}
			}
		}
		only := []string{"disk /"}
		format := api.GetReadingsParamsFormat("csv")
		csv := must(w.owner.GetReadingsWithResponse(t.Context(), r.id,
			&api.GetReadingsParams{From: &from, To: &now, Buckets: &buckets, Name: &only, Format: &format}))(t)
		if text := string(csv.Body); !strings.HasPrefix(text, "device,at,reading,unit,") ||
			!strings.Contains(text, ",disk /,%,93,93,93,") || strings.Contains(text, "cpu") {
			t.Errorf("compressed %t: the CSV is %.300s", compressed, text)
		}
		format = "openmetrics"
		metrics := must(w.owner.GetReadingsWithResponse(t.Context(), r.id,
			&api.GetReadingsParams{From: &from, To: &now, Buckets: &buckets, Name: &only, Format: &format}))(t)
		if text := string(metrics.Body); !strings.Contains(text, "# TYPE moorwatch_disk gauge") || !strings.HasSuffix(text, "# EOF\n") {
			t.Errorf("compressed %t: the metrics are %.300s", compressed, text)
		}
	}
	got := must(w.owner.Device(t.Context(), r.id))(t)
	if got.Device.CPU == nil || *got.Device.CPU != 99 {
		t.Errorf("the list shows %v", got.Device.CPU)
	}
}

// counting is a meter whose load readings are hundredths: 1, 2, 3, …
type counting struct {
	host.Meter
	n float64
}

func (c *counting) Vitals(context.Context) (device.Vitals, error) {
	c.n++
	return device.Vitals{At: time.Now(), Load1: c.n / 100}, nil
}

// noGaps fails unless the stored readings of a counting meter are 1 to at least some number, each once.
func noGaps(t *testing.T, address string, id uuid.UUID, atLeast int) int {
	t.Helper()
	_, values := kept(t, address, id, "load")
	var all []int
	for _, v := range values {
		all = append(all, int(math.Round(v*100)))
	}
	slices.Sort(all)
	for i, n := range all {
		if n != i+1 {
			t.Fatalf("report %d stands where %d should: %v", n, i+1, all)
		}
	}
	if len(all) < atLeast {
		t.Fatalf("%d reports are stored, want at least %d", len(all), atLeast)
	}
	return len(all)
}

// The service killed again and again, at moments of no choosing, loses no report and stores none
// twice.
func TestServiceKilled(t *testing.T) {
	t.Parallel()
	database, owner := emptyDatabase(t)
	config := service.Config{Database: database, Owner: owner, Connections: 6, Listen: freeAddress(t)}
	var cmd *exec.Cmd
	start := func() (url, setUp string) {
		cmd = exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "MOORWATCH_TEST_SERVICE="+config.Database, "MOORWATCH_TEST_OWNER="+config.Owner,
			"MOORWATCH_TEST_LISTEN="+config.Listen)
		cmd.Stderr = os.Stderr
		out := must(cmd.StdoutPipe())(t)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if _, err := fmt.Fscanln(out, &url, &setUp); err != nil && url == "" {
			t.Fatal(err)
		}
		return url, setUp
	}
	url, setUp := start()
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	w := &world{Service: &service.Service{URL: url}, config: config}
	w.token = w.setUp(t, url, setUp)
	w.owner = w.client(t, w.token)
	must(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: site}))(t)
	h := sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 7}.Host(time.Now)
	h.Meter = &counting{Meter: h.Meter}
	d := w.agent(t, "hay-desk-01", h, func(a *agent.Agent) { a.Every = 20 * time.Millisecond })
	before := 0
	for round := range 4 {
		w.await(t, "more reports are stored", func() bool { return len(w.stored(t, d.id)) > before+10+7*round })
		cmd.Process.Kill()
		cmd.Wait()
		before = noGaps(t, config.Database, d.id, before)
		start()
	}
	w.await(t, "reports are stored again", func() bool { return len(w.stored(t, d.id)) > before+50 })
	noGaps(t, config.Database, d.id, before+50)
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	defer l.Close()
	return l.Addr().String()
}

// A database that is killed and comes back: callers are told, the service stays up, nothing is lost.
func TestDatabaseGoesAway(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(scratch, "postgres-killed")
	start := func() *cluster.Cluster {
		return must(cluster.Start(t.Context(), cluster.Options{Dir: dir}))(t)
	}
	own := start()
	w := &world{config: service.Config{Database: own.URL, Owner: own.Owner, Connections: 6, Listen: "127.0.0.1:0"}}
	port := must(pgx.ParseConfig(own.URL))(t).Port
	// The service must find the database where it was, so a proxy keeps its address.
	forward := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	defer forward.Close()
	target := make(chan uint16, 1)
	target <- port
	go relay(forward, target)
	w.config.Database = strings.Replace(own.URL, fmt.Sprintf(":%d/", port), fmt.Sprintf(":%d/", forward.Addr().(*net.TCPAddr).Port), 1)
	w.start(t)
	defer w.Stop()
	w.token = w.setUp(t, w.Service.URL, w.SetUpLink)
	w.owner = w.client(t, w.token)
	must(w.owner.AddSiteWithResponse(t.Context(), api.NewSite{Organisation: organisation, Site: site}))(t)
	h := sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 7}.Host(time.Now)
	h.Meter = &counting{Meter: h.Meter}
	d := w.agent(t, "hay-desk-01", h, func(a *agent.Agent) { a.Every = 50 * time.Millisecond })
	w.await(t, "reports are stored", func() bool { return len(w.stored(t, d.id)) > 10 })
	own.Kill()
	_, err := w.owner.Device(t.Context(), d.id)
	refused(t, err, http.StatusServiceUnavailable, "database does not answer")
	_, err = w.owner.Run(t.Context(), d.id, command("true"), io.Discard, io.Discard)
	refused(t, err, http.StatusServiceUnavailable, "database does not answer")
	for path, want := range map[string]int{"/healthz": http.StatusOK, "/readyz": http.StatusServiceUnavailable} {
		answer := must(http.Get(w.Service.URL + path))(t)
		if answer.Body.Close(); answer.StatusCode != want {
			t.Errorf("%s without a database: %d", path, answer.StatusCode)
		}
	}
	own = start()
	defer own.Stop()
	<-target
	target <- must(pgx.ParseConfig(own.URL))(t).Port
	before := noGaps(t, own.URL, d.id, 10)
	w.await(t, "reports are stored again", func() bool {
		answer, err := w.owner.Device(t.Context(), d.id)
		return err == nil && answer.Device.Online && len(w.stored(t, d.id)) > before+20
	})
	noGaps(t, own.URL, d.id, before+20)
}

// relay passes connections on to the port that target holds.
func relay(l net.Listener, target chan uint16) {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		port := <-target
		target <- port
		far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			near.Close()
			continue
		}
		go func() { io.Copy(far, near); far.Close() }()
		go func() { io.Copy(near, far); near.Close() }()
	}
}

// What the service tells of itself.
func TestOperations(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.simulated(t, "hay-desk-01")
	for token, want := range map[string]int{"": http.StatusUnauthorized, w.personWith(t, wholly(access.Technician)): http.StatusForbidden} {
		q := must(http.NewRequestWithContext(t.Context(), http.MethodGet, w.Service.URL+"/metrics", nil))(t)
		if token != "" {
			q.Header.Set("Authorization", "Bearer "+token)
		}
		answer := must(http.DefaultClient.Do(q))(t)
		answer.Body.Close()
		if answer.StatusCode != want {
			t.Errorf("/metrics is answered with %s", answer.Status)
		}
	}
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/metrics": "moorwatch_devices_connected 1",
		"/api/v1/nosuch":    `"title":"There is no such operation."`,
		"/devices/anything": "<div id=\"root\">", "/": "<title>Moorwatch</title>"} {
		q := must(http.NewRequestWithContext(t.Context(), http.MethodGet, w.Service.URL+path, nil))(t)
		if path == "/metrics" {
			q.Header.Set("Authorization", "Bearer "+w.token)
		}
		answer := must(http.DefaultClient.Do(q))(t)
		text := must(io.ReadAll(answer.Body))(t)
		answer.Body.Close()
		if !strings.Contains(string(text), want) {
			t.Errorf("%s: %.200s", path, text)
		}
		if answer.Header.Get("X-Content-Type-Options") != "nosniff" ||
			!strings.Contains(answer.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'") {
			t.Errorf("%s is sent without protecting headers", path)
		}
	}
}

// A device that invents disks without end fills no table: of what is too much only the readings
// that every device has are kept.
func TestEndlessDisks(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	r := w.reporter(t, "hay-desk-01")
	now := time.Now()
	var list []link.Report
	for i := range 300 {
		list = append(list, link.Report{Seq: uint64(i + 1),
			Vitals: device.Vitals{At: now.Add(time.Duration(i-300) * time.Second), CPU: 5,
				Disks: []device.Disk{{Mount: fmt.Sprint("/", i), TotalBytes: 2, UsedBytes: 1}}}})
	}
	if status, _, text := r.send(t, batch(t, uuid.NewString(), now, list...)); status != http.StatusOK {
		t.Fatal(text)
	}
	if n := len(w.stored(t, r.id)); n != 300 {
		t.Errorf("%d of 300 reports are stored", n)
	}
	db := must(pgx.Connect(t.Context(), w.config.Database))(t)
	defer db.Close(context.Background())
	var layouts int
	if err := db.QueryRow(t.Context(), "SELECT count(*) FROM layouts").Scan(&layouts); err != nil || layouts > 210 {
		t.Errorf("%d layouts, %v", layouts, err)
	}
}
