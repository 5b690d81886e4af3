package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
)

func software(name, version string) inventory.Item {
	return inventory.Item{Section: inventory.Software, Key: "installer " + name, Name: name,
		Fields: map[string]string{"version": version, "source": "installer"}}
}

// inventory sends what leads from one inventory to another.
func (r *reporter) inventory(t *testing.T, before, after []inventory.Item) int {
	t.Helper()
	answer := must(r.client.Post("http://service/inventory", "application/json",
		jsonBody(t, inventory.Compare(inventory.Of(before), inventory.Of(after)))))(t)
	defer answer.Body.Close()
	io.Copy(io.Discard, answer.Body)
	return answer.StatusCode
}

// Differences become changes, counts, groups and exports; and the change behind an alert comes out
// first.
func TestInventoryChangesAndSuspects(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	var ids []api.Device
	for i := range 12 {
		name := fmt.Sprintf("cen-desk-%02d", i)
		r := w.reporter(t, name)
		facts := must(r.client.Post("http://service/facts", "application/json",
			jsonBody(t, device.Facts{HostName: name, OS: "windows", CPUModel: "8 cores of moor", AgentVersion: "0.1.0"})))(t)
		facts.Body.Close()
		before := []inventory.Item{software("printer", "4.1"), software("browser", "1"), {Section: "users", Key: "501", Name: "wren"}}
		if status := r.inventory(t, nil, before); status != http.StatusNoContent {
			t.Fatalf("the first inventory: %d", status)
		}
		after := slices.Clone(before)
		if i < 6 {
			after[0] = software("printer", "4.2")
		}
		if i%2 == 0 {
			after[1] = software("browser", "2")
		}
		if status := r.inventory(t, before, after); status != http.StatusNoContent {
			t.Fatalf("the differences: %d", status)
		}
		if i == 0 {
			if status := r.inventory(t, before, append(after, software("x", "1"))); status != http.StatusConflict {
				t.Errorf("differences from what is not stored: %d", status)
			}
			huge := must(r.client.Post("http://service/inventory", "application/json", io.LimitReader(endless{}, 20<<20)))(t)
			if huge.Body.Close(); huge.StatusCode != http.StatusBadRequest && huge.StatusCode != http.StatusRequestEntityTooLarge {
				t.Errorf("an endless inventory: %d", huge.StatusCode)
			}
		}
		seconds := 20.0
		if i < 6 {
			seconds = 90
		}
		r.vitals(t, device.Vitals{CPU: 5, LogOn: &device.LogOn{Person: "Wren", At: time.Now(), Seconds: seconds}})
		ids = append(ids, must(w.owner.Device(t.Context(), r.id))(t).Device)
	}
	w.await(t, "six alerts, one matter, with the driver's update as suspect", func() bool {
		page := w.attention(t)
		return page.Total == 1 && page.Items[0].Alert.Suspect != nil && page.Items[0].Alike != nil && len(*page.Items[0].Alike) == 5
	})
	a := w.attention(t).Items[0].Alert
	list := must(client.Result(w.owner.ListSuspectsWithResponse(t.Context(), a.ID)))(t)
	if len(list.Items) != 1 || list.Items[0].Summary != "printer updated from 4.1 to 4.2" || list.Items[0].ChangedWith != 6 ||
		list.Items[0].OthersWithout != 6 || list.Items[0].Low <= 1 {
		t.Errorf("the suspects are %+v", list)
	}
	changes := must(client.Result(w.owner.ListChangesWithResponse(t.Context(), &api.ListChangesParams{Device: &ids[0].ID})))(t).Items
	if len(changes) != 2 || changes[0].Section != "software" || changes[0].NotBefore.After(changes[0].At) {
		t.Errorf("the changes are %+v", changes)
	}
	found := must(client.Result(w.owner.ListSoftwareWithResponse(t.Context(), &api.ListSoftwareParams{})))(t).Items
	if len(found) != 2 || found[1].Name != "printer" || found[1].Devices != 12 || len(found[1].Versions) != 2 ||
		found[1].Versions[0].Devices != 6 {
		t.Errorf("the software is %+v", found)
	}
	version := "4.2"
	if having := must(client.Result(w.owner.ListInstalledWithResponse(t.Context(),
		&api.ListInstalledParams{Name: "printer", Version: &version})))(t).Items; len(having) != 6 || having[0].Name != "cen-desk-00" {
		t.Errorf("%d devices have it", len(having))
	}
	w.await(t, "a group by reading and fact", func() bool {
		in := api.Expression{Expression: `readings["log-on"] > 60 && cpu_model.contains("moor")`}
		return must(client.Result(w.owner.PreviewGroupWithResponse(t.Context(), in)))(t).Count == 6
	})
	expression := `"printer" in software && software["printer"] == "4.2"`
	w.await(t, "a group by software", func() bool {
		return must(client.Result(w.owner.PreviewGroupWithResponse(t.Context(), api.Expression{Expression: expression})))(t).Count == 6
	})
	g := must(client.Made(w.owner.AddGroupWithResponse(t.Context(), api.NewGroup{Name: "New driver", Expression: &expression})))(t)
	if g.Devices != 6 {
		t.Errorf("the group has %d devices", g.Devices)
	}
	if in := must(client.Result(w.owner.ListDevicesWithResponse(t.Context(),
		&api.ListDevicesParams{Group: &g.ID})))(t).Items; len(in) != 6 || in[0].Groups == nil || (*in[0].Groups)[0] != "New driver" {
		t.Errorf("the list of the group has %d devices", len(in))
	}
	format := api.GetInventoryParamsFormat("cyclonedx")
	bill := must(w.owner.GetInventoryWithResponse(t.Context(), ids[0].ID, &api.GetInventoryParams{Format: &format}))(t)
	var parsed struct {
		BomFormat, SpecVersion string
		Components             []struct{ Name, Version string }
	}
	if err := json.Unmarshal(bill.Body, &parsed); err != nil || parsed.BomFormat != "CycloneDX" || len(parsed.Components) != 2 {
		t.Errorf("%v: %s", err, bill.Body)
	}
	standing := must(client.Result(w.owner.GetStandingWithResponse(t.Context(), ids[0].ID, &api.GetStandingParams{Of: "log-on"})))(t)
	if os := must(client.Result(w.owner.GetStandingWithResponse(t.Context(), ids[0].ID,
		&api.GetStandingParams{Of: "cpu_model"})))(t); os.Numeric || *os.Text != "8 cores of moor" || os.Devices != 12 ||
		len(os.Bins) != 1 {
		t.Errorf("the standing of a fact is %+v", os)
	}
	if !standing.Numeric || *standing.Value != 90 || standing.Devices != 12 || *standing.Rank != 0.5 || len(standing.Like) == 0 ||
		*standing.Like[0].Value != 90 {
		t.Errorf("its standing is %+v", standing)
	}
}

// An agent sends its inventory, on demand at once, and only what changed.
func TestInventoryOfThisMachine(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	v := must(client.Result(w.owner.TakeInventoryWithResponse(t.Context(), d.id)))(t)
	sections := map[string]int{}
	for _, i := range v.Items {
		sections[i.Section]++
		if i.Section == "software" && !strings.HasPrefix(i.Fields["purl"], "pkg:") {
			t.Errorf("software without a package URL: %+v", i)
		}
	}
	for _, name := range []string{"system", "hardware", "software", "users", "groups", "ports", "safety", "network"} {
		if sections[name] == 0 {
			t.Errorf("there is nothing of %s among %v", name, sections)
		}
	}
	if v.TakenAt == nil || time.Since(*v.TakenAt) > time.Minute {
		t.Errorf("it was taken at %v", v.TakenAt)
	}
	kept := must(os.Stat(filepath.Join(d.dir, "inventory.json")))(t)
	if kept.Mode().Perm() != 0o600 {
		t.Errorf("the kept inventory has the mode %o", kept.Mode().Perm())
	}
	must(client.Result(w.owner.TakeInventoryWithResponse(t.Context(), d.id)))(t)
	d.stop()
	w.await(t, "it is away", func() bool { return !must(w.owner.Device(t.Context(), d.id))(t).Device.Online })
	_, err := client.Result(w.owner.TakeInventoryWithResponse(t.Context(), d.id))
	refused(t, err, http.StatusServiceUnavailable, "van-board is not connected")
	if v := must(client.Result(w.owner.GetInventoryWithResponse(t.Context(), d.id, nil)))(t); len(v.Items) < 20 {
		t.Error("what is known of a silent device cannot be read")
	}
}

// A question is answered by all who are there; those who are not are named.
func TestSweep(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	now := time.Now()
	for i := range 5 {
		d := sim.Device{Name: fmt.Sprintf("hay-desk-%d", i), Kind: sim.Desk, Seed: uint64(i), Address: "192.0.2.10",
			People: []string{"Wren Ashdown"}}
		if i < 2 {
			d.Driver = now.Add(-24 * time.Hour)
		}
		w.agent(t, d.Name, d.Host(time.Now), nil)
	}
	w.machine(t, "van-board")
	gone := w.simulated(t, "hay-kiosk")
	gone.stop()
	file := filepath.Join(t.TempDir(), "moor.txt")
	if err := os.WriteFile(file, []byte("moor"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.await(t, "the kiosk is silent", func() bool { return !must(w.owner.Device(t.Context(), gone.id))(t).Device.Online })
	w.await(t, "the roster knows who is there", func() bool {
		count := func(expression string) int {
			return must(client.Result(w.owner.PreviewGroupWithResponse(t.Context(), api.Expression{Expression: expression})))(t).Count
		}
		return count("online") == 6 && count(`!online && name == "hay-kiosk"`) == 1
	})
	ask := func(where string, q link.Question) (answers map[string]string, errs, offline []string) {
		t.Helper()
		answers = map[string]string{}
		in := api.Sweep{Question: q}
		if where != "" {
			in.Where = &where
		}
		done := false
		err := w.owner.Sweep(t.Context(), in, func(e api.SweepEvent) error {
			switch {
			case e.Asked != nil:
				offline = *e.Offline
			case e.Error != nil:
				errs = append(errs, *e.Error)
			case e.Answer != nil:
				answers[*e.Device] = e.Answer.Value
			case e.Done != nil:
				done = len(*e.Silent) == 0
			}
			return nil
		})
		if err != nil || !done {
			t.Errorf("%+v: %v, done %t", q, err, done)
		}
		return answers, errs, offline
	}
	answers, _, offline := ask("", link.Question{Kind: link.AskRegistry, Name: `HKLM\SOFTWARE\Fennick\Print\Version`})
	if len(answers) != 5 || answers["hay-desk-0"] != "4.2.0" || answers["hay-desk-4"] != "4.1.7" || len(offline) != 1 ||
		offline[0] != "hay-kiosk" {
		t.Errorf("%v, silent %v", answers, offline)
	}
	if _, errs, _ := ask("os == 'linux'", link.Question{Kind: link.AskRegistry, Name: "x"}); len(errs) != 1 ||
		!strings.Contains(errs[0], "has no registry") {
		t.Errorf("a registry on Linux: %v", errs)
	}
	machine := "name == 'van-board'"
	if got, _, _ := ask(machine, link.Question{Kind: link.AskFile, Name: file,
		Digest: true}); got["van-board"] != "a6fe369adc6a8f955f27566198ba724c8fb8e5b7a8ef7214c7582db4f15d8a91" {
		t.Errorf("the file's digest is %v", got)
	}
	if got, _, _ := ask(machine, link.Question{Kind: link.AskFile, Name: file + "x"}); got["van-board"] != "absent" {
		t.Errorf("a file that is not there: %v", got)
	}
	if got, _, _ := ask(machine, link.Question{Kind: link.AskProcess, Name: filepath.Base(os.Args[0])}); got["van-board"] == "0" {
		t.Errorf("this very process: %v", got)
	}
	if got, _, _ := ask(machine, link.Question{Kind: link.AskFact, Name: "host_name"}); got["van-board"] != "van-board" {
		t.Errorf("a fact: %v", got)
	}
	viewer := w.person(t, "viewer")
	var out bytes.Buffer
	err := viewer.Sweep(t.Context(), api.Sweep{Question: link.Question{Kind: link.AskFact, Name: "os"}},
		func(e api.SweepEvent) error { fmt.Fprint(&out, e); return nil })
	refused(t, err, http.StatusForbidden, "device.sweep")
	_, err = client.Made(w.owner.AddGroupWithResponse(t.Context(), api.NewGroup{Name: "Bad", Expression: &[]string{"os =="}[0]}))
	refused(t, err, http.StatusBadRequest, "Syntax error")
}
