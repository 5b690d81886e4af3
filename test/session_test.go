package test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/coder/websocket"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
)

func command(argv ...string) link.Command {
	return link.Command{Argv: argv, Order: uuid.NewString()}
}

func TestCommands(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	d := w.machine(t, "van-board")
	var out, errs bytes.Buffer
	exit, err := w.owner.Run(t.Context(), d.id, command("sh", "-c", "echo out; echo err >&2; exit 3"), &out, &errs)
	if err != nil || exit != 3 || out.String() != "out\n" || errs.String() != "err\n" {
		t.Errorf("%d, %v, %q, %q", exit, err, out.String(), errs.String())
	}
	endless := command("yes")
	endless.OutputLimitBytes = 100_000
	out.Reset()
	_, err = w.owner.Run(t.Context(), d.id, endless, &out, io.Discard)
	if err == nil || !strings.Contains(err.Error(), "output limit of 100000 bytes") || out.Len() != 100_000 {
		t.Errorf("a command that prints for ever: %d bytes, %v", out.Len(), err)
	}
	long := command("sleep", "300")
	long.TimeoutSeconds = 1
	if _, err := w.owner.Run(t.Context(), d.id, long, io.Discard, io.Discard); err == nil ||
		!strings.Contains(err.Error(), "time limit of 1s") {
		t.Errorf("a command that never ends: %v", err)
	}
	if _, err := w.owner.Run(t.Context(), d.id, command("/no/such"), io.Discard, io.Discard); err == nil ||
		!strings.Contains(err.Error(), "could not be started") {
		t.Errorf("a program that is not there: %v", err)
	}
	once := command("true")
	for i := range 2 {
		_, err := w.owner.Run(t.Context(), d.id, once, io.Discard, io.Discard)
		if i == 0 && err != nil {
			t.Error(err)
		}
		if i == 1 {
			refused(t, err, http.StatusConflict, "carried out before")
		}
	}
	_, err = w.owner.Run(t.Context(), d.id, link.Command{}, io.Discard, io.Discard)
	refused(t, err, http.StatusBadRequest, "argv")
	_, err = w.owner.Run(t.Context(), uuid.New(), command("true"), io.Discard, io.Discard)
	refused(t, err, http.StatusNotFound, "no such device")
}

// Output comes as it is printed, and leaving ends the command at the device.
func TestCancelReachesTheDevice(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	ctx, cancel := context.WithCancel(t.Context())
	mark := uuid.NewString()
	r, wr := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := w.owner.Run(ctx, d.id, command("sh", "-c", "echo begun; sleep 300; : "+mark), wr, io.Discard)
		done <- err
	}()
	if _, err := io.ReadFull(r, make([]byte, 6)); err != nil {
		t.Fatal(err)
	}
	cancel()
	if err := <-done; err == nil {
		t.Error("a cancelled command ended well")
	}
	w.await(t, "the command has ended at the device", func() bool {
		var out bytes.Buffer
		must(w.owner.Run(t.Context(), d.id, link.Command{Argv: []string{"cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' '"}, Line: true},
			&out, io.Discard))(t)
		return !strings.Contains(out.String(), mark)
	})
}

func TestOfflineDevice(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.quick(t)
	d := w.simulated(t, "hay-desk-01")
	d.stop()
	w.await(t, "a device whose agent ended is silent", func() bool {
		return !must(w.owner.Find(t.Context(), "hay-desk-01"))(t).Online
	})
	_, err := w.owner.Run(t.Context(), d.id, command("true"), io.Discard, io.Discard)
	refused(t, err, http.StatusServiceUnavailable, "hay-desk-01 is not connected")
	_, err = w.owner.Shell(t.Context(), d.id, link.TerminalSize{Columns: 80, Rows: 24})
	refused(t, err, http.StatusServiceUnavailable, "hay-desk-01 is not connected")
	var page *api.AttentionPage
	w.await(t, "the first page shows it", func() bool {
		page = must(client.Result(w.owner.ListAttentionWithResponse(t.Context(), &api.ListAttentionParams{})))(t)
		return page.Total > 0
	})
	if page.Total != 1 || page.Items[0].Alert.Check != "silent" || page.Devices.Silent != 1 {
		t.Errorf("the first page shows %+v", page)
	}
}

// What went silent while the service was down is told of after its start.
func TestRestartKnowsWhoIsSilent(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	w.Stop()
	d.stop()
	w.start(t)
	w.await(t, "silent, with a finding", func() bool {
		got := must(w.owner.Device(t.Context(), d.id))(t)
		return got.Device.Condition == "silent" && len(got.Findings) == 1
	})
}

func TestShell(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	c := must(w.owner.Shell(t.Context(), d.id, link.TerminalSize{Columns: 91, Rows: 33}))(t)
	defer c.CloseNow()
	s := &shell{t: t, c: c}
	s.typed("stty size; printf 'h\\303\\251%s\\n' $((6*7))\n")
	s.await("33 91", "hé42")
	text, _ := json.Marshal(link.ShellEvent{Resize: &link.TerminalSize{Columns: 120, Rows: 40}})
	if err := c.Write(t.Context(), websocket.MessageText, text); err != nil {
		t.Fatal(err)
	}
	s.typed("stty size\n")
	s.await("40 120")
	s.typed("exit 5\n")
	if e := s.event(); e.Exit == nil || *e.Exit != 5 {
		t.Errorf("the shell ends with %+v", e)
	}
}

// A shell whose agent goes away says so.
func TestShellOfALostAgent(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.simulated(t, "hay-desk-01")
	c := must(w.owner.Shell(t.Context(), d.id, link.TerminalSize{Columns: 80, Rows: 24}))(t)
	defer c.CloseNow()
	s := &shell{t: t, c: c}
	s.await("hay-desk-01")
	go d.stop()
	if e := s.event(); !strings.Contains(e.Error, "was lost") {
		t.Errorf("the shell ends with %+v", e)
	}
}

// shell reads a shell's messages.
type shell struct {
	t   *testing.T
	c   *websocket.Conn
	all []byte
}

func (s *shell) typed(text string) {
	s.t.Helper()
	if err := s.c.Write(s.t.Context(), websocket.MessageBinary, []byte(text)); err != nil {
		s.t.Fatal(err)
	}
}

func (s *shell) read() (websocket.MessageType, []byte) {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), soon)
	defer cancel()
	kind, data, err := s.c.Read(ctx)
	if err != nil {
		s.t.Fatalf("%v; so far %q", err, s.all)
	}
	return kind, data
}

func (s *shell) await(texts ...string) {
	s.t.Helper()
	for _, text := range texts {
		for !bytes.Contains(s.all, []byte(text)) {
			if kind, data := s.read(); kind == websocket.MessageBinary {
				s.all = append(s.all, data...)
			}
		}
	}
}

func (s *shell) event() (e link.ShellEvent) {
	s.t.Helper()
	for {
		if kind, data := s.read(); kind == websocket.MessageText {
			if err := json.Unmarshal(data, &e); err != nil {
				s.t.Fatal(err)
			}
			return e
		}
	}
}

// A shell outlives its connection: who joins it again reads on from where they were, and who closes
// it ends it.
func TestShellIsJoinedAgain(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	o := client.ShellOptions{Size: link.TerminalSize{Columns: 80, Rows: 24}, ID: uuid.New(), Program: "/bin/sh"}
	c := must(w.owner.ShellWith(t.Context(), d.id, o))(t)
	s := &shell{t: t, c: c}
	if e := s.event(); e.Begin == nil || *e.Begin != 0 {
		t.Errorf("it begins with %+v", e)
	}
	s.typed("printf 'fir%s\\n' st; sleep 1; printf 'sec%s\\n' ond\n")
	s.await("first")
	c.CloseNow() // as a cut does
	o.From = int64(len(s.all))
	again := &shell{t: t, c: must(w.owner.ShellWith(t.Context(), d.id, o))(t)}
	again.await("second")
	if bytes.Contains(again.all, []byte("first")) {
		t.Errorf("what was read comes again: %q", again.all)
	}
	o.From = 0
	whole := &shell{t: t, c: must(w.owner.ShellWith(t.Context(), d.id, o))(t)}
	whole.await("first", "second")
	// Who learnt its identity, from the log of a proxy or over a shoulder, does not come into another's shell by it.
	theirs := &shell{t: t, c: must(w.person(t, access.Technician).ShellWith(t.Context(), d.id, o))(t)}
	theirs.typed("printf 'my%s\\n' own\n")
	theirs.await("myown")
	if bytes.Contains(theirs.all, []byte("first")) {
		t.Errorf("a colleague came into the shell: %q", theirs.all)
	}
	theirs.c.Close(websocket.StatusNormalClosure, "")
	whole.typed("echo pid=$$.\n")
	pid := regexp.MustCompile(`pid=(\d+)\.`)
	for !pid.Match(whole.all) {
		if kind, data := whole.read(); kind == websocket.MessageBinary {
			whole.all = append(whole.all, data...)
		}
	}
	whole.c.Close(websocket.StatusNormalClosure, "")
	w.await(t, "the shell has ended", func() bool {
		_, err := os.Stat("/proc/" + string(pid.FindSubmatch(whole.all)[1]))
		return err != nil
	})
	_, err := w.owner.ShellWith(t.Context(), d.id, client.ShellOptions{Size: o.Size, ID: uuid.New(), Program: "/bin/no-such"})
	refused(t, err, http.StatusBadRequest, "no interpreter")
	choices := must(client.Result(w.owner.ListShellChoicesWithResponse(t.Context(), d.id)))(t)
	if len(choices.Programs) < 2 {
		t.Errorf("%+v", choices)
	}
}

// Whatever goes on when the service stops is on record as ended once it has stopped.
func TestEndsAreOnRecordWhenTheServiceStops(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	d := w.machine(t, "van-board")
	const many = 8
	for range many {
		go w.owner.Run(t.Context(), d.id, command("sleep", "600"), io.Discard, io.Discard)
	}
	count := func(action string) (n int) {
		db := must(pgx.Connect(t.Context(), w.config.Database))(t)
		defer db.Close(t.Context())
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM audit WHERE action = $1", action).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	w.await(t, "the commands run", func() bool { return count("command.start") == many })
	w.Stop()
	if n := count("command.end"); n != many {
		t.Errorf("the ends of %d of %d commands are on record", n, many)
	}
	w.start(t)
}
