package lab

import (
	"bufio"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Each machine stands in control groups of its own (cgroups(7)). Machines that shared them would see each other's
// processes in those of their services, and wait for these to end before they restart.

// ownGroups makes a group of a name below that of this program, in the hierarchies that systemd uses, and returns their
// folders. There are none where this host has no such hierarchy.
func ownGroups(name string) (dirs []string, err error) {
	mounts, err := os.ReadFile("/proc/self/mounts")
	if err != nil {
		return nil, err
	}
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(own)) {
		fields := strings.SplitN(strings.TrimSpace(line), ":", 3) // number, controllers, path
		if len(fields) != 3 || fields[1] != "" && fields[1] != "name=systemd" {
			continue
		}
		if at := hierarchy(string(mounts), fields[1]); at != "" {
			dir := filepath.Join(at, fields[2], name)
			if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
				return dirs, err
			}
			dirs = append(dirs, dir)
		}
	}
	return dirs, nil
}

// hierarchy is where the control groups of a controller are mounted, or those of version 2 where it is "".
func hierarchy(mounts, controller string) string {
	lines := bufio.NewScanner(strings.NewReader(mounts))
	for lines.Scan() {
		fields := strings.Fields(lines.Text()) // device, place, type, options
		if len(fields) < 4 {
			continue
		}
		switch {
		case controller == "" && fields[2] == "cgroup2",
			controller != "" && fields[2] == "cgroup" && slices.Contains(strings.Split(fields[3], ","), controller):
			return fields[1]
		}
	}
	return ""
}

// inGroups is a command line that starts another in control groups.
func inGroups(dirs []string, argv ...string) []string {
	const script = `while [ "$1" != -- ]; do echo $$ >"$1/cgroup.procs" || exit 1; shift; done; shift; exec "$@"`
	return slices.Concat([]string{"/bin/sh", "-c", script, "sh"}, dirs, []string{"--"}, argv)
}

// removeGroups removes groups, with all below them, that no process is in any more.
func removeGroups(dirs []string) {
	for _, dir := range dirs {
		var all []string
		filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				all = append(all, path)
			}
			return nil
		})
		for _, path := range slices.Backward(all) {
			os.Remove(path)
		}
	}
}
