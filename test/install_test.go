package test

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/release"
	"moorwatch.example/lab"
)

// shown is the command that the page Add devices shows.
func (p *page) shown(system string) string {
	p.do(chromedp.Navigate(p.url + "/enrol"))
	p.until(`[...(document.querySelector("select")?.options ?? [])].some(o => o.text.includes("`+site+`"))`, "the sites")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { s.value = [...s.options].find(o => o.text.includes("` + site +
		`")).value; s.dispatchEvent(new Event("change", { bubbles: true })); })(document.querySelector("select"))`))
	p.press("main", "Show how")
	p.press("[aria-label='Install the agent']", system)
	p.sees("[aria-label='Install the agent']", "The token is in it")
	p.accessible("adding a device")
	return ask[string](p, `document.querySelector("[aria-label='Install the agent'] code").innerText`)
}

// On a real machine the agent is installed by each way that the console and the README tell, is there within
// seconds, and leaves nothing when it is taken away.
func testWaysToInstall(t *testing.T) {
	if why := lab.Missing(); why != "" {
		t.Skip(why)
	}
	w := begin(t, false)
	w.withReleases(t)
	l, err := lab.New(t.Context(), lab.Options{Service: w.Service.URL, Bare: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	m := must(l.Start(t.Context(), "hay-lab-1"))(t)
	w.awaitFor(t, 2*time.Minute, "the machine has booted", func() bool {
		out, err := m.Do(t.Context(), "systemctl is-system-running; systemctl is-active lab-service.socket")
		return err == nil && strings.Contains(out, "\nactive")
	})
	on := installed{t, w, m, "systemd"}
	do, there, gone := on.do, on.there, on.gone

	p := w.open(t)
	p.signIn()
	command := p.shown("Linux")
	const proxy = "[aria-label='Install the agent'] input:not([type])"
	p.focus(proxy)
	p.typed("proxy; rm")
	p.sees("[role=alert]", "A proxy is an address such as")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("` + proxy + `").select()`))
	p.typed("http://proxy:3128")
	if got := ask[string](p, `document.querySelector("[aria-label='Install the agent'] code").innerText`); got != command+
		" --proxy http://proxy:3128" {
		t.Errorf("with a proxy: %s", got)
	}
	if runtime.GOOS != "linux" || !strings.Contains(command, "| sudo sh moor-agent.sh") {
		t.Fatalf("the console tells: %s", command)
	}
	began := time.Now()
	out := do("cd /tmp && " + strings.ReplaceAll(command, "sudo ", "")) // nobody but root is on the machine
	if !strings.Contains(out, "Connected after") {
		t.Errorf("it said: %s", out)
	}
	there("the pasted command", began)
	do("/opt/moor-agent/moor-agent uninstall")
	gone()

	release := func(name string) []byte {
		return must(os.ReadFile(filepath.Join(w.config.Releases, "1.0.0", name)))(t)
	}
	on.put("etc/moor-agent.enrolment", on.enrolment(), 0o600)
	on.put("root/moor-agent.deb", release("moor-agent_1.0.0-1_"+runtime.GOARCH+".deb"), 0o600)
	began = time.Now()
	do("dpkg -i /root/moor-agent.deb")
	there(".deb and enrolment file", began)
	do("dpkg -r moor-agent")
	gone()

	on.put("etc/moor-agent.enrolment", on.enrolment(), 0o600)
	on.put("root/moor-agent.rpm", release("moor-agent-1.0.0-1."+map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH]+
		".rpm"), 0o600)
	began = time.Now()
	do("rpm --install --nodeps /root/moor-agent.rpm") // what it needs, dpkg has installed
	there(".rpm and enrolment file", began)
	do("rpm --erase --nodeps moor-agent")
	gone()

	on.put("root/moor-agent.enrolment", on.enrolment(), 0o600)
	on.put("root/moor-agent", release("moor-agent_1.0.0_linux_"+runtime.GOARCH), 0o755)
	began = time.Now()
	do("/root/moor-agent install --from /root/moor-agent.enrolment --without screen")
	there("program and enrolment file", began)
	if out := do("/opt/moor-agent/moor-agent status"); !strings.Contains(out, "without    [screen]") {
		t.Errorf("its status: %s", out)
	}
	do("/opt/moor-agent/moor-agent uninstall")
	gone()
}

// installed is a machine on which the agent is installed in one way and another.
type installed struct {
	t    *testing.T
	w    *world
	m    *lab.Machine
	init string // what keeps it running
}

// do runs a script there, which must not fail.
func (i installed) do(script string) string {
	i.t.Helper()
	out, err := i.m.Do(i.t.Context(), script)
	if err != nil {
		i.t.Fatalf("%s: %v: %s", script, err, out)
	}
	return out
}

func (i installed) online() bool {
	return slices.ContainsFunc(must(client.Result(i.w.owner.ListDevicesWithResponse(i.t.Context(), &api.ListDevicesParams{})))(i.t).Items,
		func(d api.Device) bool { return d.Online && d.Memory != nil })
}

// there waits until its vitals are, and looks how it is kept.
func (i installed) there(way string, began time.Time) {
	i.t.Helper()
	i.w.await(i.t, "its vitals are there, installed by "+way, i.online)
	i.t.Logf("by %s: first vitals %s after the command", way, time.Since(began).Round(10*time.Millisecond))
	if out := i.do("moor-agent status 2>/dev/null || /opt/moor-agent/moor-agent status"); !strings.Contains(out, "running, kept by "+
		i.init) {
		i.t.Errorf("its status: %s", out)
	}
}

// gone looks that nothing of it is left.
func (i installed) gone() {
	i.t.Helper()
	for _, path := range []string{"opt/moor-agent", "var/lib/moor-agent", "etc/systemd/system/moor-agent.service", "etc/init.d/moor-agent",
		"etc/moor-agent.enrolment"} {
		if _, err := os.Lstat(filepath.Join(i.m.Root, path)); !errors.Is(err, os.ErrNotExist) {
			i.t.Errorf("%s stays: %v", path, err)
		}
	}
	if table, err := os.ReadFile(filepath.Join(i.m.Root, "etc/inittab")); err == nil && strings.Contains(string(table), "moor-agent") {
		i.t.Errorf("the table of services still has %s", table)
	}
	i.w.await(i.t, "it runs no more", func() bool {
		out, _ := i.m.Do(i.t.Context(), "pgrep -a moor-agent")
		return strings.TrimSpace(out) == ""
	})
	i.w.await(i.t, "it is away", func() bool { return !i.online() })
}

// put puts a file on the machine.
func (i installed) put(path string, content []byte, mode os.FileMode) {
	i.t.Helper()
	if err := os.WriteFile(filepath.Join(i.m.Root, path), content, mode); err != nil {
		i.t.Fatal(err)
	}
}

// enrolment is a file that enrols one device.
func (i installed) enrolment() []byte {
	i.t.Helper()
	return must(json.Marshal(release.Enrolment{Service: i.w.Service.URL, Token: i.w.enrolmentToken(i.t, 1)}))(i.t)
}

// Where there is no systemd the agent is kept by what there is: started with the machine, and again whenever it
// ends, until it is taken off.
func testOtherInits(t *testing.T) {
	if why := lab.MissingInit(); why != "" {
		t.Skip(why)
	}
	w := begin(t, false)
	w.withReleases(t)
	for init, name := range map[string]string{lab.BusyBox: "init", lab.OpenRC: "OpenRC"} {
		t.Run(init, func(t *testing.T) {
			l, err := lab.New(t.Context(), lab.Options{Service: w.Service.URL, Bare: true, Init: init})
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			m := must(l.Start(t.Context(), "heath-"+init))(t)
			on := installed{t, w, m, name}
			w.awaitFor(t, 2*time.Minute, "the machine has booted", func() bool {
				out, err := m.Do(t.Context(), "cat /proc/1/comm; ss --listening --tcp --numeric")
				return err == nil && strings.HasPrefix(out, "init\n") && strings.Contains(out, strings.TrimPrefix(w.Service.URL, "http://"))
			})
			on.put("root/moor-agent.enrolment", on.enrolment(), 0o600)
			on.put("root/moor-agent", must(os.ReadFile(filepath.Join(w.config.Releases, "1.0.0", "moor-agent_1.0.0_linux_"+
				runtime.GOARCH)))(t), 0o755)
			began := time.Now()
			on.do("/root/moor-agent install --from /root/moor-agent.enrolment")
			on.there("program and enrolment file under "+name, began)
			before := on.do("pgrep -o moor-agent")
			on.do("pkill -KILL moor-agent")
			w.await(t, "it is started again", func() bool {
				out, err := m.Do(t.Context(), "pgrep -o moor-agent")
				return err == nil && out != before
			})
			d := must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t).Items
			if n := len(d); n == 0 || slices.Contains(d[n-1].Capabilities, device.CapabilityServices) {
				t.Errorf("it offers the services of a systemd that is not there: %+v", d)
			}
			w.await(t, "it is connected again", on.online)
			on.do("/opt/moor-agent/moor-agent uninstall")
			on.gone()
		})
	}
}

// withReleases starts the service anew with release 1.0.0 of the agent, for this system where none is named.
func (w *world) withReleases(t *testing.T, systems ...string) (key string) {
	t.Helper()
	releases, key := t.TempDir(), filepath.Join(t.TempDir(), "key")
	releaseOf(t, "1.0.0", releases, key, systems...)
	w.Stop()
	w.config.Releases = releases
	w.start(t)
	w.owner = w.client(t, w.token)
	return key
}
