package sim

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// kernelSample is what the kernel of a simulated Linux device tells below /proc/sys.
var kernelSample = map[string]string{"kernel/hostname": "", "kernel/ostype": "Linux", "kernel/osrelease": "", "kernel/panic": "0",
	"kernel/pid_max": "4194304", "kernel/threads-max": "254710",
	"vm/swappiness": "60", "vm/dirty_ratio": "20", "vm/overcommit_memory": "0", "vm/max_map_count": "65530",
	"fs/file-max": "9223372036854775807", "fs/inotify/max_user_watches": "8192",
	"net/ipv4/ip_forward": "0", "net/ipv4/tcp_keepalive_time": "7200", "net/ipv4/tcp_rmem": "4096\t131072\t6291456",
	"net/ipv6/conf/all/disable_ipv6": "0", "net/core/somaxconn": "4096"}

// settings returns the settings of a simulated device: those of Linux lie in the folder that stands
// for its disk, and the registry and the preferences of others in memory.
func (s *simulated) settings(d *disk) host.Settings {
	switch natures[s.Kind].os {
	case device.Linux:
		if d == nil {
			return nil
		}
		return portable.Settings{Disk: d}
	case device.Windows:
		return &tree{types: []string{link.SettingText, link.SettingExpandable, link.SettingNumber, link.SettingLong, link.SettingList,
			link.SettingBinary}, root: registry(s)}
	}
	return &tree{types: []string{link.SettingText, link.SettingNumber, link.SettingReal, link.SettingFlag, link.SettingList},
		root: preferences(s)}
}

// tree implements host.Settings in memory.
type tree struct {
	types []string
	mu    sync.Mutex
	root  *branch
}

type branch struct {
	about   string
	folders map[string]*branch
	values  map[string]link.Setting
}

func (b *branch) put(path string, value link.Setting) {
	for name := range strings.SplitSeq(path, `\`) {
		if b.folders == nil {
			b.folders = map[string]*branch{}
		}
		if b.folders[name] == nil {
			b.folders[name] = &branch{}
		}
		b = b.folders[name]
	}
	if b.values == nil {
		b.values = map[string]link.Setting{}
	}
	b.values[value.Name] = value
}

func registry(s *simulated) *branch {
	root := &branch{}
	put := func(path, name, kind, value string) {
		root.put(path, link.Setting{Name: name, Type: kind, Value: value})
	}
	const machine = `HKEY_LOCAL_MACHINE\`
	current := machine + `SOFTWARE\Microsoft\Windows NT\CurrentVersion`
	put(current, "ProductName", link.SettingText, natures[s.Kind].osName)
	put(current, "CurrentBuild", link.SettingText, strings.TrimPrefix(natures[s.Kind].kernel, "10.0."))
	put(current, "InstallDate", link.SettingNumber, "1730719882")
	put(current, "SystemRoot", link.SettingText, `C:\Windows`)
	put(machine+`SOFTWARE\Microsoft\Windows\CurrentVersion\Run`, "IssueDesk", link.SettingExpandable,
		`%ProgramFiles%\Issue Desk\desk.exe /quiet`)
	put(machine+`SOFTWARE\Fennick\Print Driver`, "Version", link.SettingText, "4.2.0")
	put(machine+`SOFTWARE\Fennick\Print Driver`, "EnumerateAtLogon", link.SettingNumber,
		map[bool]string{true: "1", false: "0"}[!s.Driver.IsZero()])
	put(machine+`SOFTWARE\Fennick\Print Driver`, "Ports", link.SettingList, "FP2-01\nFP2-02")
	put(machine+`SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName`, "ComputerName", link.SettingText, s.Name)
	put(machine+`SYSTEM\CurrentControlSet\Control\Terminal Server`, "fDenyTSConnections", link.SettingNumber, "1")
	put(machine+`SYSTEM\CurrentControlSet\Services\Spooler`, "ImagePath", link.SettingExpandable, `%SystemRoot%\System32\spoolsv.exe`)
	put(machine+`SYSTEM\CurrentControlSet\Services\Spooler`, "Start", link.SettingNumber, "2")
	put(machine+`SYSTEM\CurrentControlSet\Services\Spooler`, "FailureActions", link.SettingBinary,
		"80510100000000000000000003000000140000000100000060ea0000")
	put(`HKEY_USERS\.DEFAULT\Control Panel\Desktop`, "ScreenSaveTimeOut", link.SettingText, "900")
	root.folders["HKEY_LOCAL_MACHINE"].about, root.folders["HKEY_USERS"].about = "Registry of the computer", "Registry of its users"
	return root
}

func preferences(s *simulated) *branch {
	root := &branch{}
	put := func(path, name, kind, value string) {
		root.put(path, link.Setting{Name: name, Type: kind, Value: value})
	}
	put(`computer\com.apple.loginwindow`, "SHOWFULLNAME", link.SettingFlag, "true")
	put(`computer\com.apple.loginwindow`, "GuestEnabled", link.SettingFlag, "false")
	put(`computer\com.apple.SoftwareUpdate`, "AutomaticCheckEnabled", link.SettingFlag, "true")
	put(`computer\com.apple.SoftwareUpdate`, "LastResultCode", link.SettingNumber, "2")
	put(`computer\example.larkmoor.bookings`, "Server", link.SettingText, "bookings.larkmoor.example")
	put(`computer\example.larkmoor.bookings`, "Rooms", link.SettingList, "Reading room\nGallery")
	for _, p := range s.People {
		user := strings.ToLower(strings.Fields(p)[0])
		put(user+`\com.apple.dock`, "autohide", link.SettingFlag, "false")
		put(user+`\com.apple.dock`, "tilesize", link.SettingReal, "48")
		root.folders[user].about = "Preferences of " + p
	}
	root.folders["computer"].about = "Preferences of the computer"
	return root
}

func (t *tree) at(path []string) (*branch, error) {
	b := t.root
	for _, name := range path {
		if b = b.folders[name]; b == nil {
			return nil, &link.Problem{Status: http.StatusNotFound, Reason: "there is no " + strings.Join(path, `\`)}
		}
	}
	return b, nil
}

// List implements host.Settings.
func (t *tree) List(_ context.Context, at link.SettingsAt) (link.SettingPage, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := link.SettingPage{Path: append([]string{}, at.Path...), Items: []link.Setting{}}
	b, err := t.at(at.Path)
	if err != nil {
		return out, err
	}
	if len(at.Path) > 1 {
		out.Types = t.types
	}
	for _, name := range slices.Sorted(maps.Keys(b.folders)) {
		out.Items = append(out.Items, link.Setting{Name: name, Folder: true, About: b.folders[name].about})
	}
	for _, name := range slices.Sorted(maps.Keys(b.values)) {
		out.Items = append(out.Items, b.values[name])
	}
	return out, nil
}

// Search implements host.Settings.
func (t *tree) Search(ctx context.Context, q link.SettingSearch, send func(link.SettingFound) error) error {
	return portable.SearchSettings(ctx, t.List, q, send)
}

// Do implements host.Settings.
func (t *tree) Do(_ context.Context, d link.SettingAction) (link.Outcome, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	b, err := t.at(d.Path)
	if err != nil {
		return link.Outcome{}, err
	}
	old, there := b.values[d.Name]
	if err := portable.Changed(d, old.Value, there); err != nil {
		return link.Outcome{}, err
	}
	if d.Action == link.SettingRemove {
		delete(b.values, d.Name)
		return link.Outcome{Message: d.Name + " is removed."}, nil
	}
	if !slices.Contains(t.types, d.Type) {
		return link.Outcome{}, &link.Problem{Status: http.StatusBadRequest,
			Reason: fmt.Sprintf("there is no type %q here: it has %s", d.Type, strings.Join(t.types, ", "))}
	}
	bits := map[string]int{link.SettingNumber: 32, link.SettingLong: 64}[d.Type]
	if _, err := strconv.ParseUint(d.Value, 10, max(bits, 1)); bits > 0 && err != nil {
		return link.Outcome{}, &link.Problem{Status: http.StatusBadRequest,
			Reason: fmt.Sprintf("%q is no number of %d bits", d.Value, bits)}
	}
	if b.values == nil {
		b.values = map[string]link.Setting{}
	}
	b.values[d.Name] = link.Setting{Name: d.Name, Type: d.Type, Value: d.Value}
	message := fmt.Sprintf("%s is %s.", d.Name, strings.ReplaceAll(d.Value, "\n", ", "))
	if there {
		message = fmt.Sprintf("%s is %s, and was %s.", d.Name, strings.ReplaceAll(d.Value, "\n", ", "),
			strings.ReplaceAll(old.Value, "\n", ", "))
	}
	return link.Outcome{Message: message}, nil
}
