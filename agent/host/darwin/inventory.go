//go:build unix

package darwin

import (
	"cmp"
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"howett.net/plist"

	"moorwatch.example/core/inventory"
)

type adder = func(section, key, name string, fields ...string)

// lister adds what macOS tells of itself: through property lists, and its programs that answer with one
// or with JSON.
type lister struct {
	tools tools
	root  string // below which the system's folders are; "" but in tests
}

func (l lister) list(ctx context.Context, add adder) {
	l.programs(add)
	l.receipts(add)
	l.launchd(add)
	l.accounts(ctx, add)
	l.disks(ctx, add)
	l.profiler(ctx, add)
	l.certificates(ctx, add)
	l.safety(ctx, add)
}

// read reads a property list; nothing is done with one that cannot be read.
func read(path string, v any) bool {
	b, err := os.ReadFile(path)
	if err == nil {
		_, err = plist.Unmarshal(b, v)
	}
	return err == nil
}

// programs lists applications, by what each says of itself.
func (l lister) programs(add adder) {
	for _, pattern := range []string{"/Applications/*.app", "/Applications/*/*.app", "/Users/*/Applications/*.app"} {
		all, _ := filepath.Glob(l.root + pattern)
		for _, path := range all {
			var raw map[string]any
			if !read(filepath.Join(path, "Contents/Info.plist"), &raw) {
				continue
			}
			text := func(key string) string { s, _ := raw[key].(string); return s }
			whose := ""
			if rest, ok := strings.CutPrefix(path, l.root+"/Users/"); ok {
				whose, _, _ = strings.Cut(rest, "/")
			}
			add(inventory.Software, "app "+strings.TrimPrefix(path, l.root),
				cmp.Or(text("CFBundleDisplayName"), text("CFBundleName"), strings.TrimSuffix(filepath.Base(path), ".app")),
				"version", cmp.Or(text("CFBundleShortVersionString"), text("CFBundleVersion")), "identifier", text("CFBundleIdentifier"),
				"source", "app", "for", whose)
		}
	}
}

// receipts lists packages that were installed, but for those of the system.
func (l lister) receipts(add adder) {
	all, _ := filepath.Glob(l.root + "/var/db/receipts/*.plist")
	for _, path := range all {
		var r map[string]any
		if !read(path, &r) {
			continue
		}
		id, _ := r["PackageIdentifier"].(string)
		version, _ := r["PackageVersion"].(string)
		if id != "" && !strings.HasPrefix(id, "com.apple.") {
			add(inventory.Software, "pkg "+id, id, "version", version, "source", "pkg")
		}
	}
}

func (l lister) launchd(add adder) {
	for _, j := range (services{root: l.root}).daemons() {
		if j.StartInterval > 0 || j.Calendar != nil {
			add("tasks", j.Label, j.Label, "by", "launchd", "command", j.command())
		} else {
			add("services", j.Label, j.Label, "start", j.start())
		}
	}
	for _, pattern := range []string{"/Library/LaunchAgents", "/Users/*/Library/LaunchAgents"} {
		folders, _ := filepath.Glob(l.root + pattern)
		for _, folder := range folders {
			whose := "everybody"
			if rest, ok := strings.CutPrefix(folder, l.root+"/Users/"); ok {
				whose, _, _ = strings.Cut(rest, "/")
			}
			for _, j := range jobs(folder) {
				add("startup", whose+" "+j.Label, j.Label, "command", j.command(), "for", whose)
			}
		}
	}
}

// records reads records of the directory (dscl(1)), whose attributes are lists.
func (l lister) records(ctx context.Context, kind string, attributes ...string) []func(attribute string) []string {
	var all []map[string]any
	if err := l.tools.list(ctx, &all, append([]string{"/usr/bin/dscl", "-plist", ".", "-readall", kind}, attributes...)...); err != nil {
		return nil
	}
	var records []func(string) []string
	for _, r := range all {
		records = append(records, func(attribute string) (texts []string) {
			list, _ := r["dsAttrTypeStandard:"+attribute].([]any)
			for _, v := range list {
				if s, ok := v.(string); ok {
					texts = append(texts, s)
				}
			}
			return texts
		})
	}
	return records
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

func (l lister) accounts(ctx context.Context, add adder) {
	for _, of := range l.records(ctx, "/Users", "RecordName", "UniqueID", "RealName", "UserShell", "NFSHomeDirectory") {
		if name := first(of("RecordName")); name != "" && !strings.HasPrefix(name, "_") { // services have accounts with one
			add("users", name, name, "number", first(of("UniqueID")), "shell", first(of("UserShell")), "home",
				first(of("NFSHomeDirectory")), "full_name", first(of("RealName")))
		}
	}
	for _, of := range l.records(ctx, "/Groups", "RecordName", "GroupMembership") {
		name, members := first(of("RecordName")), strings.Join(of("GroupMembership"), ", ")
		if members != "" && !strings.HasPrefix(name, "_") {
			add("groups", name, name, "members", members)
		}
		if name == "admin" {
			add(inventory.Safety, "administrators", "Local administrators", "names", members)
		}
	}
}

func (l lister) disks(ctx context.Context, add adder) {
	var all struct{ WholeDisks []string }
	if l.tools.list(ctx, &all, "/usr/sbin/diskutil", "list", "-plist") != nil {
		return
	}
	for _, name := range all.WholeDisks {
		var d struct {
			MediaName                      string
			TotalSize                      int64
			SolidState                     bool
			SMARTStatus, VirtualOrPhysical string
		}
		if l.tools.list(ctx, &d, "/usr/sbin/diskutil", "info", "-plist", name) != nil || d.VirtualOrPhysical == "Virtual" {
			continue
		}
		kind := map[bool]string{true: "solid state", false: "spinning"}[d.SolidState]
		health := map[string]string{"Verified": "good", "Failing": "failing"}[d.SMARTStatus]
		add("disks", name, cmp.Or(d.MediaName, name), "size", fmt.Sprintf("%.0f GB", float64(d.TotalSize)/1e9), "kind", kind, "health",
			health)
	}
}

// profiler reads what system_profiler(8) tells of the hardware.
func (l lister) profiler(ctx context.Context, add adder) {
	out, err := l.tools.ask(ctx, "/usr/sbin/system_profiler", "-json", "-detailLevel", "mini", "SPHardwareDataType", "SPMemoryDataType",
		"SPPowerDataType", "SPDisplaysDataType", "SPUSBDataType")
	var all map[string][]map[string]any
	if err != nil || json.Unmarshal([]byte(out), &all) != nil {
		return
	}
	text := func(m map[string]any, key string) string {
		switch v := m[key].(type) {
		case string:
			return v
		case float64:
			return fmt.Sprint(v)
		}
		return ""
	}
	inner := func(m map[string]any, key string) (list []map[string]any) {
		switch v := m[key].(type) {
		case map[string]any:
			return []map[string]any{v}
		case []any:
			for _, e := range v {
				if m, ok := e.(map[string]any); ok {
					list = append(list, m)
				}
			}
		}
		return list
	}
	for _, h := range all["SPHardwareDataType"] {
		add("hardware", "firmware", "Firmware", "version", text(h, "boot_rom_version"))
		add("hardware", "model", text(h, "machine_name"), "model", text(h, "machine_model"), "chip", text(h, "chip_type"))
	}
	for _, m := range all["SPMemoryDataType"] {
		for n, slot := range inner(m, "_items") { // slots, where there are any
			add("memory", fmt.Sprint(n, " ", text(slot, "_name")), text(slot, "dimm_size"), "slot", text(slot, "_name"), "maker",
				text(slot, "dimm_manufacturer"), "serial", text(slot, "dimm_serial_number"), "part", text(slot, "dimm_part_number"))
		}
	}
	for _, p := range all["SPPowerDataType"] {
		for _, model := range inner(p, "sppower_battery_model_info") {
			add("batteries", cmp.Or(text(model, "sppower_battery_serial_number"), "battery"),
				cmp.Or(text(model, "sppower_battery_device_name"), "Battery"), "serial", text(model, "sppower_battery_serial_number"))
		}
	}
	for _, card := range all["SPDisplaysDataType"] {
		for _, d := range inner(card, "spdisplays_ndrvs") {
			add("monitors", cmp.Or(text(d, "_spdisplays_display-serial-number"), text(d, "_name")), text(d, "_name"), "serial",
				text(d, "_spdisplays_display-serial-number"))
		}
	}
	var usb func(items []map[string]any)
	usb = func(items []map[string]any) {
		for _, u := range items {
			if id := text(u, "product_id"); id != "" {
				vendor, _, _ := strings.Cut(text(u, "vendor_id"), " ")
				id = strings.TrimPrefix(vendor, "0x") + ":" + strings.TrimPrefix(id, "0x")
				add("peripherals", id+" "+text(u, "serial_num"), strings.TrimSpace(text(u, "manufacturer")+" "+text(u, "_name")), "usb_id",
					id)
			}
			usb(inner(u, "_items"))
		}
	}
	usb(all["SPUSBDataType"])
}

// certificates lists those of the system's keychain, where what was added stands (security(1)).
func (l lister) certificates(ctx context.Context, add adder) {
	const keychain = "/Library/Keychains/System.keychain"
	out, err := l.tools.ask(ctx, "/usr/bin/security", "find-certificate", "-a", "-p", keychain)
	if err != nil {
		return
	}
	for rest := []byte(out); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil {
			add("certificates", keychain+" "+c.SerialNumber.Text(16), c.Subject.String(), "issuer", c.Issuer.String(), "expires",
				c.NotAfter.UTC().Format("2006-01-02"), "serial", c.SerialNumber.Text(16), "file", keychain)
		}
	}
}

// safety tells how safe the computer is: what each program prints, and the part of it that means on.
func (l lister) safety(ctx context.Context, add adder) {
	for _, c := range []struct {
		key, name, on, off string
		argv               []string
	}{
		{"firewall", "Firewall", "is enabled", "is disabled",
			[]string{"/usr/libexec/ApplicationFirewall/socketfilterfw", "--getglobalstate"}},
		{"encryption /", "Disk encryption", "is On", "is Off", []string{"/usr/bin/fdesetup", "status"}},
		{"program-check", "Programs are checked before their first start", "assessments enabled", "assessments disabled",
			[]string{"/usr/sbin/spctl", "--status"}},
		{"system-protection", "The system's files are protected", "status: enabled", "status: disabled",
			[]string{"/usr/bin/csrutil", "status"}},
	} {
		out, err := l.tools.ask(ctx, c.argv...)
		state := ""
		switch {
		case strings.Contains(out, c.on):
			state = "on"
		case strings.Contains(out, c.off), err != nil && strings.Contains(err.Error(), c.off):
			state = "off"
		}
		add(inventory.Safety, c.key, c.name, "state", state)
	}
	state := "no"
	if _, err := os.Stat(l.root + restartMark); err == nil {
		state = "pending"
	}
	add(inventory.Safety, "restart", "Restart", "state", state)
}
