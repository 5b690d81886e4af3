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

	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/lab"
)

// shown is the command that the page Add devices shows.
func (p *page) shown(system string) string {
	p.do(chromedp.Navigate(p.url + "/enrol"))
	p.until(`[...(document.querySelector("select")?.options ?? [])].some(o => o.text.includes("`+site+`"))`, "the sites")
	p.do(chromedp.Evaluate[chromedp.Void](`(s => { s.value = [...s.options].find(o => o.text.includes("` + site + `")).value; s.dispatchEvent(new Event("change", { bubbles: true })); })(document.querySelector("select"))`))
	p.press("main", "Show how")
	p.press("[aria-label='Install the agent']", system)
	p.sees("[aria-label='Install the agent']", "The token is in it")
	p.accessible("adding a device")
	return ask[string](p, `document.querySelector("[aria-label='Install the agent'] code").innerText`)
}

// On a real machine the agent is installed by each way that the console and the README tell, is there within
// seconds, and leaves nothing when it is taken away.
func TestWaysToInstall(t *testing.T) {
	t.Parallel()
	if why := lab.Missing(); why != "" {
		t.Skip(why)
	}
	w := begin(t, false)
	w.withReleases(t)
	labs <- struct{}{}
	t.Cleanup(func() { <-labs })
	l, err := lab.New(t.Context(), lab.Options{Service: w.Service.URL, Bare: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	m := must(l.Start(t.Context(), "hay-lab-1"))(t)
	w.await(t, time.Minute, "the machine has booted", func() bool {
		out, err := m.Do(t.Context(), "systemctl is-system-running; systemctl is-active lab-service.socket")
		return err == nil && strings.Contains(out, "\nactive")
	})
	do := func(script string) string {
		t.Helper()
		out, err := m.Do(t.Context(), script)
		if err != nil {
			t.Fatalf("%s: %v: %s", script, err, out)
		}
		return out
	}
	there := func(way string, began time.Time) {
		t.Helper()
		w.await(t, 10*time.Second, "its vitals are there, installed by "+way, func() bool {
			for _, d := range must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t).Items {
				if d.Online && d.Memory != nil {
					return true
				}
			}
			return false
		})
		took := time.Since(began)
		t.Logf("by %s: first vitals %s after the command", way, took.Round(10*time.Millisecond))
		if out := do("moor-agent status 2>/dev/null || /opt/moor-agent/moor-agent status"); !strings.Contains(out, "running, kept by systemd") {
			t.Errorf("its status: %s", out)
		}
	}
	gone := func() {
		t.Helper()
		for _, path := range []string{"opt/moor-agent", "var/lib/moor-agent", "etc/systemd/system/moor-agent.service", "etc/moor-agent.enrolment"} {
			if _, err := os.Lstat(filepath.Join(m.Root, path)); !errors.Is(err, os.ErrNotExist) {
				t.Errorf("%s stays: %v", path, err)
			}
		}
		if out, _ := m.Do(t.Context(), "pgrep -a moor-agent"); strings.TrimSpace(out) != "" {
			t.Errorf("it still runs: %s", out)
		}
		w.await(t, 10*time.Second, "it is away", func() bool {
			return !slices.ContainsFunc(must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t).Items, func(d api.Device) bool { return d.Online })
		})
	}

	p := w.open(t)
	p.signIn()
	command := p.shown("Linux")
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

	file := must(json.Marshal(identity.File{Service: w.Service.URL, Token: w.enrolmentToken(t, 1)}))(t)
	for path, content := range map[string][]byte{"etc/moor-agent.enrolment": file, "root/moor-agent.deb": must(os.ReadFile(filepath.Join(w.config.Releases, "1.0.0", "moor-agent_1.0.0-1_"+runtime.GOARCH+".deb")))(t)} {
		if err := os.WriteFile(filepath.Join(m.Root, path), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	began = time.Now()
	do("dpkg -i /root/moor-agent.deb")
	there(".deb and enrolment file", began)
	do("dpkg -r moor-agent")
	gone()

	began = time.Now()
	file = must(json.Marshal(identity.File{Service: w.Service.URL, Token: w.enrolmentToken(t, 1)}))(t)
	if err := os.WriteFile(filepath.Join(m.Root, "root/moor-agent.enrolment"), file, 0o600); err != nil {
		t.Fatal(err)
	}
	release := must(os.ReadFile(filepath.Join(w.config.Releases, "1.0.0", "moor-agent_1.0.0_linux_"+runtime.GOARCH)))(t)
	if err := os.WriteFile(filepath.Join(m.Root, "root/moor-agent"), release, 0o755); err != nil {
		t.Fatal(err)
	}
	do("/root/moor-agent install --from /root/moor-agent.enrolment --without screen")
	there("program and enrolment file", began)
	if out := do("/opt/moor-agent/moor-agent status"); !strings.Contains(out, "without    [screen]") {
		t.Errorf("its status: %s", out)
	}
	do("/opt/moor-agent/moor-agent uninstall")
	gone()
}

// withReleases starts the service anew with release 1.0.0 of the agent for this system.
func (w *world) withReleases(t *testing.T) (key string) {
	t.Helper()
	releases, key := t.TempDir(), filepath.Join(t.TempDir(), "key")
	releaseOf(t, "1.0.0", releases, key)
	w.Stop()
	w.config.Releases = releases
	w.start(t)
	w.owner = w.client(t, w.token)
	return key
}
