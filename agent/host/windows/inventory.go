//go:build windows

package windows

import (
	"context"
	"crypto/x509"
	"fmt"
	"strconv"
	"strings"
	"unsafe"

	psdisk "github.com/shirou/gopsutil/v4/disk"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"moorwatch.example/core/inventory"
)

type adder = func(section, key, name string, fields ...string)

// list adds what Windows tells of itself: through the registry, the service control manager, the
// list of accounts and the certificate stores.
func list(ctx context.Context, add adder) {
	programs(add)
	startup(add)
	accounts(add)
	drives(ctx, add)
	physicalDisks(add)
	parts(add)
	plugged(add)
	tasks(ctx, add)
	certificates(add)
	safety(add)
	all, err := services{}.List(ctx)
	if err != nil {
		return
	}
	for _, s := range all.Items {
		add("services", s.Name, s.Title, "start", s.Start)
	}
}

// eachKey calls do with the keys below a place.
func eachKey(root registry.Key, place string, do func(name string, k registry.Key)) {
	list, err := registry.OpenKey(root, place, registry.ENUMERATE_SUB_KEYS|registry.WOW64_64KEY)
	if err != nil {
		return
	}
	defer list.Close()
	names, _ := list.ReadSubKeyNames(-1)
	for _, name := range names {
		if k, err := registry.OpenKey(root, place+`\`+name, registry.QUERY_VALUE|registry.WOW64_64KEY); err == nil {
			do(name, k)
			k.Close()
		}
	}
}

// programs lists what stands in the list of installed programs: of the computer, and of each person
// whose registry is loaded.
func programs(add adder) {
	places := map[string]registry.Key{}
	for _, place := range uninstall {
		places[place] = registry.LOCAL_MACHINE
	}
	if users, err := registry.OpenKey(registry.USERS, "", registry.ENUMERATE_SUB_KEYS); err == nil {
		names, _ := users.ReadSubKeyNames(-1)
		users.Close()
		for _, name := range names {
			places[name+`\`+uninstall[0]] = registry.USERS
		}
	}
	for place, root := range places {
		whose := ""
		if root == registry.USERS {
			id, _, _ := strings.Cut(place, `\`)
			if sid, err := windows.StringToSid(id); err == nil {
				whose = names.short(sid)
			}
		}
		eachKey(root, place, func(key string, k registry.Key) {
			name, _, _ := k.GetStringValue("DisplayName")
			hidden, _, _ := k.GetIntegerValue("SystemComponent")
			parent, _, _ := k.GetStringValue("ParentKeyName")
			if name = strings.TrimSpace(name); name == "" || hidden == 1 || parent != "" {
				return
			}
			version, _, _ := k.GetStringValue("DisplayVersion")
			publisher, _, _ := k.GetStringValue("Publisher")
			installed, _, _ := k.GetStringValue("InstallDate")
			if len(installed) == 8 {
				installed = installed[:4] + "-" + installed[4:6] + "-" + installed[6:]
			}
			kind := "program"
			if strings.HasPrefix(key, "{") {
				kind = "msi"
			}
			add(inventory.Software, place+`\`+key, name, "version", version, "publisher", publisher, "source", kind, "installed", installed,
				"for", whose)
		})
	}
}

// startup lists what is started when somebody signs in.
func startup(add adder) {
	for _, place := range []string{`SOFTWARE\Microsoft\Windows\CurrentVersion\Run`,
		`SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Run`} {
		k, err := registry.OpenKey(registry.LOCAL_MACHINE, place, registry.QUERY_VALUE|registry.WOW64_64KEY)
		if err != nil {
			continue
		}
		names, _ := k.ReadValueNames(-1)
		for _, name := range names {
			if command, _, err := k.GetStringValue(name); err == nil {
				add("startup", place+`\`+name, name, "command", command, "for", "everybody")
			}
		}
		k.Close()
	}
}

// userInfo is USER_INFO_1.
type userInfo struct {
	name, password *uint16
	age, privilege uint32
	home, comment  *uint16
	flags          uint32
	script         *uint16
}

// accounts lists the computer's own accounts.
func accounts(add adder) {
	const level, normalAccounts, all = 1, 2, ^uint32(0)
	var buffer *byte
	var read, total, resume uint32
	if windows.NetUserEnum(nil, level, normalAccounts, &buffer, all, &read, &total, &resume) != nil || buffer == nil {
		return
	}
	defer windows.NetApiBufferFree(buffer)
	for _, u := range unsafe.Slice((*userInfo)(unsafe.Pointer(buffer)), read) {
		name := windows.UTF16PtrToString(u.name)
		const disabled, administrator = 0x2, 2
		state, group := "enabled", ""
		if u.flags&disabled != 0 {
			state = "disabled"
		}
		if u.privilege == administrator {
			group = "administrators"
		}
		add("users", name, name, "state", state, "group", group, "home", windows.UTF16PtrToString(u.home), "comment",
			windows.UTF16PtrToString(u.comment))
	}
}

// drives lists the volumes with a letter.
func drives(ctx context.Context, add adder) {
	parts, err := psdisk.PartitionsWithContext(ctx, false)
	if err != nil {
		return
	}
	for _, p := range parts {
		root, err := windows.UTF16PtrFromString(p.Mountpoint + `\`)
		if err != nil {
			continue
		}
		label, system := make([]uint16, 64), make([]uint16, 64)
		var serial uint32
		if windows.GetVolumeInformation(root, &label[0], uint32(len(label)), &serial, nil, nil, &system[0], uint32(len(system))) != nil {
			continue
		}
		size := ""
		if u, err := psdisk.UsageWithContext(ctx, p.Mountpoint); err == nil {
			size = fmt.Sprintf("%.0f GB", float64(u.Total)/1e9)
		}
		name := strings.TrimSpace(windows.UTF16ToString(label))
		if name == "" {
			name = "Disk"
		}
		add("disks", p.Mountpoint, name+" ("+p.Mountpoint+")", "size", size, "file_system", windows.UTF16ToString(system), "serial",
			strconv.FormatUint(uint64(serial), 16))
	}
}

// certificates lists the computer's own.
func certificates(add adder) {
	name, _ := windows.UTF16PtrFromString("MY")
	store, err := windows.CertOpenStore(windows.CERT_STORE_PROV_SYSTEM, 0, 0,
		windows.CERT_SYSTEM_STORE_LOCAL_MACHINE|windows.CERT_STORE_READONLY_FLAG|windows.CERT_STORE_OPEN_EXISTING_FLAG,
		uintptr(unsafe.Pointer(name)))
	if err != nil {
		return
	}
	defer windows.CertCloseStore(store, 0)
	for c, err := windows.CertEnumCertificatesInStore(store, nil); err == nil && c != nil; c,
		err = windows.CertEnumCertificatesInStore(store, c) {
		read, wrong := x509.ParseCertificate(unsafe.Slice(c.EncodedCert, c.Length))
		if wrong != nil {
			continue
		}
		add("certificates", "machine "+read.SerialNumber.Text(16), read.Subject.String(), "issuer", read.Issuer.String(), "expires",
			read.NotAfter.UTC().Format("2006-01-02"), "serial", read.SerialNumber.Text(16))
	}
}

// safety tells what protects the computer.
func safety(add adder) {
	read := func(place, name string) (uint64, bool) {
		k, err := registry.OpenKey(registry.LOCAL_MACHINE, place, registry.QUERY_VALUE|registry.WOW64_64KEY)
		if err != nil {
			return 0, false
		}
		defer k.Close()
		v, _, err := k.GetIntegerValue(name)
		return v, err == nil
	}
	word := map[bool]string{true: "on", false: "off"}
	for _, profile := range []struct{ key, name string }{{"DomainProfile", "domain"}, {"StandardProfile", "private"},
		{"PublicProfile", "public"}} {
		if v, ok := read(`SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\`+profile.key, "EnableFirewall"); ok {
			add(inventory.Safety, "firewall "+profile.name, "Firewall on "+profile.name+" networks", "state", word[v == 1])
		}
	}
	if v, ok := read(`SYSTEM\CurrentControlSet\Control\SecureBoot\State`, "UEFISecureBootEnabled"); ok {
		add(inventory.Safety, "secure boot", "Secure boot", "state", word[v == 1])
	}
	if v, ok := read(`SOFTWARE\Microsoft\Windows\CurrentVersion\Policies\System`, "EnableLUA"); ok {
		add(inventory.Safety, "elevation", "Questions before rights are raised", "state", word[v == 1])
	}
}
