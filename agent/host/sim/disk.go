package sim

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// disk keeps the files of a simulated device in a folder of this machine, which is filled with a
// few when it is first looked at.
type disk struct {
	*simulated
	filled sync.Once
	lets   sync.Map // by [2]string{place, account}: what it may do, in words
}

// Windows implements host.Disk.
func (d *disk) Windows() bool { return natures[d.Kind].os == device.Windows }

// Real implements host.Disk.
func (d *disk) Real(path string) (string, error) {
	d.filled.Do(d.fill)
	if d.Windows() {
		path = strings.ReplaceAll(path, `\`, "/")
		if len(path) < 2 || path[1] != ':' {
			return "", fmt.Errorf("%q is no whole path: it begins with a drive, as C:\\", path)
		}
		path = "/" + strings.ToUpper(path[:1]) + ":" + path[2:]
	} else if !strings.HasPrefix(path, "/") {
		return "", fmt.Errorf("%q is no whole path: it begins with /", path)
	}
	return filepath.Join(d.Dir, filepath.Clean(path)), nil
}

// Shown implements host.Disk.
func (d *disk) Shown(real string) string {
	path := strings.TrimPrefix(real, d.Dir)
	if d.Windows() {
		path = strings.ReplaceAll(strings.TrimPrefix(path, "/"), "/", `\`)
		if len(path) == 2 {
			path += `\`
		}
		return path
	}
	if path == "" {
		return "/"
	}
	return path
}

// Owner implements host.Disk.
func (d *disk) Owner(string, fs.FileInfo) (owner, group string) {
	if d.Windows() {
		return "Administrators", ""
	}
	return "root", "root"
}

// Like implements host.Disk.
func (d *disk) Like(*place.Dir, string, *place.Dir, string) error { return nil }

// Access implements host.Disk.
func (d *disk) Access(real string) (list []string) {
	if !d.Windows() {
		return nil
	}
	d.lets.Range(func(key, may any) bool {
		if k := key.([2]string); k[0] == real {
			list = append(list, k[1]+" "+may.(string))
		}
		return true
	})
	slices.Sort(list)
	return append(list, "SYSTEM may do everything (from above)", "Administrators may do everything (from above)",
		"Users may read, run (from above)")
}

// Seclude implements host.Disk.
func (d *disk) Seclude(in *place.Dir, name string) error { return in.Chmod(name, 0o700) }

// Let implements host.Disk.
func (d *disk) Let(in *place.Dir, name, who, may string) error {
	if !d.Windows() {
		return host.ErrNoLists
	}
	key := [2]string{in.Path(name), who}
	if words := map[string]string{link.MayNothing: "may not do everything", link.MayRead: "may read, run",
		link.MayChange: "may read, write, run, remove", link.MayAll: "may do everything"}[may]; words != "" {
		d.lets.Store(key, words)
	} else {
		d.lets.Delete(key)
	}
	return nil
}

// SetOwner implements host.Disk.
func (d *disk) SetOwner(*place.Dir, string, string, string) error { return nil }

// Top implements host.Disk.
func (d *disk) Top(string) (string, error) {
	if d.Windows() {
		return filepath.Join(d.Dir, "C:"), nil
	}
	return d.Dir, nil
}

// Free implements host.Disk.
func (d *disk) Free(string) (int64, error) {
	all := d.At(d.now()).Disks
	return all[len(all)-1].TotalBytes - all[len(all)-1].UsedBytes, nil
}

func (d *disk) fill() {
	texts := map[string]string{"/etc/hostname": d.Name + "\n", "/etc/hosts": "127.0.0.1 localhost\n" + d.Address + " " + d.Name + "\n",
		"/var/log/dpkg.log": "", "/home/ops/notes.txt": "Ask before restarting in surgery hours.\n", "/tmp/.keep": ""}
	switch {
	case d.Windows():
		texts = map[string]string{`/C:/Windows/System32/drivers/etc/hosts`: "127.0.0.1 localhost\r\n",
			"/C:/Users/Public/Documents/Opening hours.txt": "Monday to Saturday 9 to 17\r\n",
			"/C:/ProgramData/IssueDesk/settings.ini":       "[desk]\r\nprinter=Fennick P2\r\nretries=3\r\n",
			"/C:/ProgramData/IssueDesk/desk.log":           "", "/C:/Temp/.keep": ""}
	case d.Kind == Mac:
		texts = map[string]string{"/Users/Shared/Bookings/settings.plist": "<plist/>\n", "/Library/Logs/bookings.log": "",
			"/etc/hosts": "127.0.0.1 localhost\n"}
	case d.Kind == Server:
		texts["/etc/records/sync.conf"] = "# copies records to the surgeries\nlock = /run/records/batch.lock\nwait = forever\nsurgeries " +
			"= high-street, mill, ferry\n"
		texts["/run/records/batch.lock"] = "batch 4471, held by process 1822\n"
		texts["/var/log/records/sync.log"] = ""
		texts["/srv/records/export/2026-11.csv"] = "animal,owner,visit\n"
	}
	if natures[d.Kind].os == device.Linux {
		for name, value := range kernelSample {
			texts["/proc/sys/"+name] = value + "\n"
		}
		texts["/proc/sys/kernel/hostname"], texts["/proc/sys/kernel/osrelease"] = d.Name+"\n", natures[d.Kind].kernel+"\n"
		texts["/sys/devices/system/cpu/cpufreq/policy0/scaling_governor"] = "ondemand\n"
		texts["/sys/devices/system/cpu/cpufreq/policy0/scaling_available_governors"] = "ondemand performance powersave\n"
		texts["/etc/ssh/sshd_config"] = "# set by Curlew & Sedge\nPort 22\nPermitRootLogin no\nPasswordAuthentication " +
			"no\nX11Forwarding no\n"
		texts["/etc/systemd/timesyncd.conf"] = "[Time]\nNTP=ntp.curlew-sedge.example\nRootDistanceMaxSec=5\n"
	}
	for name, text := range texts {
		if text == "" {
			for i := range 40 {
				text += fmt.Sprintf("%s line %d of the log\n", d.now().Add(time.Duration(i-40)*time.Minute).UTC().Format(time.RFC3339), i+1)
			}
		}
		path := filepath.Join(d.Dir, name)
		if os.MkdirAll(filepath.Dir(path), 0o755) == nil {
			os.WriteFile(path, []byte(strings.TrimSuffix(text, "\x00")), 0o644)
		}
	}
}
