package lab

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Where control groups are mounted is read from what the kernel tells, in both versions and in the mixture of them.
func TestHierarchy(t *testing.T) {
	const mixed = `tmpfs /sys/fs/cgroup tmpfs rw 0 0
cgroup /sys/fs/cgroup/memory cgroup rw,relatime,memory 0 0
cgroup /sys/fs/cgroup/systemd cgroup rw,relatime,name=systemd 0 0
cgroup2 /sys/fs/cgroup/unified cgroup2 rw,relatime 0 0
broken line
`
	const second = "cgroup2 /sys/fs/cgroup cgroup2 rw,nosuid 0 0\n"
	for _, c := range []struct{ mounts, controller, want string }{
		{mixed, "name=systemd", "/sys/fs/cgroup/systemd"},
		{mixed, "", "/sys/fs/cgroup/unified"},
		{mixed, "cpu", ""},
		{second, "", "/sys/fs/cgroup"},
		{second, "name=systemd", ""},
		{"", "", ""},
	} {
		if got := hierarchy(c.mounts, c.controller); got != c.want {
			t.Errorf("%q is at %q, want %q", c.controller, got, c.want)
		}
	}
}

// A program is started in groups, with its words as they are, and not at all where a group cannot be entered.
func TestInGroups(t *testing.T) {
	dirs := []string{filepath.Join(t.TempDir(), "one group"), filepath.Join(t.TempDir(), "another")}
	for _, dir := range dirs {
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	argv := inGroups(dirs, "/bin/sh", "-c", `printf '%s|' "$0" "$@"; echo $$`, "a b", "--", "$c")
	out, err := exec.Command(argv[0], argv[1:]...).Output()
	words := strings.Split(strings.TrimSpace(string(out)), "|")
	if err != nil || len(words) != 4 || !slices.Equal(words[:3], []string{"a b", "--", "$c"}) {
		t.Fatalf("%q, %v", out, err)
	}
	for _, dir := range dirs {
		if pid, err := os.ReadFile(filepath.Join(dir, "cgroup.procs")); err != nil || strings.TrimSpace(string(pid)) != words[3] {
			t.Errorf("%s was entered by %q, and it is %s: %v", dir, pid, words[3], err)
		}
	}
	argv = inGroups([]string{"/not/there"}, "/bin/echo", "started")
	if out, err := exec.Command(argv[0], argv[1:]...).Output(); err == nil || len(out) > 0 {
		t.Errorf("outside its group it printed %q", out)
	}
	argv = inGroups(nil, "/bin/echo", "started")
	if out, err := exec.Command(argv[0], argv[1:]...).Output(); err != nil || string(out) != "started\n" {
		t.Errorf("without groups it printed %q: %v", out, err)
	}
}

// Groups are made once more where they are there, and are gone afterwards with those that were made in them.
func TestOwnGroups(t *testing.T) {
	if why := Missing(); why != "" {
		t.Skip(why)
	}
	dirs, err := ownGroups("lab-test-of-groups")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { removeGroups(dirs) })
	again, err := ownGroups("lab-test-of-groups")
	if err != nil || !slices.Equal(again, dirs) {
		t.Errorf("%q and %q, %v", dirs, again, err)
	}
	for _, dir := range dirs {
		if err := os.Mkdir(filepath.Join(dir, "payload"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	removeGroups(dirs)
	for _, dir := range dirs {
		if _, err := os.Stat(dir); err == nil {
			t.Errorf("%s is left", dir)
		}
	}
}
