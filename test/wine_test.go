package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/release"
	"moorwatch.example/test/wine"
)

// windows is a machine of Wine with a desktop.
type windows struct{ *wine.Machine }

// winePrefix makes a prefix once; tests copy it.
var winePrefix = sync.OnceValues(func() (string, error) {
	prefix := filepath.Join(scratch, "wine")
	return prefix, wine.Make(context.Background(), prefix)
})

// windowsAgent builds the agent for Windows once.
var windowsAgent = sync.OnceValues(func() (string, error) {
	path := filepath.Join(scratch, "moor-agent.exe")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", path, "../cmd/moor-agent")
	build.Env = append(os.Environ(), "HOME="+home, "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return path, err
})

// windowsMachine starts a Windows with a desktop, which ends with the test.
func windowsMachine(t *testing.T) *windows {
	t.Helper()
	if why := wine.Missing(); why != "" {
		t.Skip(why)
	}
	made := must(winePrefix())(t)
	m := &windows{&wine.Machine{Prefix: filepath.Join(t.TempDir(), "prefix"), Display: desktop(t)}}
	if err := wine.Copy(t.Context(), made, m.Prefix); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.End)
	m.start(t, "explorer", "/desktop=shell,800x600")
	return m
}

// do runs a Windows program, which must not fail, and returns what it printed.
func (m *windows) do(t *testing.T, argv ...string) string {
	t.Helper()
	out, err := m.Do(argv...)
	if err != nil {
		t.Fatalf("%s: %v: %s", strings.Join(argv, " "), err, out)
	}
	return out
}

// start starts a Windows program that goes on by itself.
func (m *windows) start(t *testing.T, argv ...string) {
	t.Helper()
	cmd := m.Command("wine", argv...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
}

// installed has the agent installed, and returns who its device is.
func (m *windows) installed(t *testing.T, w *world, program string, more ...string) uuid.UUID {
	t.Helper()
	token := m.C("token.txt")
	if err := os.WriteFile(token, []byte(w.enrolmentToken(t, 1)+"\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := m.Do(append([]string{program, "install", "--service", w.Service.URL, "--token-file", `C:\token.txt`}, more...)...)
	if err != nil || !strings.Contains(out, "Connected after") {
		log, _ := os.ReadFile(m.C("ProgramData/Moorwatch Agent/agent.log"))
		t.Fatalf("installed: %v: %s; its log: %s", err, out, log)
	}
	status := m.do(t, program, "status")
	_, rest, _ := strings.Cut(status, "(")
	id, _, _ := strings.Cut(rest, ")")
	return must(uuid.Parse(id))(t)
}

// rooms are those of the agent that depend on how Windows treats files, pipes and programs.
var rooms = []string{"agent", "agent/reporting", "agent/running", "agent/serving", "agent/files", "agent/host/helper",
	"agent/host/windows", "agent/host/windows/desk", "agent/identity", "agent/journal", "agent/spool", "agent/atomicfile", "uplink"}

// The tests of the agent's own rooms are run as Windows programs.
func testWindowsRooms(t *testing.T) {
	m := windowsMachine(t)
	for _, room := range rooms {
		path := filepath.Join(t.TempDir(), "room.test.exe")
		build := exec.CommandContext(t.Context(), "go", "test", "-c", "-o", path, "../"+room)
		build.Env = append(os.Environ(), "HOME="+home, "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", room, err, out)
		}
		if out, err := m.Do(path, "-test.v"); err != nil || !strings.Contains(out, "--- PASS") {
			t.Errorf("%s: %v: %s", room, err, out)
		}
	}
}

// device reads a device as the console shows it.
func (w *world) device(t *testing.T, id uuid.UUID) *api.DeviceDetail {
	t.Helper()
	return must(client.Result(w.owner.GetDeviceWithResponse(t.Context(), id)))(t)
}

// The real agent for Windows, installed as a service under Wine, is driven from the console: files, the
// registry, a service, a shell and commands, and the screen, which is seen and typed into; then it leaves
// and nothing stays.
func testWindowsAgent(t *testing.T) {
	m := windowsMachine(t)
	w := begin(t, false)
	m.do(t, "reg", "add", `HKLM\SOFTWARE\Fennick`, "/v", "Retries", "/t", "REG_DWORD", "/d", "3")
	m.do(t, "reg", "add", `HKLM\SOFTWARE\Fennick`, "/v", "Queue", "/d", "Front desk")
	if err := os.WriteFile(m.C("notes.txt"), []byte("opening hours\r\nnine to five\r\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	program := must(windowsAgent())(t)
	began := time.Now()
	id := m.installed(t, w, program)
	t.Logf("installed after %s", time.Since(began).Round(10*time.Millisecond))
	w.await(t, "first vitals", func() bool { return w.device(t, id).Vitals != nil })
	t.Logf("from the install command to first vitals: %s", time.Since(began).Round(10*time.Millisecond))
	// On a busy machine what is slow to read comes with a later report.
	w.await(t, "vitals with disks", func() bool { return len(w.device(t, id).Vitals.Disks) > 0 })
	d := w.device(t, id)
	if d.Facts == nil || d.Facts.OS != "windows" || len(d.Vitals.Disks) == 0 || d.Vitals.MemoryBytes == 0 || d.Vitals.UptimeSeconds == 0 {
		t.Errorf("the device is %+v, its vitals %+v", d.Facts, d.Vitals)
	}

	p := w.open(t)
	p.signIn()
	bench := p.url + "/devices/" + id.String()
	p.do(chromedp.Navigate(bench + "?pane=files"))
	p.sees("[role=row]", "Program Files")
	p.openRow("notes.txt")
	p.sees(".cm-content", "nine to five")
	p.focus(".cm-content")
	p.typed("our ")
	p.press("[aria-label=Files]", "Save")
	p.until(`[...document.querySelectorAll("[aria-label=Files] [role=status]")].some(e => e.innerText.trim() === "saved")`,
		"that it is saved")
	if b, _ := os.ReadFile(m.C("notes.txt")); string(b) != "our opening hours\r\nnine to five\r\n" {
		t.Errorf("the file holds %q", b)
	}
	p.press("[aria-label=Files]", "Close")
	p.until(`document.querySelector("input[type=file]") !== null`, "the button that sends files")
	p.do(chromedp.Evaluate[chromedp.Void](`(() => { const d = new DataTransfer(); d.items.add(new File(["x".repeat(700000)], "sent.txt"));
		const i = document.querySelector("input[type=file]"); i.files = d.files; i.dispatchEvent(new Event("change", {bubbles: true})); })()`))
	p.sees("[aria-label=Transfers]", "700 kB, compared")
	if info, err := os.Stat(m.C("sent.txt")); err != nil || info.Size() != 700_000 {
		t.Errorf("what was sent: %v %v", info, err)
	}
	p.sees("[role=row]", "sent.txt")
	p.press("[aria-label=Files]", "sent.txt")
	p.press("[aria-label=Files]", "Remove")
	p.press("[role=dialog]", "Remove 1")
	w.await(t, "it is removed", func() bool { _, err := os.Stat(m.C("sent.txt")); return errors.Is(err, os.ErrNotExist) })
	p.press("[aria-label=Files]", "notes.txt")
	p.press("[aria-label=Files]", "Access")
	p.sees("[role=dialog]", "It belongs to")
	p.focus("[role=dialog] input")
	p.typed("S-1-1-0\r")
	p.until(`[...document.querySelectorAll("[aria-label=Access] li")].some(e => e.innerText.startsWith("Everyone may read, run"))`,
		"what everybody may")
	p.accessible("who may do what with a file")

	p.do(chromedp.Navigate(bench + "?pane=settings"))
	for _, folder := range []string{"HKEY_LOCAL_MACHINE", "Software", "Fennick"} {
		p.openRow(folder)
	}
	p.press("[aria-label=Settings]", "Retries")
	p.until(`document.querySelector("[aria-label='Value of Retries'] [aria-label=Value]") !== null`, "the value's form")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[aria-label='Value of Retries'] [aria-label=Value]").select()`))
	p.typed("5\r")
	p.sees("[role=status]", "Retries is 5, and was 3.")
	if out := m.do(t, "reg", "query", `HKLM\SOFTWARE\Fennick`, "/v", "Retries"); !strings.Contains(out, "0x5") {
		t.Errorf("the registry holds %s", out)
	}

	p.do(chromedp.Navigate(bench + "?pane=services"))
	p.press("[aria-label=Services]", "Spooler")
	p.until(`(b => b ? (b.click(), true) : false)([...document.querySelectorAll("[aria-label=Services] button")].find(b => b.innerText.trim() === "Start"))`, "the button that starts it")
	p.sees("[role=status]", "Spooler runs, after")
	if out := m.do(t, "sc", "query", "Spooler"); !strings.Contains(out, "RUNNING") {
		t.Errorf("the service: %s", out)
	}

	p.do(chromedp.Navigate(bench + "?pane=command,shell"))
	p.until(`document.querySelector("[data-shell=open]") !== null`, "an open shell")
	p.focus("input[aria-label=Command]")
	p.typed("echo %OS%& exit 3\r")
	p.sees("[role=log]", "Windows_NT")
	p.sees("[role=log]", "exit status 3")
	p.focus(".xterm-helper-textarea")
	p.typed("echo moor%OS%\r")
	p.until(`[...document.querySelectorAll(".xterm-rows > div")].map(r => r.innerText).join("\n").includes("moorWindows_NT")`,
		"what the shell printed")

	p.do(chromedp.Navigate(bench + "?pane=processes"))
	asked := time.Now()
	p.sees("[aria-label=Processes]", "explorer.exe")
	t.Logf("processes listed after %s", time.Since(asked).Round(10*time.Millisecond))

	out := m.do(t, m.C("Program Files/Moorwatch Agent/moor-agent.exe"), "uninstall")
	if !strings.Contains(out, "gone from this device") {
		t.Errorf("uninstalled: %s", out)
	}
	for _, path := range []string{"Program Files/Moorwatch Agent", "ProgramData/Moorwatch Agent"} {
		if _, err := os.Stat(m.C(path)); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s stays: %v", path, err)
		}
	}
	if out, err := m.Command("wine", "sc", "query", "moor-agent").CombinedOutput(); err == nil && strings.Contains(string(out), "STATE") {
		t.Errorf("the service stays: %s", out)
	}
	w.await(t, "it is away", func() bool { return !w.device(t, id).Device.Online })
}

// The installer of a release installs the agent with an enrolment file, unattended, and takes it away again;
// so does the program with the file alone, the command that the console tells, and the one file that carries its
// enrolment.
func testWindowsInstaller(t *testing.T) {
	if _, err := exec.LookPath("wixl"); err != nil {
		t.Skip("wixl is missing")
	}
	m := windowsMachine(t)
	w := begin(t, false)
	w.withReleases(t, "windows/amd64")
	enrolment := func() {
		t.Helper()
		file := must(json.Marshal(release.Enrolment{Service: w.Service.URL, Token: w.enrolmentToken(t, 1)}))(t)
		if err := os.WriteFile(m.C("moor-agent.enrolment"), file, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	online := func(n int) {
		t.Helper()
		w.await(t, fmt.Sprintf("%d are online", n), func() bool {
			online := 0
			for _, d := range must(client.Result(w.owner.ListDevicesWithResponse(t.Context(), &api.ListDevicesParams{})))(t).Items {
				if d.Online && d.Memory != nil {
					online++
				}
			}
			return online == n
		})
	}
	gone := func() {
		t.Helper()
		for _, path := range []string{"Program Files/Moorwatch Agent", "ProgramData/Moorwatch Agent"} {
			if _, err := os.Stat(m.C(path)); !errors.Is(err, os.ErrNotExist) {
				t.Errorf("%s stays: %v", path, err)
			}
		}
		online(0)
	}
	for from, to := range map[string]string{"moor-agent_1.0.0_x64.msi": "agent.msi", "moor-agent_1.0.0_windows_amd64.exe": "agent.exe"} {
		b := must(os.ReadFile(filepath.Join(w.config.Releases, "1.0.0", from)))(t)
		if err := os.WriteFile(m.C(to), b, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	enrolment()
	began := time.Now()
	m.do(t, "msiexec", "/i", `C:\agent.msi`, `ENROLMENT=C:\moor-agent.enrolment`, "/qn")
	online(1)
	t.Logf("by the installer: first vitals %s after the command", time.Since(began).Round(10*time.Millisecond))
	m.do(t, "msiexec", "/x", `C:\agent.msi`, "/qn")
	gone()
	enrolment()
	began = time.Now()
	m.do(t, `C:\agent.exe`, "install", "--from", `C:\moor-agent.enrolment`)
	online(1)
	t.Logf("by the program: first vitals %s after the command", time.Since(began).Round(10*time.Millisecond))
	m.do(t, `C:\agent.exe`, "uninstall")
	gone()
	// The command that the console tells, by programs that stand in for those that Wine lacks.
	if err := os.Mkdir(m.C("pasted"), 0o755); err != nil {
		t.Fatal(err)
	}
	build := exec.Command("go", "build", "-o", m.C("pasted/curl.exe"), "./wine/standin")
	build.Env = append(os.Environ(), "HOME="+home, "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, name := range []string{"certutil.exe", "findstr.exe"} {
		if err := os.Link(m.C("pasted/curl.exe"), m.C("pasted/"+name)); err != nil {
			t.Fatal(err)
		}
	}
	p := w.open(t)
	p.signIn()
	paste := func(command string) (string, error) {
		if err := os.WriteFile(m.C("pasted/pasted.bat"), []byte("@echo off\r\ncd /d C:\\pasted\r\n"+command+"\r\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		return m.Do("cmd", "/c", `C:\pasted\pasted.bat`)
	}
	command := p.shown("Windows")
	_, rest, _ := strings.Cut(command, "findstr ")
	if out, _ := paste(strings.Replace(command, "findstr "+rest[:8], "findstr 00000000", 1)); !strings.Contains(out,
		"nothing is installed") || strings.Contains(out, "Connected") {
		t.Errorf("a program that is another than the page says: %s", out)
	}
	began = time.Now()
	if out, err := paste(command); err != nil || !strings.Contains(out, "Connected after") {
		t.Fatalf("%s: %v: %s", command, err, out)
	}
	online(1)
	t.Logf("by the pasted command: first vitals %s after it", time.Since(began).Round(10*time.Millisecond))
	m.do(t, `C:\agent.exe`, "uninstall")
	gone()
	if out, errs, exit := ran(t, w.moor(t, "agent", "add", "--organisation", organisation, "--site", site, "--without", "screen",
		"--installer", m.C("installer.exe"))); exit != 0 {
		t.Fatalf("%d %q %q", exit, out, errs)
	}
	began = time.Now()
	m.do(t, `C:\installer.exe`)
	online(1)
	t.Logf("by the installer of one file: first vitals %s after it was run", time.Since(began).Round(10*time.Millisecond))
	if out := m.do(t, `C:\agent.exe`, "status"); !strings.Contains(out, "without    [screen]") {
		t.Errorf("its status: %s", out)
	}
	plain, own := must(os.Stat(m.C("agent.exe")))(t), must(os.Stat(m.C("Program Files/Moorwatch Agent/moor-agent.exe")))(t)
	if plain.Size() != own.Size() {
		t.Errorf("what is installed has %d bytes, and the agent %d: it carries the token on", own.Size(), plain.Size())
	}
	m.do(t, `C:\agent.exe`, "uninstall")
	gone()
}

// The screen of a Windows desktop: the person is asked by a dialog and allows it, sees who works with them, and a
// text is typed into a program there.
func testWindowsScreen(t *testing.T) {
	m := windowsMachine(t)
	w := begin(t, false)
	program := must(windowsAgent())(t)
	if err := os.WriteFile(m.C("token.txt"), []byte(w.enrolmentToken(t, 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	out := m.do(t, program, "enrol", "--dir", `C:\agent`, "--service", w.Service.URL, "--token-file", `C:\token.txt`)
	_, rest, _ := strings.Cut(out, "(")
	text, _, _ := strings.Cut(rest, ")")
	id := must(uuid.Parse(text))(t)
	m.start(t, program, "run", "--dir", `C:\agent`)
	w.await(t, "it is there", func() bool { return w.device(t, id).Device.Online })
	p := w.open(t)
	p.signIn()
	if err := os.WriteFile(m.C("typed.txt"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	m.start(t, "notepad", `C:\typed.txt`)
	w.await(t, "a program is on the desktop", func() bool {
		list := must(client.Result(w.owner.ListProcessesWithResponse(t.Context(), id)))(t)
		return slices.ContainsFunc(list.Items, func(one link.Process) bool { return one.Name == "notepad.exe" })
	})
	p.do(chromedp.Navigate(fmt.Sprintf("%s/devices/%s?pane=screen", p.url, id)))
	p.sees("[aria-label=Screen]", "Asking whether the screen")
	w.await(t, "the person allows it", func() bool {
		on(m.Display, "xdotool", "key", "Tab", "sleep", "0.2", "key", "space")
		return ask[bool](p, `document.querySelector("[role=application] canvas")?.width === 800`)
	})
	before := ask[string](p, canvasText)
	at := ask[[]float64](p,
		`(r => [r.left + r.width / 4, r.top + r.height / 3])(document.querySelector("[role=application] canvas").getBoundingClientRect())`)
	p.do(chromedp.MouseClickXY(at[0], at[1]))
	p.focus("[role=application]")
	p.typed("Tea at 4? 100 %")
	p.until(canvasText+` !== `+fmt.Sprintf("%q", before), "the picture has changed")
	ask[bool](p, `(() => {
		const place = document.querySelector("[role=application]");
		for (const [kind, key, code, ctrlKey] of [["keydown", "Control", "ControlLeft", true], ["keydown", "s", "KeyS", true], ["keyup", "s", "KeyS", true], ["keyup", "Control", "ControlLeft", false]])
			place.dispatchEvent(new KeyboardEvent(kind, { key, code, ctrlKey, bubbles: true }));
		return true;
	})()`)
	w.await(t, "what was typed is written", func() bool {
		b, _ := os.ReadFile(m.C("typed.txt"))
		return strings.Contains(string(b), "Tea at 4? 100 %")
	})
}

// canvasText is a number of what the screen shows.
const canvasText = `(() => { const c = document.querySelector("[role=application] canvas"); const to = Object.assign(document.createElement("canvas"), { width: c.width, height: c.height }).getContext("2d"); to.drawImage(c, 0, 0); let h = 0; for (const v of new Uint32Array(to.getImageData(0, 0, c.width, c.height).data.buffer)) h = (Math.imul(h, 31) + v) | 0; return String(h); })()`
