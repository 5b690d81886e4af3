//go:build linux

package linux

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// What the tools print, where it is more than the real run below shows.
func TestReadsRPMTools(t *testing.T) {
	all := DNFUpdates([]byte("moss-tools\t1:2.0-3.el9\tnoarch\t5573\tHeath Tools\tSmall " +
		"programs\nmoss-tools\t1:2.0-3.el9\ti686\t1\t(none)\tx\n\nbroken line\nlibtarn\t1.1-1\tx86_64\t10\t(none)\tA library\n"))
	DNFAdvisories([]byte("MOOR-1 Moderate/Sec. moss-tools-1:2.0-3.el9.noarch\nMOOR-2 Important/Sec. moss-tools-2.0-3.el9.noarch\nMOOR-3 "+
		"enhancement libtarn-1.1-1.x86_64\nMOOR-4 Critical/Sec. libtarn-1.0-1.x86_64\nLast metadata expiration check: 0:00:01 ago\n"), all)
	if len(all) != 2 || all[0].Severity != "high" || all[0].Class != update.Security ||
		!slices.Equal(all[0].Advisories, []string{"MOOR-1", "MOOR-2"}) || all[0].Vendor != "Heath Tools" ||
		all[1].Class != update.Feature || all[1].Vendor != "" {
		t.Errorf("dnf is read as %+v", all)
	}
	if _, err := ZypperUpdates([]byte("Repository 'x' is invalid.")); err == nil {
		t.Error("what is no XML is read")
	}
	patches, err := ZypperPatches([]byte(`<stream><update-status><update-list><update kind="patch" name="MOOR-5" status="needed" category="security" severity="critical" interactive="reboot"/><update kind="patch" name="MOOR-6" status="applied" category="security"/></update-list></update-status></stream>`))
	if err != nil || len(patches) != 1 || !patches[0].Restart {
		t.Errorf("zypper is read as %+v, %v", patches, err)
	}
	all = []update.Update{{Name: "kernel-default", To: "6.4-2"}, {Name: "libtarn", To: "1.0-1"}}
	ZypperInfo([]byte("Name        : MOOR-5\nConflicts   : [2]\n    kernel-default.x86_64 < 6.4-2\n    libtarn < 1.1-1\nProvides : "+
		"moss < 9\n"), patches, all)
	if all[0].Severity != "critical" || all[0].Restart != update.RestartDevice || all[1].Severity != "" {
		t.Errorf("with what it conflicts: %+v", all)
	}
}

// A repository of our own is installed from, updated and gone back from by the real tools, below a folder.
func TestRPMTools(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("installing below a folder needs root")
	}
	for _, program := range []string{"dnf", "zypper", "rpmbuild", "createrepo_c", "modifyrepo_c"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip("there is no " + program)
		}
	}
	dir := t.TempDir()
	run := func(argv ...string) {
		t.Helper()
		if out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", argv, err, out)
		}
	}
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	repo := filepath.Join(dir, "repo")
	if err := os.Mkdir(repo, 0o755); err != nil {
		t.Fatal(err)
	}
	build := func(version string) {
		t.Helper()
		spec := write("moss.spec", fmt.Sprintf("Name: moss-tools\nVersion: %s\nRelease: 1\nSummary: Small programs\nLicense: "+
			"MIT\nVendor: Heath Tools\nBuildArch: noarch\n%%description\nSmall.\n%%files\n", version))
		run("rpmbuild", "-bb", "--quiet", "--define", "_topdir "+dir+"/build", "--define", "_rpmdir "+repo, "--define",
			"_rpmfilename %{NAME}-%{VERSION}.rpm", spec)
		run("createrepo_c", "-q", repo)
	}
	conf := write("dnf.conf", "[main]\ngpgcheck=0\nreposdir="+dir+"/none\ncachedir="+dir+"/cache\n[lab]\nname=lab\nbaseurl=file://"+repo+
		"\ngpgcheck=0\nmetadata_expire=0\n")
	for _, tool := range []string{"dnf", "zypper"} {
		root := filepath.Join(dir, tool)
		if err := os.Mkdir(root, 0o755); err != nil {
			t.Fatal(err)
		}
		u := RPMUpdates{Tool: tool, Options: []string{"-c", conf, "--installroot=" + root, "--releasever=1"}, RPM: []string{"--root", root}}
		os.Remove(filepath.Join(repo, "moss-tools-1.1.rpm"))
		build("1.0")
		if tool == "zypper" {
			u.Options = []string{"--root", root, "--no-gpg-checks"}
			run(u.tool("addrepo", "-G", "file://"+repo, "lab")...)
			run(u.tool("refresh")...)
		}
		run(u.tool("install", "moss-tools")...)
		if all, err := u.Missing(t.Context(), true); err != nil || len(all) != 0 {
			t.Errorf("%s: while all is current %+v, %v", tool, all, err)
		}
		build("1.1")
		run("modifyrepo_c", "--mdtype=updateinfo", write("updateinfo.xml",
			`<updates><update from="x" status="stable" type="security" version="1"><id>MOOR-2026-0200</id><title>moss-tools</title><severity>Important</severity><issued date="2026-11-20 00:00:00"/><description>d</description>
			<references><reference href="https://x.example" id="CVE-2026-70200" type="cve" title="x"/></references><pkglist><collection short="x"><name>x</name><package name="moss-tools" version="1.1" release="1" epoch="0" arch="noarch" src="m.src.rpm"><filename>moss-tools-1.1.rpm</filename></package></collection></pkglist></update></updates>`), filepath.Join(repo, "repodata"))
		all, err := u.Missing(t.Context(), true)
		if err != nil || len(all) != 1 {
			t.Fatalf("%s: %+v, %v", tool, all, err)
		}
		if o := all[0]; o.Source != tool || o.Name != "moss-tools" || o.From != "1.0-1" || o.To != "1.1-1" || o.Class != update.Security ||
			o.Severity != "high" || o.Title != "Small programs" || !slices.Contains(o.Advisories, "MOOR-2026-0200") {
			t.Errorf("%s offers %+v", tool, o)
		}
		is := func(want string) {
			t.Helper()
			if have, err := u.have(t.Context()); err != nil || have["moss-tools"] != want {
				t.Errorf("%s: it has %v, %v, want %s", tool, have, err, want)
			}
		}
		var log bytes.Buffer
		newer, older := []work.Version{{Source: tool, Name: "moss-tools", Version: "1.1-1"}},
			[]work.Version{{Source: tool, Name: "moss-tools", Version: "1.0-1"}}
		if err := u.Fetch(t.Context(), newer, &log); err != nil {
			t.Errorf("%s: fetching: %v", tool, err)
		}
		is("1.0-1")
		for range 2 { // the second time nothing is missing
			if err := u.Install(t.Context(), newer, &log); err != nil {
				t.Errorf("%s: installing: %v", tool, err)
			}
			is("1.1-1")
		}
		if err := u.Back(t.Context(), older, &log); err != nil {
			t.Errorf("%s: going back: %v", tool, err)
		}
		is("1.0-1")
		if !strings.Contains(log.String(), "moss-tools 1.0-1 → 1.1-1") ||
			!strings.Contains(log.String(), "Nothing of these is missing here.") {
			t.Errorf("%s tells %s", tool, log.String())
		}
		if err := u.Install(t.Context(), []work.Version{{Source: tool, Name: "moss-tools", Version: "9-9"}}, &log); err == nil {
			t.Errorf("%s installs what there is not", tool)
		}
		// A repository that is gone: said, and what is known stays known.
		os.Rename(repo, repo+"-gone")
		if _, err := u.Missing(t.Context(), true); err == nil || !strings.Contains(err.Error(), "cannot read its sources") {
			t.Errorf("%s: a repository that is gone: %v", tool, err)
		}
		os.Rename(repo+"-gone", repo)
	}
}
