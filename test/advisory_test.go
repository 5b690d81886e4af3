package test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/update"
)

const heathAdvisory = `{"id":"MOOR-1","aliases":["CVE-2026-70112"],"modified":"2026-11-14T08:00:00Z","published":"2026-11-01T00:00:00Z",
	"summary":"heathssl reads <script>alert(1)</script> beyond a buffer","severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N"}],
	"affected":[{"package":{"ecosystem":"Debian:12","name":"heathssl"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"3.0.15-1"}]}]}]}`

func (w *world) importFeed(t *testing.T, name string, whole bool, body io.Reader) (*api.Feed, error) {
	t.Helper()
	return client.Result(w.owner.ImportFeedWithBodyWithResponse(t.Context(), name, &api.ImportFeedParams{Whole: &whole},
		"application/octet-stream", body))
}

func (w *world) advisoriesAre(t *testing.T, what string, in api.ListAdvisoriesParams, want ...string) (all []api.Advisory) {
	t.Helper()
	w.await(t, what, func() bool {
		all = must(client.Result(w.owner.ListAdvisoriesWithResponse(t.Context(), &in)))(t).Items
		return slices.EqualFunc(all, want, func(a api.Advisory, id string) bool { return a.ID == id })
	})
	return all
}

// Advisories find the software that they are about, whichever comes first; they tell how bad an update is that
// mends them, what is exploited comes first, and what a device has no more is no longer told of it.
func TestAdvisories(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	deb := func(name, version, built string) inventory.Item {
		return inventory.Item{Section: inventory.Software, Key: "deb " + name, Name: name,
			Fields: map[string]string{"version": version, "source": "deb", "source_package": built,
				"purl": inventory.PackageURL("deb", "debian", name, version)}}
	}
	held := map[string][]inventory.Item{}
	reporters := map[string]*reporter{}
	for name, items := range map[string][]inventory.Item{"old": {deb("libheath3", "3.0.14-1", "heathssl"), deb("moss", "1", "")},
		"new": {deb("libheath3", "3.0.15-1", "heathssl")}, "later": {deb("libheath3", "3.0.14-1", "heathssl")}} {
		r := w.reporter(t, name)
		version := map[string]string{"old": "12.7", "new": "12.7", "later": "13"}[name]
		must(r.client.Post("http://service/facts", "application/json",
			jsonBody(t, device.Facts{HostName: name, OS: "linux", OSVersion: version, AgentVersion: "0.1.0",
				Capabilities: []string{device.CapabilityUpdates}})))(t).Body.Close()
		if status := r.inventory(t, nil, items); status != http.StatusNoContent {
			t.Fatalf("the inventory: %d", status)
		}
		reporters[name], held[name] = r, items
	}
	tell := func(r *reporter, all ...update.Update) {
		answer := must(r.client.Post("http://service/updates", "application/json",
			jsonBody(t, link.Updates{Digest: strings.Repeat("0", 64), All: all, Whole: true})))(t)
		if answer.Body.Close(); answer.StatusCode != http.StatusNoContent {
			t.Fatalf("the updates: %s", answer.Status)
		}
	}
	tell(reporters["old"], update.Update{Source: "apt", Name: "libheath3", From: "3.0.14-1", To: "3.0.15-1", Class: update.Other},
		update.Update{Source: "apt", Name: "moss", From: "1", To: "2", Class: update.Other})
	tell(reporters["new"])
	if f, err := w.importFeed(t, "heath", false, strings.NewReader(heathAdvisory+`{"id":"?","affected":7}`)); err != nil ||
		f.Advisories != 1 || f.Refused != 1 || !strings.Contains(f.Refusals[0], "document 2") {
		t.Fatalf("the import: %+v, %v", f, err)
	}
	a := w.advisoriesAre(t, "the advisory is about a device", api.ListAdvisoriesParams{}, "MOOR-1")[0]
	w.await(t, "the update is said to mend it", func() bool {
		a = w.advisoriesAre(t, "the advisory", api.ListAdvisoriesParams{}, "MOOR-1")[0]
		return len(a.Updates) == 1
	})
	if a.Devices != 1 || a.Score != 7.5 || a.Severity != "high" || !slices.Equal(a.Packages, []string{"libheath3"}) ||
		a.Updates[0].Name != "libheath3" || a.Exploited != nil {
		t.Errorf("the advisory is %+v", a)
	}
	missing := must(client.Result(w.owner.ListUpdatesWithResponse(t.Context(), &api.ListUpdatesParams{})))(t).Items
	if u := missing[0].Update; u.Name != "libheath3" || u.Class != update.Security || u.Severity != "high" ||
		!slices.Equal(u.Advisories, []string{"MOOR-1"}) || u.Exploited || missing[1].Update.Class != update.Other {
		t.Errorf("the updates are %+v", missing)
	}
	before := must(client.Result(w.owner.ListExposureWithResponse(t.Context(), &api.ListExposureParams{})))(t)
	if x := before.Items[0]; x.Device != "old" || x.Weaknesses != 1 || x.Exploited != 0 || before.Totals.Exploited != 0 ||
		x.Exposure.Score < 10 {
		t.Errorf("the exposure is %+v", before)
	}
	// A list of what is exploited, in a zip beside what is of no use.
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	for name, text := range map[string]string{"lists/known.csv": "cve,since\nCVE-2026-70112,2026-11-15\n", "README.txt": "read me"} {
		must(must(z.Create(name))(t).Write([]byte(text)))(t)
	}
	z.Close()
	if f, err := w.importFeed(t, "exploited", true, bytes.NewReader(packed.Bytes())); err != nil || f.Exploited != 1 {
		t.Fatalf("the list: %+v, %v", f, err)
	}
	w.advisoriesAre(t, "it is known to be exploited", api.ListAdvisoriesParams{Exploited: new(true)}, "MOOR-1")
	w.await(t, "the device's exposure tells of it", func() bool {
		x := must(client.Result(w.owner.ListExposureWithResponse(t.Context(), &api.ListExposureParams{})))(t)
		return x.Items[0].Exploited == 1 && x.Totals.Exploited == 1 && x.Items[0].Exposure.Score > before.Items[0].Exposure.Score
	})
	// By another of its names, and by device.
	one := must(client.Result(w.owner.GetAdvisoryWithResponse(t.Context(), "CVE-2026-70112")))(t)
	if one.Advisory.ID != "MOOR-1" || one.Software[0].Fixed != "3.0.15-1" || !strings.HasPrefix(one.Vector, "CVSS:3.1/") {
		t.Errorf("it is %+v", one)
	}
	devices := must(client.Result(w.owner.ListAdvisoryDevicesWithResponse(t.Context(), "MOOR-1",
		&api.ListAdvisoryDevicesParams{})))(t).Items
	if len(devices) != 1 || devices[0].Device != "old" || devices[0].Software[0].Version != "3.0.14-1" {
		t.Errorf("it is about %+v", devices)
	}
	for name, n := range map[string]int{"old": 1, "new": 0, "later": 0} {
		if of := must(client.Result(w.owner.ListAdvisoriesWithResponse(t.Context(),
			&api.ListAdvisoriesParams{Device: &reporters[name].id})))(t).Items; len(of) != n {
			t.Errorf("%s has %+v", name, of)
		}
	}
	// A device that gets what has the weakness, after the import; and one that loses it.
	if status := reporters["new"].inventory(t, held["new"], held["old"]); status != http.StatusNoContent {
		t.Fatalf("the inventory: %d", status)
	}
	w.await(t, "a second device has it", func() bool {
		return w.advisoriesAre(t, "it", api.ListAdvisoriesParams{}, "MOOR-1")[0].Devices == 2
	})
	for _, name := range []string{"old", "new"} {
		reporters[name].inventory(t, held["old"], held["new"])
	}
	w.advisoriesAre(t, "no device has it", api.ListAdvisoriesParams{})

	// Files that cannot be used change nothing, and say why.
	var squeezed bytes.Buffer
	g := gzip.NewWriter(&squeezed)
	g.Write([]byte(heathAdvisory))
	g.Close()
	for what, c := range map[string]struct {
		file []byte
		want string
	}{"cut": {[]byte("[" + heathAdvisory), "ends early"}, "empty": {nil, "the file is empty"},
		"no zip": {[]byte("PK\x03\x04 and no more"), "It is no whole zip"}, "cut gzip": {squeezed.Bytes()[:40], "unexpected EOF"},
		"words": {[]byte("hello"), "neither JSON"}} {
		if _, err := w.importFeed(t, "heath", true, bytes.NewReader(c.file)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", what, err, c.want)
		}
	}
	if f, err := w.importFeed(t, "heath", true, &squeezed); err != nil || f.Advisories != 1 || f.Refused != 0 {
		t.Errorf("squeezed, after files that could not be used: %+v, %v", f, err)
	}
	// What a whole file has no more goes; and a feed that is forgotten.
	if f, err := w.importFeed(t, "heath", true, strings.NewReader(strings.ReplaceAll(heathAdvisory, "MOOR-1", "MOOR-2"))); err != nil ||
		f.Advisories != 1 {
		t.Errorf("another whole: %+v, %v", f, err)
	}
	if _, err := client.Result(w.owner.GetAdvisoryWithResponse(t.Context(), "MOOR-1")); err == nil {
		t.Error("what a whole file has no more is still there")
	}
	if err := client.Done(w.owner.RemoveFeedWithResponse(t.Context(), "heath")); err != nil {
		t.Error(err)
	}
	if err := client.Done(w.owner.RemoveFeedWithResponse(t.Context(), "heath")); err == nil {
		t.Error("a feed is forgotten twice")
	}
}

// A folder that mirrors feeds is read as it changes, and no more often.
func TestAdvisoryMirror(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		path := filepath.Join(dir, name)
		must(0, os.MkdirAll(filepath.Dir(path), 0o755))(t)
		must(0, os.WriteFile(path, []byte(text), 0o644))(t)
	}
	feeds := func() (all []string) {
		t.Helper()
		if err := w.Service.Patch.Mirror(t.Context(), dir); err != nil {
			t.Fatal(err)
		}
		for _, f := range must(client.Result(w.owner.ListFeedsWithResponse(t.Context(), &api.ListFeedsParams{})))(t).Items {
			all = append(all, fmt.Sprintf("%s %d %d", f.Name, f.Advisories, f.Exploited))
		}
		return all
	}
	is := func(want ...string) {
		t.Helper()
		if got := feeds(); !slices.Equal(got, want) {
			t.Errorf("the feeds are %q, want %q", got, want)
		}
	}
	write("heath/2026/1.json", heathAdvisory)
	write("heath/README", "no document")
	write("known.csv", "cve\nCVE-2026-70112\n")
	write("broken.json", "{")
	write(".hidden.json", heathAdvisory)
	is("heath 1 0", "known 0 1")
	before := must(client.Result(w.owner.ListFeedsWithResponse(t.Context(), &api.ListFeedsParams{})))(t).Items
	is("heath 1 0", "known 0 1")
	if after := must(client.Result(w.owner.ListFeedsWithResponse(t.Context(),
		&api.ListFeedsParams{})))(t).Items; !after[0].ImportedAt.Equal(before[0].ImportedAt) {
		t.Error("what did not change is imported again")
	}
	write("heath/2026/2.json", strings.ReplaceAll(heathAdvisory, "MOOR-1", "MOOR-2"))
	write("broken.json", strings.ReplaceAll(heathAdvisory, "MOOR-1", "MOOR-3"))
	is("broken 1 0", "heath 2 0", "known 0 1")
}
