//go:build linux

package linux

import (
	"bufio"
	"context"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	fw "moorwatch.example/agent/host/firmware"
	"moorwatch.example/core/inventory"
)

type adder = func(section, key, name string, fields ...string)

// list adds what Linux tells of itself: through sysfs, its package managers and its configuration.
func list(ctx context.Context, add adder) {
	firmware(add)
	memoryModules(add, "/sys/firmware/dmi/entries")
	disks(ctx, add)
	power(add)
	usb(add)
	if f, err := os.Open("/var/lib/dpkg/status"); err == nil {
		defer f.Close()
		dpkg(f, distribution(), add)
	}
	rpm(ctx, add)
	flatpak(ctx, add)
	units(ctx, add)
	startup(add)
	accounts(add)
	routes(add)
	certificates(add)
	tasks(add)
	safety(ctx, add)
}

// output runs a program that may not be there; nothing is its answer then.
func output(ctx context.Context, name string, args ...string) string {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.Output()
	if err != nil {
		return ""
	}
	return string(out)
}

func firmware(add adder) {
	dmi := func(name string) string { return read("/sys/class/dmi/id/" + name) }
	if board := strings.TrimSpace(dmi("board_vendor") + " " + dmi("board_name")); board != "" {
		add("hardware", "board", board, "serial", dmi("board_serial"), "version", dmi("board_version"))
	}
	if version := dmi("bios_version"); version != "" {
		add("hardware", "firmware", strings.TrimSpace(dmi("bios_vendor")+" firmware"), "version", version, "date", dmi("bios_date"))
	}
}

// memoryModules reads the firmware's table of memory devices.
func memoryModules(add adder, dir string) {
	entries, _ := filepath.Glob(dir + "/17-*/raw")
	for n, path := range entries {
		if b, err := os.ReadFile(path); err == nil {
			if s, _, ok := fw.One(b); ok {
				s.Module(add, n)
			}
		}
	}
}

// health is what a disk says of itself, where smartctl is there to ask it (smartctl(8), exit status
// and JSON); empty otherwise.
func health(ctx context.Context, name string) string {
	var answer struct {
		Status *struct{ Passed bool } `json:"smart_status"`
	}
	// The exit status has a bit for each kind of problem; the answer is printed all the same.
	out, _ := exec.CommandContext(ctx, "smartctl", "--json", "--health", "/dev/"+name).Output()
	if json.Unmarshal(out, &answer) != nil || answer.Status == nil {
		return ""
	}
	return map[bool]string{true: "good", false: "failing"}[answer.Status.Passed]
}

func disks(ctx context.Context, add adder) {
	all, _ := filepath.Glob("/sys/block/*")
	for _, path := range all {
		name := filepath.Base(path)
		sectors, ok := number(path + "/size")
		if !ok || sectors == 0 || strings.HasPrefix(name, "loop") || strings.HasPrefix(name, "ram") || strings.HasPrefix(name, "dm-") ||
			strings.HasPrefix(name, "zram") {
			continue
		}
		model := read(path + "/device/model")
		if model == "" {
			model = name
		}
		kind := map[string]string{"0": "solid state", "1": "spinning"}[read(path+"/queue/rotational")]
		add("disks", name, model, "size", fmt.Sprintf("%.0f GB", sectors*512/1e9), "serial", read(path+"/device/serial"), "kind", kind,
			"firmware", read(path+"/device/firmware_rev"), "health", health(ctx, name))
	}
}

func power(add adder) {
	all, _ := filepath.Glob("/sys/class/power_supply/*")
	for _, path := range all {
		if read(path+"/type") != "Battery" {
			continue
		}
		add("batteries", filepath.Base(path), strings.TrimSpace(read(path+"/manufacturer")+" "+read(path+"/model_name")), "serial",
			read(path+"/serial_number"), "technology", read(path+"/technology"))
	}
}

func usb(add adder) {
	all, _ := filepath.Glob("/sys/bus/usb/devices/*/product")
	for _, path := range all {
		dir := filepath.Dir(path)
		if strings.HasPrefix(filepath.Base(dir), "usb") { // the controllers themselves
			continue
		}
		id := read(dir+"/idVendor") + ":" + read(dir+"/idProduct")
		add("peripherals", id+" "+read(dir+"/serial"), strings.TrimSpace(read(dir+"/manufacturer")+" "+read(path)), "usb_id", id)
	}
	screens, _ := filepath.Glob("/sys/class/drm/*/edid")
	for _, path := range screens {
		if b, err := os.ReadFile(path); err == nil && len(b) >= 128 {
			add("monitors", filepath.Base(filepath.Dir(path)), fw.MonitorName(b), "connector", filepath.Base(filepath.Dir(path)))
		}
	}
}

// distribution is the namespace of the package URLs of this system.
func distribution() string {
	for line := range strings.Lines(read("/etc/os-release")) {
		if id, ok := strings.CutPrefix(strings.TrimSpace(line), "ID="); ok {
			return strings.Trim(id, `"'`)
		}
	}
	return "debian"
}

// dpkg reads the status file of Debian's package manager (deb-status(5)).
func dpkg(f *os.File, distribution string, add adder) {
	var fields map[string]string
	flush := func() {
		if strings.HasSuffix(fields["Status"], " installed") {
			name, version, arch := fields["Package"], fields["Version"], fields["Architecture"]
			built, builtVersion, _ := strings.Cut(fields["Source"], " ") // such as "heathssl (3.0.14-1)"
			add(inventory.Software, "deb "+name+" "+arch, name, "version", version, "source", "deb", "publisher", fields["Maintainer"],
				"section", fields["Section"],
				"source_package", built, "source_version", strings.Trim(builtVersion, "()"),
				"purl", inventory.PackageURL("deb", distribution, name, version, "arch", arch))
		}
	}
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 64<<10), 4<<20)
	for fields = map[string]string{}; lines.Scan(); {
		line := lines.Text()
		if line == "" {
			flush()
			fields = map[string]string{}
			continue
		}
		switch key, value, _ := strings.Cut(line, ": "); key {
		case "Package", "Status", "Version", "Architecture", "Maintainer", "Section", "Source":
			fields[key] = value
		}
	}
	flush()
}

func rpm(ctx context.Context, add adder) {
	for line := range strings.Lines(output(ctx, "rpm", "-qa", "--qf",
		`%{NAME}\t%{EPOCHNUM}:%{VERSION}-%{RELEASE}\t%{ARCH}\t%{VENDOR}\t%{SOURCERPM}\n`)) {
		if part := strings.Split(strings.TrimSpace(line), "\t"); len(part) == 5 {
			version := strings.TrimPrefix(part[1], "0:")
			add(inventory.Software, "rpm "+part[0]+" "+part[2], part[0], "version", version, "source", "rpm", "publisher", part[3],
				"source_package", sourceRPM(part[4]),
				"purl", inventory.PackageURL("rpm", distribution(), part[0], version, "arch", part[2]))
		}
	}
}

// sourceRPM is the name of the package that one was built from, by the name of its file, NAME-VERSION-RELEASE.src.rpm.
func sourceRPM(file string) string {
	for range 2 {
		file = file[:max(strings.LastIndexByte(file, '-'), 0)]
	}
	return file
}

func flatpak(ctx context.Context, add adder) {
	for line := range strings.Lines(output(ctx, "flatpak", "list", "--app", "--columns=application,version,origin")) {
		if part := strings.Split(strings.TrimSpace(line), "\t"); len(part) == 3 {
			add(inventory.Software, "flatpak "+part[0], part[0], "version", part[1], "source", "flatpak", "purl",
				inventory.PackageURL("generic", "", part[0], part[1], "origin", part[2]))
		}
	}
}

// units lists services that are started by themselves or may be, and timers.
func units(ctx context.Context, add adder) {
	for line := range strings.Lines(output(ctx, "systemctl", "list-unit-files", "--no-legend", "--no-pager", "--type=service,timer")) {
		part := strings.Fields(line)
		if len(part) < 2 {
			continue
		}
		switch name, state := part[0], part[1]; {
		case state == "static" || state == "generated" || state == "transient" || state == "alias" || state == "indirect":
		case strings.HasSuffix(name, ".timer"):
			add("tasks", name, strings.TrimSuffix(name, ".timer"), "by", "systemd timer", "state", state)
		default:
			add("services", name, strings.TrimSuffix(name, ".service"), "start", state)
		}
	}
}

func startup(add adder) {
	all, _ := filepath.Glob("/etc/xdg/autostart/*.desktop")
	for _, path := range all {
		fields := map[string]string{}
		for line := range strings.Lines(read(path)) {
			if key, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok && fields[key] == "" {
				fields[key] = value
			}
		}
		add("startup", filepath.Base(path), fields["Name"], "command", fields["Exec"], "for", "everybody")
	}
}

// firstPerson is the least number of an account that is a person's (login.defs(5), UID_MIN).
const firstPerson = 1000

func accounts(add adder) {
	for line := range strings.Lines(read("/etc/passwd")) {
		part := strings.Split(strings.TrimSpace(line), ":")
		id := 0
		if len(part) < 7 {
			continue
		}
		fmt.Sscan(part[2], &id)
		if (id >= firstPerson && id < 60000) || id == 0 {
			add("users", part[0], part[0], "number", part[2], "shell", part[6], "home", part[5], "full_name",
				strings.Split(part[4], ",")[0])
		}
	}
	for line := range strings.Lines(read("/etc/group")) {
		if part := strings.Split(strings.TrimSpace(line), ":"); len(part) == 4 && part[3] != "" {
			add("groups", part[0], part[0], "members", strings.ReplaceAll(part[3], ",", ", "))
		}
	}
}

// routes reads the default route (proc(5)) and the name servers (resolv.conf(5)).
func routes(add adder) {
	for line := range strings.Lines(read("/proc/net/route")) {
		part := strings.Fields(line)
		if len(part) < 3 || part[1] != "00000000" {
			continue
		}
		if b, err := hex.DecodeString(part[2]); err == nil && len(b) == 4 {
			add("network", "gateway "+part[0], "Gateway of "+part[0], "address", net.IPv4(b[3], b[2], b[1], b[0]).String())
		}
	}
	var servers []string
	for line := range strings.Lines(read("/etc/resolv.conf")) {
		if part := strings.Fields(line); len(part) >= 2 && part[0] == "nameserver" {
			servers = append(servers, part[1])
		}
	}
	if len(servers) > 0 {
		add("network", "dns", "Name servers", "addresses", strings.Join(servers, ", "))
	}
}

// certificates lists the authorities that were added here, and the certificates that services of
// this computer show.
func certificates(add adder) {
	for _, pattern := range []string{"/usr/local/share/ca-certificates/*.crt", "/usr/local/share/ca-certificates/*/*.crt",
		"/etc/pki/ca-trust/source/anchors/*", "/etc/letsencrypt/live/*/cert.pem", "/etc/ssl/private/*.crt"} {
		all, _ := filepath.Glob(pattern)
		for _, path := range all {
			b, err := os.ReadFile(path)
			if err != nil {
				continue
			}
			block, _ := pem.Decode(b)
			if block == nil {
				continue
			}
			if c, err := x509.ParseCertificate(block.Bytes); err == nil {
				add("certificates", path, c.Subject.String(), "issuer", c.Issuer.String(), "expires", c.NotAfter.UTC().Format("2006-01-02"),
					"serial", c.SerialNumber.Text(16), "file", path)
			}
		}
	}
}

// tasks lists cron's tables (crontab(5)).
func tasks(add adder) {
	files, _ := filepath.Glob("/etc/cron.d/*")
	own, _ := filepath.Glob("/var/spool/cron/crontabs/*")
	for _, path := range append(append(files, "/etc/crontab"), own...) {
		for line := range strings.Lines(read(path)) {
			line = strings.TrimSpace(line)
			if line == "" || line[0] == '#' || strings.Contains(strings.Fields(line)[0], "=") {
				continue
			}
			add("tasks", path+" "+line, line, "by", "cron", "file", path)
		}
	}
}

// safety tells how safe the computer is, as far as it can be told without changing anything.
func safety(ctx context.Context, add adder) {
	add(inventory.Safety, "firewall", "Firewall", "state", firewall(ctx))
	var names []string
	for line := range strings.Lines(read("/etc/group")) {
		part := strings.Split(strings.TrimSpace(line), ":")
		if len(part) == 4 && (part[0] == "sudo" || part[0] == "wheel" || part[0] == "admin") && part[3] != "" {
			names = append(names, strings.Split(part[3], ",")...)
		}
	}
	add(inventory.Safety, "administrators", "Local administrators", "names", strings.Join(names, ", "))
	state, reason := "no", ""
	if _, err := os.Stat("/run/reboot-required"); err == nil {
		state, reason = "pending", strings.Join(strings.Fields(read("/run/reboot-required.pkgs")), ", ")
	}
	add(inventory.Safety, "restart", "Restart", "state", state, "reason", reason)
	encrypted := "off"
	mapped, _ := filepath.Glob("/sys/block/dm-*/dm/uuid")
	for _, path := range mapped {
		if strings.HasPrefix(read(path), "CRYPT-") {
			encrypted = "on"
		}
	}
	if _, err := os.Stat("/sys/class/dmi/id"); err == nil || encrypted == "on" {
		add(inventory.Safety, "encryption /", "Disk encryption", "state", encrypted)
	}
}

// firewall is "on" where a packet filter has rules, "off" where it has none, and empty where that
// cannot be told.
func firewall(ctx context.Context) string {
	if strings.Contains(read("/etc/ufw/ufw.conf"), "ENABLED=yes") {
		return "on"
	}
	if _, err := exec.LookPath("nft"); err == nil && os.Geteuid() == 0 {
		if strings.TrimSpace(output(ctx, "nft", "list", "tables")) != "" {
			return "on"
		}
		return "off"
	}
	return ""
}
