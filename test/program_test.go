package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/demo"
	"moorwatch.example/test/wait"
)

// programs builds the programs once, and returns the folder they are in.
var programs = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(scratch, "bin")
	build := exec.Command("go", "build", "-o", dir+"/", "../cmd/...")
	build.Env = append(os.Environ(), "HOME="+home) // where Go keeps what it has built
	out, err := build.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return dir, err
})

// moor prepares the client with an account of its own, signed in by environment.
func (w *world) moor(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(filepath.Join(must(programs())(t), "moor"), args...)
	cmd.Env = append(os.Environ(), "MOOR_URL="+w.Service.URL, "MOOR_TOKEN="+w.token, "MOOR_CA="+w.ca, "XDG_CONFIG_HOME="+t.TempDir())
	return cmd
}

// ran runs a program and returns what it printed and its exit status.
func ran(t *testing.T, cmd *exec.Cmd) (out, errs string, exit int) {
	t.Helper()
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	var status *exec.ExitError
	if err != nil && !errors.As(err, &status) {
		t.Fatal(err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

func TestClientProgram(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	w.quick(t)
	w.machine(t, "van-board")
	w.simulated(t, "hay-desk-01")
	w.enrol(t, "hay-desk-02")
	for _, c := range []struct {
		args      []string
		out, errs string
		exit      int
	}{
		{[]string{"run", "van-board", "--", "sh", "-c", "echo out; echo err >&2; exit 3"}, "out\n", "err\n", 3},
		{[]string{"run", "--line", "van-board", "--", "echo a |", "tr a b"}, "b\n", "", 0},
		{[]string{"run", "--timeout", "1s", "van-board", "--", "sleep", "60"}, "", "time limit of 1s", 125},
		{[]string{"run", "van-board"}, "", "which command?", 125},
		{[]string{"run", "hay-desk-02", "--", "true"}, "", "hay-desk-02 is not connected", 125},
		{[]string{"device", "van-bored"}, "", "van-board", 125},
		{[]string{"device", "hay-desk-01"}, "Windows 11 Pro", "", 0},
		{[]string{"devices", "--where", "os =="}, "", "Syntax error", 125},
		{[]string{"devices", "--where", "disk > 99.9"}, "", "No device matches.", 0},
		{[]string{"attention"}, "hay-desk-02", "", 0},
		{[]string{"link-test", "--bytes", "100000", "van-board"}, "100 kB came in", "", 0},
		{[]string{"enrolment", "add", "--organisation", organisation, "--site", site}, "mw-enrol.", "", 0},
		{[]string{"enrolment", "list"}, "used up", "", 0},
		{[]string{"token", "add", "backup", "--permission", "fleet.read"}, "", "wrong", 125}, // no password
		{[]string{"site", "list"}, site, "", 0},
		{[]string{"audit", "--device", "van-board"}, "command.end", "", 0},
		{[]string{"completion", "bash"}, "complete", "", 0},
		{[]string{"alerts"}, "Not heard from", "", 0},
		{[]string{"alert", "show", "zzz"}, "", "has an id that begins with zzz", 125},
		{[]string{"suspects"}, "", "which alert?", 125},
		{[]string{"inventory", "--take", "--section", "software", "hay-desk-01"}, "Fennick Print Driver", "", 0},
		{[]string{"inventory", "--export", "csv", "hay-desk-01"}, "device,section,name,field,value", "", 0},
		{[]string{"changes", "hay-desk-01"}, "WHAT", "", 0},
		{[]string{"software", "fennick"}, "4.1.7 (1)", "", 0},
		{[]string{"standing", "hay-desk-01", "cpu"}, "devices read less", "", 0},
		{[]string{"standing", "hay-desk-01", "nonsense"}, "", "no such fact", 125},
		{[]string{"sweep", "item", "Fennick Print Driver", "--where", "os == 'windows'"}, "1 of 1 devices answered.", "", 0},
		{[]string{"groups", "set", "Desks", "--where", `os == "windows"`}, "Desks has 1 devices.", "", 0},
		{[]string{"groups", "list"}, "Desks", "", 0},
		{[]string{"groups", "preview", "os =="}, "", "Syntax error", 125},
		{[]string{"groups", "words"}, "software", "", 0},
		{[]string{"devices", "--group", "desks"}, "hay-desk-01", "", 0},
		{[]string{"policies", "list"}, "quick", "", 0},
		{[]string{"policies", "checks", "hay-desk-01"}, "quick", "", 0},
		{[]string{"policies", "try", "cpu", "--warning", "1", "--group", "Desks"}, "It would have alerted", "", 0},
		{[]string{"windows", "add", "Tonight", "--start", "2026-11-24T22:00", "--group", "Desks"}, "Tonight holds for group Desks.", "", 0},
		{[]string{"windows", "list"}, "Tonight", "", 0},
		{[]string{"groups", "remove", "Desks"}, "", "It is the scope of the maintenance window Tonight", 125},
	} {
		out, errs, exit := ran(t, w.moor(t, c.args...))
		if exit != c.exit || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) {
			t.Errorf("moor %q: exit %d, %q, %q", c.args, exit, out, errs)
		}
	}
	add := w.moor(t, "token", "add", "backup", "--permission", "fleet.read")
	add.Stdin = strings.NewReader(password + "\n")
	if out, errs, exit := ran(t, add); exit != 0 || !strings.HasPrefix(out, "mw-api.") {
		t.Errorf("moor token add: exit %d, %q, %q", exit, out, errs)
	}
	if out, _, _ := ran(t, w.moor(t, "token", "list", "--person", "robin@curlew-sedge.example")); !strings.Contains(out, "fleet.read") {
		t.Errorf("moor token list: %q", out)
	}
	for args, one := range map[string]bool{"device hay-desk-01 --json": true, "device --json hay-desk-01": true,
		"devices --json --where name=='hay-desk-01'": false} {
		out, _, _ := ran(t, w.moor(t, strings.Fields(args)...))
		var list []map[string]any
		if one {
			out = "[" + out + "]"
		}
		if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 1 {
			t.Fatalf("moor %s: %v in %s", args, err, out)
		}
		for _, field := range []string{"id", "name", "organisation", "site", "os", "condition", "online"} {
			if _, ok := list[0][field]; !ok {
				t.Errorf("moor %s has no %s", args, field)
			}
		}
	}
	// Signed in by what sign-in stored, and not by the environment.
	config := t.TempDir()
	signIn := w.moor(t, "sign-in", w.Service.URL, "--email", "robin@curlew-sedge.example", "--ca", w.ca)
	signIn.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
	signIn.Stdin = strings.NewReader(password + "\n")
	if out, errs, exit := ran(t, signIn); exit != 0 || !strings.Contains(out, "as robin@curlew-sedge.example (owner)") {
		t.Fatalf("sign-in: %d %s %s", exit, out, errs)
	}
	if info, err := os.Stat(filepath.Join(config, "moor", "sign-in.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("what sign-in stored: %v, %v", info, err)
	}
	stored := w.moor(t, "devices")
	stored.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
	if out, errs, _ := ran(t, stored); !strings.Contains(out, "van-board") {
		t.Errorf("signed in by what was stored: %s %s", out, errs)
	}
	nobody := w.moor(t, "devices")
	nobody.Env = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())
	if _, errs, exit := ran(t, nobody); exit != 125 || !strings.Contains(errs, "run moor sign-in") {
		t.Errorf("not signed in: %d %s", exit, errs)
	}
	// Ctrl+C ends the command at the device.
	long := w.moor(t, "run", "van-board", "--", "sh", "-c", "echo begun; sleep 300")
	out := must(long.StdoutPipe())(t)
	if err := long.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(out, make([]byte, 6)); err != nil {
		t.Fatal(err)
	}
	long.Process.Signal(os.Interrupt)
	if err := long.Wait(); long.ProcessState.ExitCode() != 130 {
		t.Errorf("after Ctrl+C: %v", err)
	}
}

// moor shell in a real terminal: raw keys, and the window's size follows.
func TestClientShell(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.machine(t, "van-board")
	cmd := w.moor(t, "shell", "van-board")
	f, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 90, Rows: 30})
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var all []byte
	await := func(text string) {
		t.Helper()
		b := make([]byte, 4096)
		for !bytes.Contains(all, []byte(text)) {
			n, err := f.Read(b)
			if err != nil {
				t.Fatalf("%v before %q; so far %q", err, text, all)
			}
			all = append(all, b[:n]...)
		}
	}
	io.WriteString(f, "stty size; echo $((6*7))moor\r")
	await("30 90")
	await("42moor")
	if err := pty.Setsize(f, &pty.Winsize{Cols: 100, Rows: 40}); err != nil {
		t.Fatal(err)
	}
	// The size travels beside what is typed; it is asked for until it has arrived.
	io.WriteString(f, "until [ \"$(stty size)\" = '40 100' ]; do :; done; echo re''sized\r")
	await("resized")
	io.WriteString(f, `sh -c 'trap "echo cau""ght; exit" INT; echo begu""n; while :; do sleep 0.1; done'`+"\r")
	await("begun")
	io.WriteString(f, "\x03") // Ctrl+C goes to the program at the device, not to moor
	await("caught")
	io.WriteString(f, "exit 9\r")
	cmd.Wait()
	if exit := cmd.ProcessState.ExitCode(); exit != 9 {
		t.Errorf("moor shell ends with %d", exit)
	}
}

// The demo as its first user meets it: ready, stopped whole, and continued where it was.
func TestDemo(t *testing.T) {
	t.Parallel()
	bin := must(programs())(t)
	dir := filepath.Join(scratch, "demo")
	_, port, _ := strings.Cut(freeAddress(t), ":")
	env := append(os.Environ(), "DEMO_DIR="+filepath.Base(dir), "DEMO_PORT="+port) // below the present folder, as make demo has it
	start := func() (*exec.Cmd, demo.Access) {
		cmd := exec.Command(filepath.Join(bin, "moorwatch"), "demo")
		cmd.Env, cmd.Dir = env, scratch
		out := must(cmd.StdoutPipe())(t)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill() })
		ready := false
		for lines := bufio.NewScanner(out); !ready && lines.Scan(); {
			ready = strings.Contains(lines.Text(), "Ctrl+C")
		}
		if !ready {
			t.Fatal("the demo ended before it was ready")
		}
		var a demo.Access
		if err := json.Unmarshal(must(os.ReadFile(filepath.Join(dir, "demo.json")))(t), &a); err != nil {
			t.Fatal(err)
		}
		return cmd, a
	}
	stop := func(cmd *exec.Cmd) {
		t.Helper()
		cmd.Process.Signal(os.Interrupt)
		if err := cmd.Wait(); err != nil {
			t.Errorf("the demo ends with %v", err)
		}
		if left, _ := exec.Command("pgrep", "-f", dir).Output(); len(left) > 0 {
			t.Errorf("these processes of the demo are left: %s", left)
		}
	}
	began := time.Now()
	cmd, first := start()
	t.Logf("ready after %s", time.Since(began).Round(time.Millisecond))
	if info := must(os.Stat(filepath.Join(dir, "demo.json")))(t); info.Mode().Perm() != 0o600 {
		t.Errorf("demo.json has the mode %o", info.Mode().Perm())
	}
	c := must(client.New(client.Options{URL: first.URL, Token: first.Token}))(t)
	n, local := 0, false
	for began := time.Now(); (n < 115 || !local) && time.Since(began) < soon; wait.Pause(t, 100*time.Millisecond) {
		n, local = 0, false
		for d, err := range c.Devices(t.Context(), "online") {
			if err != nil {
				t.Fatal(err)
			}
			n++
			local = local || d.Name == first.Local
		}
	}
	if n < 115 || !local {
		t.Errorf("%d devices are online; this machine among them: %t", n, local)
	}
	records := must(c.Find(t.Context(), "sal-records"))(t)
	history := must(client.Result(c.GetReadingsWithResponse(t.Context(), records.ID, nil)))(t)
	if len(history.At) < 250 {
		t.Error("there is no history of the day before")
	}
	if answer, err := http.Get(first.URL + "/"); err != nil || answer.StatusCode != http.StatusOK {
		t.Errorf("the console: %v", err)
	} else {
		answer.Body.Close()
	}
	tellsItsStories(t, c, dir)
	listed := 0
	if err := c.Walk(t.Context(), records.ID, "/var/log", false, func(b link.FileBatch) error {
		listed += len(b.Entries)
		return nil
	}); err != nil || listed == 0 {
		t.Errorf("%d files of a sample device are listed, %v", listed, err)
	}
	second := exec.Command(filepath.Join(bin, "moorwatch"), "demo")
	second.Env, second.Dir = env, scratch
	if _, errs, exit := ran(t, second); exit != 1 || !strings.Contains(errs, "a demo is running in") {
		t.Errorf("a second demo beside the first: %d %s", exit, errs)
	}
	stop(cmd)
	cmd, again := start()
	if again.Token != first.Token || must(c.Find(t.Context(), "sal-records"))(t).ID != records.ID {
		t.Error("the demo did not continue where it was")
	}
	stop(cmd)
	reset := exec.Command(filepath.Join(bin, "moorwatch"), "demo", "--reset")
	reset.Env, reset.Dir = env, scratch
	if _, errs, exit := ran(t, reset); exit != 0 {
		t.Error(errs)
	}
	if _, err := os.Stat(dir); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("after a reset the folder is there: %v", err)
	}
}

// toldWithin is how long the demo may take to tell its stories; a minute or two where nothing else runs.
const toldWithin = 8 * time.Minute

// tellsItsStories waits until the demo has told the stories of its world by itself: on the first
// page, each once, and by mail.
func tellsItsStories(t *testing.T, c *client.Client, dir string) {
	t.Helper()
	stories := map[string]func(a api.Attention) bool{
		"a disk that fills": func(a api.Attention) bool {
			return a.Alert.Device != nil && *a.Alert.Device == "sal-records" &&
				strings.Contains(a.Alert.Message, "Disk /srv full in 3 days at this week's rate")
		},
		"a site that is silent": func(a api.Attention) bool {
			return a.Alert.DeviceID == nil && a.Alert.Site == "Haywater branch" && a.Alert.Devices == 5
		},
		"a driver that slows log-on": func(a api.Attention) bool {
			return a.Alert.Suspect != nil && a.Alert.Suspect.Summary == "Fennick Print Driver updated from 4.1.7 to 4.2.0" &&
				a.Alike != nil && len(*a.Alike) > 20
		},
		"a station that overheats": func(a api.Attention) bool {
			return a.Alert.Device != nil && *a.Alert.Device == "tarn-ridge-3" && a.Alert.Check == "temperature"
		},
	}
	mails := []string{"gor-kiosk: Not heard from", "[resolved] gor-kiosk", "tarn-ridge-3", "Haywater branch"}
	var missing []string
	for began := time.Now(); time.Since(began) < toldWithin; wait.Pause(t, time.Second) {
		page := must(client.Result(c.ListAttentionWithResponse(t.Context(), &api.ListAttentionParams{})))(t)
		missing = nil
		for story, tells := range stories {
			n := 0
			for _, a := range page.Items {
				if tells(a) && a.NextStep != "" && !a.Alert.Since.IsZero() {
					n++
				}
			}
			if n != 1 {
				missing = append(missing, fmt.Sprintf("%s is told %d times", story, n))
			}
		}
		var sent strings.Builder
		files, _ := filepath.Glob(filepath.Join(dir, "mail", "*.eml"))
		for _, file := range files {
			text := must(os.ReadFile(file))(t)
			for line := range strings.Lines(string(text)) {
				if subject, ok := strings.CutPrefix(line, "Subject: "); ok {
					decoded, err := new(mime.WordDecoder).DecodeHeader(strings.TrimSpace(subject))
					if err != nil {
						t.Error(err)
					}
					sent.WriteString(decoded + "\n")
				}
			}
		}
		for _, m := range mails {
			if !strings.Contains(sent.String(), m) {
				missing = append(missing, "no mail of "+m)
			}
		}
		if missing == nil {
			t.Logf("all stories were told after %s", time.Since(began).Round(time.Second))
			return
		}
	}
	t.Errorf("not told within %s: %s", toldWithin, strings.Join(missing, "; "))
}
