package sim

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"path"
	"regexp"
	"strings"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
)

// product is a piece of software of the sample world. A new version comes out every so many days,
// and reaches a device within spread days of that.
type product struct {
	name, publisher string
	major, minor    int
	days            int
	spread          float64
	program         string // its process, where it has one
}

var products = map[string][]product{
	device.Windows: {{"Heron Browser", "Heron Works", 128, 0, 9, 2, "heron.exe"},
		{"Quillpad Office", "Quillpad", 24, 3, 23, 12, "quillpad.exe"}, {"Hedge Protection", "Hedge Labs", 7, 2, 13, 1, "hedge.exe"},
		{"Larkspur PDF", "Larkspur Soft", 5, 1, 31, 20, ""}, {"Bracken Archive", "Bracken", 3, 9, 57, 40, ""},
		{"Fennick Control", "Fennick", 2, 8, 44, 9, "fenctl.exe"}, {"Millstone Runtime", "Millstone", 11, 0, 37, 5, ""}},
	device.MacOS: {{"Heron Browser", "Heron Works", 128, 0, 9, 2, "Heron"}, {"Quillpad Office", "Quillpad", 24, 3, 23, 12, "Quillpad"},
		{"Sallow Notes", "Sallow", 4, 4, 29, 10, ""}},
	device.Linux: {{"openssl", "", 3, 0, 41, 3, ""}, {"curl", "", 7, 88, 33, 3, ""}, {"linux-image", "", 6, 1, 19, 6, ""},
		{"openssh-server", "", 9, 2, 47, 4, "sshd"}, {"tzdata", "", 2026, 1, 61, 3, ""}, {"postgresql-15", "", 15, 8, 53, 9, "postgres"}},
}

// Software of one use alone.
const (
	issueDesk     = "Larkmoor Issue Desk"
	printer       = "Fennick Print Driver"
	printerBefore = "4.1.7"
	printerAfter  = "4.2.0"
)

// version is what d has of a product at a time.
func (d Device) version(p product, t time.Time) string {
	every := float64(p.days) * 24 * float64(time.Hour)
	late := hash(d.Seed, uint64(len(p.name))*131+uint64(p.major)) * p.spread * 24 * float64(time.Hour)
	n := int(math.Floor((float64(t.UnixNano()) - late) / every))
	return fmt.Sprintf("%d.%d.%d", p.major, p.minor+n%7, n%40)
}

// Items implements host.Lister.
func (s *simulated) Items(context.Context) ([]inventory.Item, error) { return s.items(), nil }

// ItemsAt is what d consists of at a time, past or present.
func (d Device) ItemsAt(t time.Time) []inventory.Item {
	n := natures[d.Kind]
	var items []inventory.Item
	add := func(section, key, name string, fields ...string) {
		i := inventory.Item{Section: section, Key: key, Name: name, Fields: map[string]string{}}
		for k := 0; k+1 < len(fields); k += 2 {
			i.Fields[fields[k]] = fields[k+1]
		}
		items = append(items, i)
	}
	software := func(name, version, publisher string) {
		source, kind := map[string]string{device.Windows: "installer", device.MacOS: "app", device.Linux: "deb"}[n.os], "generic"
		space := ""
		if n.os == device.Linux {
			kind, space = "deb", "debian"
		}
		add(inventory.Software, source+" "+name, name, "version", version, "publisher", publisher, "source", source, "purl",
			inventory.PackageURL(kind, space, name, version))
	}
	serial := (&simulated{Device: d}).serial()
	add("system", "system", n.osName, "version", n.osVersion, "kernel", n.kernel, "architecture", n.arch)
	add("hardware", "computer", n.model, "serial", serial, "maker", n.vendor)
	add("hardware", "processor", n.cpu, "cores", fmt.Sprint(n.cores))
	add("hardware", "firmware", "Firmware", "version", fmt.Sprintf("1.%d", 4+d.Seed%3))
	for i := range 2 {
		add("memory", fmt.Sprint(i), fmt.Sprintf("%d MiB", n.memory>>21), "slot", fmt.Sprint("slot ", i))
	}
	for i, disk := range n.disks {
		add("disks", fmt.Sprint(i), fmt.Sprintf("Disk of %.0f GB", float64(disk.TotalBytes)/gb), "serial", fmt.Sprintf("%s-%d", serial, i),
			"health", "good", "kind", "solid state")
	}
	add("adapters", "eth", "Ethernet", "hardware_address",
		fmt.Sprintf("02:00:%02x:%02x:%02x:%02x", byte(d.Seed>>24), byte(d.Seed>>16), byte(d.Seed>>8), byte(d.Seed)))
	add("network", "addresses", "Addresses of Ethernet", "addresses", d.Address)
	if i := strings.LastIndexByte(d.Address, '.'); i > 0 {
		add("network", "gateway", "Gateway", "address", d.Address[:i]+".1")
		add("network", "dns", "Name servers", "addresses", d.Address[:i]+".2")
	}
	for _, p := range products[n.os] {
		software(p.name, d.version(p, t), p.publisher)
	}
	for _, o := range released[n.os] {
		if o.Source == "apt" && d.Seed%8 == 0 {
			software(o.Name, o.To, o.Vendor)
		}
	}
	for _, o := range (&simulated{Device: d}).offers() {
		if o.Source == "apt" {
			software(o.Name, o.From, o.Vendor)
		}
	}
	add("users", "admin", "moor-admin", "group", "administrators")
	add(inventory.Safety, "firewall", "Firewall", "state", "on")
	add(inventory.Safety, "administrators", "Local administrators", "names", "moor-admin")
	add(inventory.Safety, "restart", "Restart", "state", "no")
	switch n.os {
	case device.Windows:
		d.windows(t, add, software)
	case device.MacOS:
		add(inventory.Safety, "malware", "Malware protection", "state", "current", "name", "built in")
		add(inventory.Safety, "encryption /", "Disk encryption", "state", "on")
		add("services", "com.heron.update", "Heron update", "start", "automatic")
	default:
		add("services", "ssh", "ssh", "start", "enabled")
		add("services", "cron", "cron", "start", "enabled")
		add("ports", "tcp 22", "TCP 22", "process", "sshd", "address", "all addresses")
		add("tasks", "backup", "17 2 * * * root /usr/local/sbin/backup", "by", "cron")
		if d.Kind == Server {
			add("services", "postgresql", "postgresql", "start", "enabled")
			add("ports", "tcp 5432", "TCP 5432", "process", "postgres", "address", "127.0.0.1")
		}
	}
	return items
}

// windows adds what a Windows device has.
func (d Device) windows(t time.Time, add func(section, key, name string, fields ...string),
	software func(name, version, publisher string)) {
	version := printerBefore
	if !d.Driver.IsZero() && !t.Before(d.Driver) {
		version = printerAfter
	}
	if d.Kind == Desk || d.Kind == Laptop {
		software(printer, version, "Fennick")
		add("peripherals", "printer", "Fennick MFP 400 printer", "connection", "network")
		add("services", "Spooler", "Spooler", "start", "automatic")
		add("startup", "fenprint", "Fennick Print Monitor", "command", `C:\Program Files\Fennick\fenprint.exe`)
	}
	if d.Kind == Desk {
		software(issueDesk, "9.3", "Curlew & Sedge")
	}
	add("services", "W32Time", "W32Time", "start", "automatic")
	add("monitors", "1", "Fennick 24 monitor", "resolution", "1920x1080")
	add("ports", "tcp 445", "TCP 445", "process", "System", "address", "all addresses")
	add("tasks", "hedge", `\Hedge\Daily scan`, "state", "enabled")
	state := "current"
	if d.Seed%89 == 11 {
		state = "out of date"
	}
	add(inventory.Safety, "malware", "Malware protection", "state", state, "name", "Hedge Protection")
	add(inventory.Safety, "encryption C:", "Disk encryption", "state", "on")
	add(inventory.Safety, "updates", "Updates", "waiting", fmt.Sprint(d.Seed%5), "oldest_days", fmt.Sprint(d.Seed%19))
}

// logOn is the last log-on before a time; people of a desk take turns every few hours.
func (d Device) logOn(t time.Time, n nature) *device.LogOn {
	if n.os != device.Windows || len(d.People) == 0 {
		return nil
	}
	every := 3 * time.Hour
	at := t.Add(-time.Duration(d.Seed % uint64(every))).Truncate(every).Add(time.Duration(d.Seed % uint64(every)))
	turn := uint64(at.Unix())
	seconds := 14 + 18*hash(d.Seed+31, turn)
	// The new printer driver makes most wait; a few wait for reasons of their own.
	driver := !d.Driver.IsZero() && at.After(d.Driver) && hash(d.Seed, 33) > 0.15
	if driver || hash(d.Seed, 34) > 0.93 {
		seconds = 68 + 45*hash(d.Seed+32, turn)
	}
	return &device.LogOn{Person: d.People[turn/uint64(every/time.Second)%uint64(len(d.People))], At: at,
		Seconds: math.Round(seconds*10) / 10}
}

// Probe implements host.Prober: what is asked for is well, and answers as quickly as the link does.
func (s *simulated) Probe(_ context.Context, p device.Probe) device.ProbeResult {
	r := device.ProbeResult{OK: true, Value: 2 + 30*smooth(s.Seed+uint64(len(p.Target)), s.now(), time.Minute)}
	switch p.Kind {
	case device.ProbeService:
		answer := s.service(p.Target)
		if r.OK, r.Value, r.Detail = answer == "running", 1, answer; !r.OK {
			r.Value = 0
		}
	case device.ProbeProcess:
		r.Value = float64(len(s.programs(p.Target)))
	case device.ProbeLog:
		r.Value = 0
		if pattern, err := regexp.Compile(p.Pattern); err == nil {
			for _, e := range s.past(s.now().Add(-10*time.Minute), s.now()) {
				if pattern.MatchString(e.Message) {
					r.Value += 0.1 // a minute
					r.Detail = e.Message
				}
			}
		}
	}
	return r
}

func (s *simulated) service(name string) (state string) {
	for i, j := range s.jobs() {
		if j.name == name || j.name == name+".service" {
			return s.running(i, j).State
		}
	}
	for _, i := range s.ItemsAt(s.now()) {
		if i.Section == "services" && strings.EqualFold(i.Name, name) {
			return "running"
		}
	}
	return "not installed"
}

func (s *simulated) programs(pattern string) (names []string) {
	all := []string{"agent"}
	if natures[s.Kind].os == device.Windows {
		all = append(all, "explorer.exe", "spoolsv.exe", "fenprint.exe")
	}
	for _, p := range products[natures[s.Kind].os] {
		if p.program != "" && smooth(s.Seed+uint64(len(p.program)), s.now(), time.Hour) > 0.3 {
			all = append(all, p.program)
		}
	}
	for _, name := range all {
		if ok, _ := path.Match(strings.ToLower(pattern), strings.ToLower(name)); ok {
			names = append(names, name)
		}
	}
	return names
}

// Ask implements host.Asker.
func (s *simulated) Ask(_ context.Context, q link.Question) (link.Answer, error) {
	items := inventory.Of(s.ItemsAt(s.now()))
	switch q.Kind {
	case link.AskProcess:
		names := s.programs(q.Name)
		n := float64(len(names))
		return link.Answer{Value: fmt.Sprint(len(names)), Number: &n, Lines: names}, nil
	case link.AskService:
		return link.Answer{Value: s.service(q.Name)}, nil
	case link.AskPort:
		for ref, i := range items {
			if ref.Section == "ports" && ref.Key == "tcp "+strings.TrimSpace(q.Name) {
				return link.Answer{Value: i.Fields["process"], Lines: []string{i.Fields["address"]}}, nil
			}
		}
		return link.Answer{Value: "closed"}, nil
	case link.AskFile:
		return s.file(q, items), nil
	case link.AskRegistry:
		if natures[s.Kind].os != device.Windows {
			return link.Answer{}, errors.New("this system has no registry")
		}
		if i, ok := items[inventory.Ref{Section: inventory.Software, Key: "installer " + printer}]; ok &&
			strings.EqualFold(q.Name, `HKLM\SOFTWARE\Fennick\Print\Version`) {
			return link.Answer{Value: i.Fields["version"]}, nil
		}
		return link.Answer{Value: "absent"}, nil
	}
	return link.Answer{}, fmt.Errorf("the agent knows no question %q", q.Kind)
}

// file answers for the one file that simulated Windows devices have beside the system's own.
func (s *simulated) file(q link.Question, items inventory.Snapshot) link.Answer {
	i, ok := items[inventory.Ref{Section: inventory.Software, Key: "installer " + printer}]
	if !ok || !strings.EqualFold(q.Name, `C:\Windows\System32\fenprint.dll`) {
		return link.Answer{Value: "absent"}
	}
	version := i.Fields["version"]
	size := 413_696.0 + float64(len(version))*512 + float64(version[2])*1024
	answer := link.Answer{Value: "present", Number: &size, Lines: []string{fmt.Sprintf("%.0f bytes, version %s", size, version)}}
	if q.Digest {
		sum := sha256.Sum256([]byte(printer + version))
		answer.Value = hex.EncodeToString(sum[:])
	}
	return answer
}
