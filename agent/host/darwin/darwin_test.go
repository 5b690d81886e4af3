//go:build unix

package darwin

import (
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// All answers here were made for the tests, after the manual pages; none was recorded on a Mac.

// mac answers in place of the system's programs. An answer that begins with "fail " is an error; of
// several answers to one command each is given once, and the last for ever.
type mac struct {
	t       *testing.T
	root    string
	answers map[string][]string
	calls   []string // of commands that change something: those whose answer is empty
	inputs  []string
}

func (m *mac) tools(_ context.Context, input string, argv ...string) (string, error) {
	line := strings.ReplaceAll(strings.Join(argv, " "), m.root+"/", "/")
	all, ok := m.answers[line]
	if !ok {
		m.t.Errorf("nobody answers %q", line)
		return "", errors.New("no such command")
	}
	if len(all) > 1 {
		m.answers[line] = all[1:]
	}
	if all[0] == "" {
		m.calls, m.inputs = append(m.calls, line), append(m.inputs, input)
	}
	if said, failed := strings.CutPrefix(all[0], "fail "); failed {
		return "", errors.New(said)
	}
	return all[0], nil
}

func newMac(t *testing.T, files map[string]string, answers map[string][]string) *mac {
	m := &mac{t: t, root: t.TempDir(), answers: answers}
	for path, text := range files {
		if strings.HasSuffix(path, ".plist") {
			text = list(text)
		}
		path = filepath.Join(m.root, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return m
}

// list is a property list in XML.
func list(body string) string {
	return `<?xml version="1.0" encoding="UTF-8"?><plist version="1.0">` + body + `</plist>`
}

func (m *mac) did(t *testing.T, want ...string) {
	t.Helper()
	if !slices.Equal(m.calls, want) {
		t.Errorf("it called\n%s\nnot\n%s", strings.Join(m.calls, "\n"), strings.Join(want, "\n"))
	}
	m.calls = nil
}

const consoleUsers = `<dict><key>IOConsoleUsers</key><array>
<dict><key>kCGSSessionUserNameKey</key><string>odo</string><key>kCGSSessionUserIDKey</key><integer>502</integer><key>kCGSSessionIDKey</key><integer>258</integer><key>kCGSSessionOnConsoleKey</key><false/><key>kCGSessionLoginDoneKey</key><true/><key>CGSSessionScreenIsLocked</key><true/></dict>
<dict><key>kCGSSessionUserNameKey</key><string>anna</string><key>kCGSSessionUserIDKey</key><integer>501</integer><key>kCGSSessionIDKey</key><integer>257</integer><key>kCGSSessionOnConsoleKey</key><true/><key>kCGSessionLoginDoneKey</key><true/></dict>
</array></dict>`

const (
	ioregUsers = "/usr/sbin/ioreg -a -n Root -d 1"
	asAnna     = "/bin/launchctl asuser 501 /usr/bin/sudo -H -u #501 -- "
)

func TestServices(t *testing.T) {
	const table = "PID\tStatus\tLabel\n%\t0\texample.heath.backup\n-\t78\texample.heath.index\n" +
		"-\t-9\texample.heath.watch\n88\t0\tcom.apple.logd\n91\t0\tapplication.example.editor\n"
	with := func(pid string) string { return strings.Replace(table, "%", pid, 1) }
	m := newMac(t, map[string]string{
		"Library/LaunchDaemons/backup.plist":      `<dict><key>Label</key><string>example.heath.backup</string><key>ProgramArguments</key><array><string>/opt/heath/backupd</string><string>-q</string></array><key>KeepAlive</key><true/><key>StandardErrorPath</key><string>/var/log/backup.err</string></dict>`,
		"Library/LaunchDaemons/late.plist":        `<dict><key>Label</key><string>example.heath.late</string><key>Program</key><string>/opt/heath/late</string><key>Disabled</key><true/></dict>`,
		"Library/LaunchDaemons/broken.plist":      `<dict><key>Lab`,
		"System/Library/LaunchDaemons/logd.plist": `<dict><key>Label</key><string>com.apple.logd</string><key>RunAtLoad</key><true/></dict>`,
		"var/log/backup.err":                      strings.Repeat("old\n", 30) + "disk full\n",
	}, map[string][]string{
		"/bin/launchctl list": {with("321")},
		"/bin/launchctl print-disabled system": {"\tdisabled services = {\n\t\t\"example.heath.index\" => " +
			"disabled\n\t\t\"example.heath.backup\" => enabled\n\t\t\"older\" => true\n\t}\n"},
		"/bin/launchctl bootout system/example.heath.backup": {""},
		"/bin/launchctl bootout system/com.apple.logd": {"fail Operation not permitted while System Integrity " +
			"Protection is engaged"},
		"/bin/launchctl kickstart -k system/example.heath.backup":           {""},
		"/bin/launchctl kickstart system/example.heath.late":                {""},
		"/bin/launchctl bootstrap system /Library/LaunchDaemons/late.plist": {""},
		"/bin/launchctl enable system/example.heath.late":                   {""},
	})
	s := services{tools: m.tools, root: m.root, poll: time.Millisecond}
	all, err := s.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, one := range all.Items {
		got[one.Name] = one.State + " " + one.Start + " " + one.Detail
	}
	if want := map[string]string{"example.heath.backup": "running automatic ", "example.heath.index": "failed disabled ended with 78",
		"example.heath.watch": "failed other ended by signal 9",
		"com.apple.logd":      "running automatic ", "example.heath.late": "stopped disabled not loaded"}; !reflect.DeepEqual(got, want) {
		t.Errorf("%v, not %v", got, want)
	}
	one, err := s.Service(t.Context(), link.Service{Name: "example.heath.backup"})
	if err != nil || one.PID != 321 || len(one.Log) != serviceLines || one.Log[serviceLines-1] != "disk full" {
		t.Errorf("%+v, %v", one, err)
	}
	for name, want := range map[string]string{"example.heath.backup": "running", "example.heath.index": "failed",
		"example.heath.late": "stopped", "example.heath.none": "not installed"} {
		if runs, state, err := s.running(t.Context(), name); err != nil || state != want || runs != (want == "running") {
			t.Errorf("%s is %s, %v", name, state, err)
		}
	}
	action := func(action, name string) (string, error) {
		out, err := s.Do(t.Context(), link.ServiceAction{Action: action, Name: name, Start: "automatic", Seconds: 1})
		return out.Message, err
	}
	m.answers["/bin/launchctl list"] = []string{with("321"), with("321"), with("-")}
	if said, err := action(link.ServiceStop, "example.heath.backup"); err != nil || !strings.Contains(said, "has stopped") {
		t.Errorf("%q, %v", said, err)
	}
	m.did(t, "/bin/launchctl bootout system/example.heath.backup")
	m.answers["/bin/launchctl list"] = []string{with("321"), with("-"), with("400")}
	if said, err := action(link.ServiceRestart, "example.heath.backup"); err != nil || !strings.Contains(said, "runs") {
		t.Errorf("%q, %v", said, err)
	}
	m.did(t, "/bin/launchctl kickstart -k system/example.heath.backup")
	if _, err := action(link.ServiceStart, "example.heath.late"); link.StatusOf(err, 0) != http.StatusConflict {
		t.Errorf("a disabled service was started: %v", err)
	}
	if _, err := action(link.ServiceMode, "example.heath.late"); err != nil {
		t.Error(err)
	}
	m.answers["/bin/launchctl print-disabled system"] = []string{`"example.heath.late" => enabled`}
	m.answers["/bin/launchctl list"] = []string{with("-"), "-\t1\texample.heath.late\n"}
	if _, err := action(link.ServiceStart, "example.heath.late"); err == nil || !strings.Contains(err.Error(), "exit status 1") {
		t.Errorf("a service that fails at once: %v", err)
	}
	m.did(t, "/bin/launchctl enable system/example.heath.late", "/bin/launchctl bootstrap system /Library/LaunchDaemons/late.plist",
		"/bin/launchctl kickstart system/example.heath.late")
	m.answers["/bin/launchctl list"] = []string{with("-")}
	if _, err := action(link.ServiceStop, "com.apple.logd"); err == nil || !strings.Contains(err.Error(), "protects") {
		t.Errorf("a service of the system: %v", err)
	}
	for name, status := range map[string]int{"-w": 400, "a b": 400, "example.heath.none": 404} {
		if _, err := action(link.ServiceStop, name); link.StatusOf(err, 0) != status {
			t.Errorf("%q gives %v", name, err)
		}
	}
}

func TestPeople(t *testing.T) {
	show := asAnna + "/usr/bin/osascript - Moorwatch May we look? 60 Allow Refuse"
	m := newMac(t, nil, map[string][]string{
		ioregUsers: {list(consoleUsers)},
		"/usr/sbin/ioreg -a -r -c IOHIDSystem -d 1": {list(
			`<array><dict><key>HIDIdleTime</key><integer>93000000000</integer></dict></array>`)},
		show: {"pressed Allow\n", "late\n", "fail execution error: User canceled. (-128)", "fail no window server"},
		asAnna + "/usr/bin/env LC_CTYPE=UTF-8 /usr/bin/pbcopy": {""},
	})
	p := persons{tools: m.tools, terminals: func(context.Context) []device.SignedIn {
		return []device.SignedIn{{Name: "anna", Where: "console"}, {Name: "anna", Where: "ttys001", IdleSeconds: 5}}
	}}
	all, err := p.People(t.Context())
	want := []link.Presence{
		{Session: "desktop 257", Name: "anna", Kind: "console", Where: "the screen", IdleSeconds: 93, Graphic: true},
		{Session: "desktop 258", Name: "odo", Kind: "console", Where: "in the background", IdleSeconds: -1, Locked: true, Graphic: true},
		{Session: "ttys001", Name: "anna", Kind: "terminal", Where: "ttys001", IdleSeconds: 5},
	}
	if err != nil || all.Means != "dialog" || !reflect.DeepEqual(all.Items, want) {
		t.Errorf("%+v, %v", all, err)
	}
	for _, c := range []struct{ answer, reason string }{{"Allow", ""}, {"", "no answer"}, {"", "closed"}, {"", "could not be shown"}} {
		a, err := p.Show(t.Context(), link.Message{Title: "Moorwatch", Text: "May we look?", Buttons: []string{"Allow", "Refuse"},
			Seconds: 60})
		if err != nil || a.Answer != c.answer || !strings.Contains(a.Reason, c.reason) || a.By != "anna" {
			t.Errorf("%+v, %v; wanted %+v", a, err, c)
		}
	}
	if out, err := p.Clip(t.Context(), link.Clip{Text: "grüß dich"}); err != nil || !strings.Contains(out.Message, "9 characters") ||
		m.inputs[0] != "grüß dich" {
		t.Errorf("%+v, %v, %q", out, err, m.inputs)
	}
	if _, err := p.Clip(t.Context(), link.Clip{Session: "desktop 9"}); link.StatusOf(err, 0) != http.StatusConflict {
		t.Error(err)
	}
	m.answers[ioregUsers] = []string{list("<dict/>")}
	if a, err := p.Show(t.Context(), link.Message{Text: "Anybody?"}); err != nil || a.Shown || !strings.Contains(a.Reason, "Nobody") {
		t.Errorf("%+v, %v", a, err)
	}
}

func TestPower(t *testing.T) {
	down := make(chan string, 1)
	m := newMac(t, nil, map[string][]string{ioregUsers: {list(consoleUsers)}, "/bin/launchctl bootout gui/502": {""}})
	system := func(ctx context.Context, input string, argv ...string) (string, error) {
		if argv[0] == "/sbin/shutdown" {
			down <- strings.Join(argv, " ")
			return "", nil
		}
		return m.tools(ctx, input, argv...)
	}
	p := &machine{tools: system, people: persons{tools: system}}
	do := func(d link.PowerAction) error { _, err := p.Do(t.Context(), d); return err }
	if err := do(link.PowerAction{Action: link.PowerLogOff, Session: "desktop 258"}); err != nil {
		t.Error(err)
	}
	m.did(t, "/bin/launchctl bootout gui/502")
	if err := errors.Join(do(link.PowerAction{Action: link.PowerOff, DelaySeconds: 600}), do(link.PowerAction{Action: link.PowerCancel}),
		do(link.PowerAction{Action: link.PowerRestart})); err != nil {
		t.Error(err)
	}
	if got := <-down; got != "/sbin/shutdown -r now" {
		t.Errorf("it called %s", got)
	}
	for _, action := range []string{link.PowerCancel, link.PowerLock, link.PowerRecovery, "float"} {
		if do(link.PowerAction{Action: action}) == nil {
			t.Errorf("%s was done", action)
		}
	}
}

const dock = `<dict><key>size</key><integer>48</integer><key>hidden</key><false/><key>scale</key><real>0.5</real><key>left</key><array><string>mail</string><string>maps</string></array>
<key>tiles</key><dict><key>first</key><dict><key>name</key><string>Notes</string><key>data</key><data>AQI=</data></dict></dict><key>when</key><date>2026-11-27T08:00:00Z</date><key>mixed</key><array><dict><key>a</key><integer>1</integer></dict></array></dict>`

func TestSettings(t *testing.T) {
	export, own := "/usr/bin/defaults export /Library/Preferences/example.dock -",
		asAnna+"/usr/bin/defaults export /Users/anna/Library/Preferences/example.dock -"
	m := newMac(t, map[string]string{"Library/Preferences/example.dock.plist": dock,
		"Users/anna/Library/Preferences/example.dock.plist": dock, "Library/Managed Preferences/example.lock.plist": "<dict/>"},
		map[string][]string{
			export: {list(dock)}, own: {list(dock)}, ioregUsers: {list(consoleUsers)},
			"/usr/bin/defaults export /Library/Preferences/none -": {list("<dict/>")},
			"/usr/bin/defaults export /Library/Managed Preferences/example.lock -": {list(
				`<dict><key>idle</key><integer>300</integer></dict>`)},
			"/usr/bin/pmset -g custom": {"Battery Power:\n displaysleep         " +
				"2\n Sleep On Power Button 1\nAC Power:\n displaysleep         10 \n"},
			"/usr/bin/pmset -c displaysleep 30": {""},
			"/usr/bin/profiles show -output stdout-xml": {list(
				`<dict><key>_computerlevel</key><array><dict><key>ProfileDisplayName</key><string>Heath Wi-Fi</string><key>ProfileIdentifier</key><string>example.wifi</string><key>ProfileItems</key><array><dict><key>PayloadType</key><string>wifi</string><key>SSID</key><string>heath</string></dict></array></dict></array></dict>`)},
			"/usr/bin/defaults write /Library/Preferences/example.dock size <integer>64</integer>": {""},
			"/usr/bin/defaults delete /Library/Preferences/example.dock hidden":                    {""},
			asAnna +
				`/usr/bin/defaults write /Users/anna/Library/Preferences/example.dock tiles <dict><key>first</key><dict><key>data</key><data>AQI=</data><key>name</key><string>A &lt;b&gt;</string></dict></dict>`: {""},
		})
	s := settings{tools: m.tools, people: persons{tools: m.tools}, root: m.root}
	at := func(path ...string) string {
		page, err := s.List(t.Context(), link.SettingsAt{Path: path})
		if err != nil {
			return "error " + http.StatusText(link.StatusOf(err, 0))
		}
		var all []string
		for _, i := range page.Items {
			one := i.Name
			if !i.Folder {
				one += "=" + i.Type + ":" + strings.ReplaceAll(i.Value, "\n", ",")
			}
			if i.ReadOnly {
				one += "!"
			}
			all = append(all, one)
		}
		return strings.Join(all, " ")
	}
	for path, want := range map[string]string{
		"":            "forced! people power preferences profiles!",
		"preferences": "example.dock",
		"people":      "anna",
		"people/anna": "example.dock",
		"preferences/example.dock": "hidden=flag:false left=list:mail,maps mixed scale=real:0.5 size=number:48 tiles " +
			"when=text:2026-11-27T08:00:00Z!",
		"people/anna/example.dock/tiles/first":     "data=binary:0102 name=text:Notes",
		"preferences/example.dock/mixed":           "0",
		"preferences/example.dock/mixed/0":         "a=number:1",
		"preferences/example.dock/size":            "error Conflict",
		"preferences/example.dock/mixed/7":         "error Not Found",
		"preferences/none":                         "error Not Found",
		"preferences/../x":                         "error Bad Request",
		"people/..":                                "error Bad Request",
		"elsewhere":                                "error Not Found",
		"forced/example.lock":                      "idle=number:300!",
		"power":                                    "AC Power Battery Power",
		"power/Battery Power":                      "Sleep On Power Button=number:1 displaysleep=number:2",
		"profiles/Heath Wi-Fi/ProfileItems/1 wifi": "PayloadType=text:wifi! SSID=text:heath!",
	} {
		var parts []string
		if path == "preferences/../x" {
			parts = []string{"preferences", "../x"}
		} else if path != "" {
			parts = strings.Split(path, "/")
		}
		if got := at(parts...); got != want {
			t.Errorf("at %s there is %s, not %s", path, got, want)
		}
	}
	do := func(path, name, kind, value, was string) error {
		d := link.SettingAction{Action: link.SettingSet, Path: strings.Split(path, "/"), Name: name, Type: kind, Value: value, Was: &was}
		if kind == "" && value == "" {
			d.Action = link.SettingRemove
		}
		_, err := s.Do(t.Context(), d)
		return err
	}
	for _, err := range []error{
		do("preferences/example.dock", "size", link.SettingNumber, "64", "48"),
		do("preferences/example.dock", "hidden", "", "", "false"),
		do("people/anna/example.dock/tiles/first", "name", link.SettingText, "A <b>", "Notes"),
		do("power/AC Power", "displaysleep", "", "30", "10"),
	} {
		if err != nil {
			t.Error(err)
		}
	}
	if len(m.calls) != 4 {
		t.Errorf("it called %q", m.calls)
	}
	for what, err := range map[string]error{
		"what has changed":    do("preferences/example.dock", "size", link.SettingNumber, "64", "47"),
		"no number":           do("preferences/example.dock", "size", link.SettingNumber, "many", "48"),
		"a time":              do("preferences/example.dock", "when", link.SettingText, "now", "2026-11-27T08:00:00Z"),
		"a folder":            do("preferences/example.dock", "tiles", link.SettingText, "x", ""),
		"what is forced":      do("forced/example.lock", "idle", link.SettingNumber, "1", "300"),
		"what power lacks":    do("power/AC Power", "unheard", "", "1", ""),
		"an option as a name": do("preferences/example.dock", "-x", link.SettingText, "x", ""),
	} {
		if err == nil {
			t.Errorf("%s was set", what)
		}
	}
}

func TestNetwork(t *testing.T) {
	routes := Routes("Routing tables\n\nInternet:\nDestination        Gateway            Flags           Netif Expire\ndefault          " +
		"  192.168.7.1        UGScg             en0\n127                127.0.0.1          UCS               lo0\n10.4/14            " +
		"link#9             UCS               utun3\n192.168.7.23/32    link#6             UCS               en0      !\n224.0.0/4      " +
		"    link#6             UmCS              en0\nInternet6:\nDestination Gateway Flags Netif Expire\ndefault fe80::1%en0 UGcg " +
		"en0\nfe80::%lo0/64 fe80::1%lo0 UcI lo0\nnonsense/x y z w\n")
	want := []link.Route{{To: "0.0.0.0/0", By: "192.168.7.1", Interface: "en0"}, {To: "127.0.0.0/8", Interface: "lo0"},
		{To: "10.4.0.0/14", Interface: "utun3"}, {To: "192.168.7.23/32", Interface: "en0"},
		{To: "::/0", By: "fe80::1", Interface: "en0"}, {To: "fe80::/64", Interface: "lo0"}}
	if !reflect.DeepEqual(routes, want) {
		t.Errorf("%+v", routes)
	}
	near := Neighbours("? (192.168.7.1) at 2:1a:0:3:44:5 on en0 ifscope [ethernet]\n? (192.168.7.9) at (incomplete) on en0 ifscope " +
		"[ethernet]\n? (224.0.0.251) at 1:0:5e:0:0:fb on en0 ifscope permanent [ethernet]\n")
	if want := []link.Neighbour{{Address: "192.168.7.1", Hardware: "02:1a:00:03:44:05", Interface: "en0"}}; !reflect.DeepEqual(near, want) {
		t.Errorf("%+v", near)
	}
}

func TestLogs(t *testing.T) {
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		q          link.EventQuery
		past, live string
	}{
		{link.EventQuery{}, "--start 2026-11-27 08:00:00+0000 --info", "--level info"},
		{link.EventQuery{Level: "error", Unit: `a" OR "b`},
			`--start 2026-11-27 08:00:00+0000 --predicate messageType >= error AND (subsystem == "a\" OR \"b" OR process == "a\" OR \"b")`,
			`--level default --predicate messageType >= error AND (subsystem == "a\" OR \"b" OR process == "a\" OR \"b")`},
		{link.EventQuery{Level: "debug", Until: now.Add(-24 * time.Hour)},
			"--start 2026-11-26 08:00:00+0000 --end 2026-11-26 09:00:01+0000 --info --debug", "--level debug"},
	} {
		past, live := Logs(c.q, now)
		if got := strings.Join(past[4:], " "); got != c.past {
			t.Errorf("%+v: %s", c.q, got)
		}
		if got := strings.Join(live[4:], " "); got != c.live {
			t.Errorf("%+v: %s", c.q, got)
		}
	}
	n, got := newest{most: 3}, []string{}
	for _, m := range []string{"a", "b", "c", "d", "e"} {
		n.keep(link.EventBatch{Events: []link.Event{{Message: m}}})
	}
	n.send(func(b link.EventBatch) error {
		for _, e := range b.Events {
			got = append(got, e.Message)
		}
		return nil
	})
	if strings.Join(got, "") != "cde" {
		t.Errorf("the newest are %q", got)
	}
}

func TestInventory(t *testing.T) {
	m := newMac(t, map[string]string{
		"Applications/Heath Notes.app/Contents/Info.plist":     `<dict><key>CFBundleName</key><string>Notes</string><key>CFBundleIdentifier</key><string>example.notes</string><key>CFBundleShortVersionString</key><string>2.4</string></dict>`,
		"Users/anna/Applications/Draw.app/Contents/Info.plist": `<dict><key>CFBundleVersion</key><string>77</string></dict>`,
		"var/db/receipts/example.font.plist":                   `<dict><key>PackageIdentifier</key><string>example.font</string><key>PackageVersion</key><string>1.1</string></dict>`,
		"var/db/receipts/com.apple.x.plist":                    `<dict><key>PackageIdentifier</key><string>com.apple.x</string></dict>`,
		"Library/LaunchDaemons/a.plist":                        `<dict><key>Label</key><string>example.nightly</string><key>StartInterval</key><integer>86400</integer></dict>`,
		"Users/anna/Library/LaunchAgents/b.plist":              `<dict><key>Label</key><string>example.tray</string><key>Program</key><string>/opt/tray</string></dict>`,
	}, map[string][]string{
		"/usr/bin/dscl -plist . -readall /Users RecordName UniqueID RealName UserShell NFSHomeDirectory": {list(
			`<array><dict><key>dsAttrTypeStandard:RecordName</key><array><string>anna</string></array><key>dsAttrTypeStandard:UniqueID</key><array><string>501</string></array></dict><dict><key>dsAttrTypeStandard:RecordName</key><array><string>_www</string></array></dict></array>`)},
		"/usr/bin/dscl -plist . -readall /Groups RecordName GroupMembership": {list(
			`<array><dict><key>dsAttrTypeStandard:RecordName</key><array><string>admin</string></array><key>dsAttrTypeStandard:GroupMembership</key><array><string>root</string><string>anna</string></array></dict></array>`)},
		"/usr/sbin/diskutil list -plist": {list(
			`<dict><key>WholeDisks</key><array><string>disk0</string><string>disk3</string></array></dict>`)},
		"/usr/sbin/diskutil info -plist disk0": {list(
			`<dict><key>MediaName</key><string>SSD</string><key>TotalSize</key><integer>500277790720</integer><key>SolidState</key><true/><key>SMARTStatus</key><string>Verified</string><key>VirtualOrPhysical</key><string>Physical</string></dict>`)},
		"/usr/sbin/diskutil info -plist disk3": {list(`<dict><key>VirtualOrPhysical</key><string>Virtual</string></dict>`)},
		"/usr/sbin/system_profiler -json -detailLevel mini SPHardwareDataType SPMemoryDataType SPPowerDataType SPDisplaysDataType " +
			"SPUSBDataType": {`{"SPHardwareDataType":[{"machine_name":"Laptop","machine_model":"Book1,1","boot_rom_version":"10.1"}],"SPDisplaysDataType":[{"spdisplays_ndrvs":[{"_name":"Panel","_spdisplays_display-serial-number":"77"}]}],"SPUSBDataType":[{"_name":"bus","_items":[{"_name":"Hub","product_id":"0x0002","vendor_id":"0x05e3 (maker)","_items":[{"_name":"Scanner","manufacturer":"Heath","product_id":"0x0101","vendor_id":"0x1234","serial_num":"S1"}]}]}]}`},
		"/usr/bin/security find-certificate -a -p /Library/Keychains/System.keychain": {"no certificate"},
		"/usr/libexec/ApplicationFirewall/socketfilterfw --getglobalstate":            {"Firewall is enabled. (State = 1)"},
		"/usr/bin/fdesetup status": {"FileVault is On.\n"},
		"/usr/sbin/spctl --status": {"fail assessments disabled"},
		"/usr/bin/csrutil status":  {"fail not there"},
	})
	got := map[string]string{}
	lister{tools: m.tools, root: m.root}.list(t.Context(), func(section, key, name string, fields ...string) {
		got[section+"/"+key] = name + " " + strings.Join(fields, ",")
	})
	for key, want := range map[string]string{
		"software/app /Applications/Heath Notes.app":     "Notes version,2.4,identifier,example.notes,source,app,for,",
		"software/app /Users/anna/Applications/Draw.app": "Draw version,77,identifier,,source,app,for,anna",
		"software/pkg example.font":                      "example.font version,1.1,source,pkg",
		"tasks/example.nightly":                          "example.nightly by,launchd,command,",
		"startup/anna example.tray":                      "example.tray command,/opt/tray,for,anna",
		"users/anna":                                     "anna number,501,shell,,home,,full_name,",
		"safety/administrators":                          "Local administrators names,root, anna",
		"disks/disk0":                                    "SSD size,500 GB,kind,solid state,health,good",
		"monitors/77":                                    "Panel serial,77",
		"peripherals/1234:0101 S1":                       "Heath Scanner usb_id,1234:0101",
		"safety/firewall":                                "Firewall state,on",
		"safety/encryption /":                            "Disk encryption state,on",
		"safety/program-check":                           "Programs are checked before their first start state,off",
		"safety/system-protection":                       "The system's files are protected state,",
	} {
		if got[key] != want {
			t.Errorf("%s is %q, not %q", key, got[key], want)
		}
	}
	for _, none := range []string{"software/pkg com.apple.x", "users/_www", "disks/disk3"} {
		if v, ok := got[none]; ok {
			t.Errorf("%s is %q", none, v)
		}
	}
}
