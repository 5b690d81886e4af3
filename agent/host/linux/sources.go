//go:build linux

package linux

import (
	"bufio"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// sources are classes that the kernel tells of.
var sources = []host.Source{
	{Class: link.QueryClass{Name: "mount", Title: "Mounted file systems", Source: "/proc/self/mounts",
		Fields: []link.QueryField{{Name: "on", Type: "text"}, {Name: "device", Type: "text"},
			{Name: "kind", Type: "text"}, {Name: "options", Type: "text"}, {Name: "total", Type: "number", About: "bytes"},
			{Name: "free", Type: "number", About: "bytes"},
			{Name: "used", Type: "number", About: "percent"}, {Name: "files_free", Type: "number"}}}, Rows: mounts},
	{Class: link.QueryClass{Name: "kernel_module", Title: "Kernel modules", Source: "/proc/modules",
		Fields: []link.QueryField{{Name: "name", Type: "text"}, {Name: "size", Type: "number", About: "bytes"},
			{Name: "users", Type: "number"}, {Name: "used_by", Type: "text"}, {Name: "state", Type: "text"}}}, Rows: modules},
	{Class: link.QueryClass{Name: "block_device", Title: "Block devices", Source: "/sys/block",
		Fields: []link.QueryField{{Name: "name", Type: "text"}, {Name: "size", Type: "number", About: "bytes"},
			{Name: "model", Type: "text"}, {Name: "rotates", Type: "flag"}, {Name: "removable", Type: "flag"},
			{Name: "read_only", Type: "flag"}, {Name: "scheduler", Type: "text"}}}, Rows: blockDevices},
}

// present leaves of sources those that this kernel has.
func present(all []host.Source) []host.Source {
	return slices.DeleteFunc(slices.Clone(all), func(s host.Source) bool {
		_, err := os.Stat(s.Class.Source)
		return err != nil
	})
}

// fields reads the lines of a file, part by part.
func fields(path string, each func(parts []string) error) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	s := bufio.NewScanner(f)
	for s.Scan() {
		if err := each(strings.Fields(s.Text())); err != nil {
			return err
		}
	}
	return s.Err()
}

// mounts reads proc_pid_mounts(5). What hangs, such as a share that is gone, is told without its size.
func mounts(_ context.Context, each func(map[string]any) error) error {
	remote := map[string]bool{"nfs": true, "nfs4": true, "cifs": true, "smb3": true, "ceph": true, "fuse.sshfs": true, "autofs": true}
	return fields("/proc/self/mounts", func(p []string) error {
		if len(p) < 4 {
			return nil
		}
		on := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(p[1])
		row := map[string]any{"on": on, "device": p[0], "kind": p[2], "options": p[3]}
		var s syscall.Statfs_t
		if !remote[p[2]] && syscall.Statfs(on, &s) == nil && s.Blocks > 0 {
			size := float64(s.Bsize)
			row["total"], row["free"], row["files_free"] = float64(s.Blocks)*size, float64(s.Bavail)*size, float64(s.Ffree)
			row["used"] = float64(int(1000*(1-float64(s.Bavail)/float64(s.Blocks)))) / 10
		}
		return each(row)
	})
}

func modules(_ context.Context, each func(map[string]any) error) error {
	return fields("/proc/modules", func(p []string) error {
		if len(p) < 5 {
			return nil
		}
		size, _ := strconv.ParseFloat(p[1], 64)
		users, _ := strconv.ParseFloat(p[2], 64)
		return each(map[string]any{"name": p[0], "size": size, "users": users,
			"used_by": strings.Trim(strings.ReplaceAll(p[3], ",", " "), "- "), "state": strings.ToLower(p[4])})
	})
}

func blockDevices(_ context.Context, each func(map[string]any) error) error {
	all, err := os.ReadDir("/sys/block")
	if err != nil {
		return err
	}
	for _, d := range all {
		at := func(name string) string { return strings.TrimSpace(read(filepath.Join("/sys/block", d.Name(), name))) }
		sectors, _ := strconv.ParseFloat(at("size"), 64)
		scheduler := at("queue/scheduler")
		if _, rest, ok := strings.Cut(scheduler, "["); ok {
			scheduler, _, _ = strings.Cut(rest, "]")
		}
		if err := each(map[string]any{"name": d.Name(), "size": sectors * 512, "model": at("device/model"),
			"rotates": at("queue/rotational") == "1", "removable": at("removable") == "1",
			"read_only": at("ro") == "1", "scheduler": scheduler}); err != nil {
			return err
		}
	}
	return nil
}
