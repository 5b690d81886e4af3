package test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	toxiproxy "github.com/Shopify/toxiproxy/v2"
	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/rs/zerolog"

	"moorwatch.example/agent"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
)

func TestEnrolmentTokens(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	try := func(token string) error {
		_, err := identity.Enrol(t.Context(), t.TempDir(), w.Service.URL, token, device.Facts{HostName: "hay-desk-01"})
		return err
	}
	fails := func(name string, err error, text string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%s: %v, want %q in it", name, err, text)
		}
	}
	token := w.enrolmentToken(t, 2)
	for range 2 {
		if err := try(token); err != nil {
			t.Fatal(err)
		}
	}
	fails("used up", try(token), "as often as it allows")
	fails("forged", try(token[:20]+"AAAA"+token[24:]), "not one of this service")
	fails("another kind", try(w.token), "")
	fails("another authority", try(token[:strings.LastIndex(token, ".")]+".AAAAAAAAAAAAAAAAAAAAAA"), "not the service")
	db := must(pgx.Connect(t.Context(), w.config.Database))(t)
	defer db.Close(context.Background())
	expired := w.enrolmentToken(t, 1)
	must(db.Exec(t.Context(), "UPDATE enrolment_tokens SET expires_at = now() - interval '1 second' WHERE used = 0"))(t)
	fails("expired", try(expired), "it has expired")
	uses := 5
	made := must(client.Made(w.owner.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: organisation, Site: site, Uses: &uses})))(t)
	if err := client.Done(w.owner.RevokeEnrolmentTokenWithResponse(t.Context(), made.Token.ID)); err != nil {
		t.Fatal(err)
	}
	fails("revoked", try(made.Secret), "it was revoked")
	_, err := client.Made(w.owner.AddEnrolmentTokenWithResponse(t.Context(),
		api.NewEnrolmentToken{Organisation: organisation, Site: "nosuch"}))
	refused(t, err, http.StatusUnprocessableEntity, "There is no site nosuch")
	for range 40 {
		err = try("mw-enrol.AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA." + w.config.Fingerprint)
	}
	fails("guessing", err, "Too many refused enrolments")
	page := must(client.Result(w.owner.ListEnrolmentTokensWithResponse(t.Context(), &api.ListEnrolmentTokensParams{})))(t)
	if len(page.Items) != 3 || page.Items[2].Used != 2 {
		t.Errorf("the list shows %+v", page.Items)
	}
}

func TestForgedAndRetiredKeys(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	d.stop()
	i := must(identity.Load(d.dir))(t)
	forged := i.Dialer()
	_, forged.Key, _ = ed25519.GenerateKey(rand.Reader)
	if _, err := forged.Dial(t.Context()); err == nil || !strings.Contains(err.Error(), "does not know this device's key") {
		t.Errorf("a forged key: %v", err)
	}
	if err := client.Done(w.owner.RetireDeviceWithResponse(t.Context(), d.id)); err != nil {
		t.Fatal(err)
	}
	if _, err := i.Dialer().Dial(t.Context()); err == nil || !strings.Contains(err.Error(), "was retired") {
		t.Errorf("a retired device: %v", err)
	}
	_, err := w.owner.Device(t.Context(), d.id)
	refused(t, err, http.StatusNotFound, "no such device")
}

func TestDeviceList(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	for i := range 5 {
		w.enrol(t, fmt.Sprintf("hay-desk-%02d", i+1))
	}
	hostile := []string{"<script>alert(1)</script>", "a\x1b[31m\r\nb\u202ec", strings.Repeat("long", 2500), `"quotes" 'n' \slashes`}
	for _, name := range hostile {
		w.enrol(t, name)
	}
	one := 2
	var names []string
	for cursor := (*string)(nil); ; {
		page := must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{Limit: &one, Cursor: cursor})))(t)
		for _, d := range page.Items {
			names = append(names, d.Name)
		}
		if cursor = page.Next; cursor == nil {
			break
		}
	}
	if len(names) != 9 {
		t.Errorf("page after page there are %d devices: %q", len(names), names)
	}
	for _, name := range hostile {
		clean := device.CleanName(name)
		if got := must(w.owner.Find(t.Context(), clean))(t); got.Name != clean {
			t.Errorf("%.30q is found as %q, want %q", name, got.Name, clean)
		}
	}
	w.await(t, "the expression finds those five", func() bool { // what expressions are held against follows
		n := 0
		for d, err := range w.owner.Devices(t.Context(), `name.startsWith("hay-") && !online`) {
			if err != nil || d.Condition != "silent" {
				t.Errorf("%+v, %v", d, err)
			}
			n++
		}
		return n == 5
	})
	for _, err := range w.owner.Devices(t.Context(), "disk >") {
		refused(t, err, http.StatusBadRequest, "Syntax error")
	}
	_, err := w.owner.Find(t.Context(), "hay-desk-1")
	refused(t, err, http.StatusNotFound, "hay-desk-01")
	w.enrol(t, "HAY-desk-03")
	_, err = w.owner.Find(t.Context(), "hay-desk-03")
	refused(t, err, http.StatusConflict, site)
	bad := "%%%"
	_, err = client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{Cursor: &bad}))
	refused(t, err, http.StatusBadRequest, "cursor cannot be read")
}

// agentProcess runs a real agent in a process of its own, and returns once it is connected.
func agentProcess(t *testing.T, dir string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "MOORWATCH_TEST_AGENT="+dir)
	out := must(cmd.StdoutPipe())(t)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	if _, err := out.Read(make([]byte, 16)); err != nil { // "connected"
		t.Fatal(err)
	}
	return cmd
}

// Online within 2 s of connecting; silent within 2 s of a killed process, whose connection the
// kernel closes.
func TestPresence(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	dir, id := w.enrol(t, "van-board")
	cmd := agentProcess(t, dir)
	online := func() bool { return must(w.owner.Device(t.Context(), id))(t).Device.Online }
	w.await(t, "online after connecting", online)
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	w.await(t, "silent after SIGKILL", func() bool { return !online() })
}

// A device that stops without a word, its connection still open, is silent within 90 s, and online
// again when it goes on.
func TestFrozenDevice(t *testing.T) {
	if testing.Short() {
		t.Skip("waits for more than a minute")
	}
	t.Parallel()
	w := begin(t, true)
	dir, id := w.enrol(t, "van-board")
	cmd := agentProcess(t, dir)
	online := func() bool { return must(w.owner.Device(t.Context(), id))(t).Device.Online }
	w.await(t, "online", online)
	if err := cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	took := w.awaitFor(t, 3*time.Minute, "silent after it froze", func() bool { return !online() })
	t.Logf("silent after %s", took.Round(time.Second))
	if took < 20*time.Second {
		t.Errorf("a pause of %s is too short to call a device silent", took)
	}
	if err := cmd.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	w.awaitFor(t, 90*time.Second, "back after it went on", online)
}

// A device whose network dies without a word is silent within 90 s, and back when it returns.
func TestNetworkDies(t *testing.T) {
	if testing.Short() {
		t.Skip("waits for more than a minute")
	}
	t.Parallel()
	w := begin(t, false)
	dir, id := w.enrol(t, "tarn-ridge-1")
	proxies := toxiproxy.NewServer(toxiproxy.NewMetricsContainer(prometheus.NewRegistry()), zerolog.Nop())
	proxy := toxiproxy.NewProxy(proxies, "hill", "127.0.0.1:0", strings.TrimPrefix(w.Service.URL, "http://"))
	if err := proxy.Start(); err != nil {
		t.Fatal(err)
	}
	defer proxy.Stop()
	a := &agent.Agent{Dir: dir, Host: sim.Device{Name: "tarn-ridge-1", Kind: sim.Station, Seed: 3}.Host(time.Now), Log: quiet,
		Every: time.Second}
	redirect(t, dir, "http://"+proxy.Listen)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go a.Run(ctx)
	online := func() bool { return must(w.owner.Device(t.Context(), id))(t).Device.Online }
	w.await(t, "online", online)
	for _, direction := range []string{"upstream", "downstream"} {
		body := fmt.Sprintf(`{"name":%q,"type":"timeout","stream":%q,"attributes":{"timeout":0}}`, "cut "+direction, direction)
		if _, err := proxy.Toxics.AddToxicJson(strings.NewReader(body)); err != nil {
			t.Fatal(err)
		}
	}
	took := w.awaitFor(t, 3*time.Minute, "silent after its network died", func() bool { return !online() })
	t.Logf("silent after %s", took.Round(time.Second))
	proxy.Toxics.ResetToxics(t.Context())
	w.awaitFor(t, 90*time.Second, "back after its network returned", online)
}

// redirect has an agent reach its service by another address.
func redirect(t *testing.T, dir, url string) {
	t.Helper()
	path := dir + "/identity.json"
	text := must(os.ReadFile(path))(t)
	i := must(identity.Load(dir))(t)
	if err := os.WriteFile(path, []byte(strings.Replace(string(text), i.Service, url, 1)), 0o600); err != nil {
		t.Fatal(err)
	}
}

// A copy of a device is refused and reported, and the first goes on undisturbed.
func TestSecondComputerWithOneIdentity(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	since := must(w.owner.Device(t.Context(), d.id))(t).Device.Since
	copied := must(identity.Load(d.dir))(t).Dialer()
	facts := must(sim.Device{Name: "hay-desk-01", Kind: sim.Desk, Seed: 7}.Host(time.Now).Informer.Facts(t.Context()))(t)
	copied.HostName, copied.Hardware = facts.HostName, facts.Hardware // whoever has the key may say so
	if _, err := copied.Dial(t.Context()); err == nil || !strings.Contains(err.Error(), "another computer is connected") {
		t.Errorf("the copy: %v", err)
	}
	w.await(t, "the conflict is reported", func() bool {
		got := must(w.owner.Device(t.Context(), d.id))(t)
		return len(got.Findings) == 1 && got.Findings[0].Check == "identity" && got.Device.Online && got.Device.Since.Equal(since)
	})
	page := must(client.Result(w.owner.ListAuditWithResponse(t.Context(), &api.ListAuditParams{Device: &d.id})))(t)
	if e := page.Items[0]; e.Action != "device.connect" || !strings.HasPrefix(e.Result, "refused") {
		t.Errorf("the audit log shows %+v", e)
	}
}

// Plain HTTP is not served to others.
func TestPlainHTTPIsForLoopback(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	for _, i := range must(net.InterfaceAddrs())(t) {
		n, ok := i.(*net.IPNet)
		if !ok || n.IP.IsLoopback() || n.IP.To4() == nil {
			continue
		}
		other := &world{config: w.config}
		other.config.Listen = n.IP.String() + ":0"
		if _, err := startFails(t, other); err == nil || !strings.Contains(err.Error(), "plain HTTP is for loopback") {
			t.Errorf("on %s: %v", n.IP, err)
		}
		return
	}
	t.Skip("this machine has no address but loopback")
}
