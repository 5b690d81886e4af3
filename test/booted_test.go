package test

import (
	"bytes"
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/link"
)

// booted boots this machine's own system, on an overlay of its root, in a container with a systemd
// of its own, in which the agent runs as a service.
func (w *world) booted(t *testing.T, name string) uuid.UUID {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("booting a machine needs root")
	}
	if _, err := exec.LookPath("systemd-nspawn"); err != nil {
		t.Skip("booting a machine needs systemd-nspawn")
	}
	base := must(os.MkdirTemp("", "moorwatch-machine-"))(t)
	t.Cleanup(func() { os.RemoveAll(base) })
	root := filepath.Join(base, "root")
	for _, dir := range []string{"upper", "work", "root"} {
		if err := os.Mkdir(filepath.Join(base, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := syscall.Mount("overlay", root, "overlay", 0, "lowerdir=/,upperdir="+base+"/upper,workdir="+base+"/work"); err != nil {
		t.Skipf("this machine mounts no overlay: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(root, syscall.MNT_DETACH) })
	dir := filepath.Join(root, "var/lib/moor-agent")
	i := must(identity.Enrol(t.Context(), dir, w.Service.URL, w.enrolmentToken(t, 1), name))(t)
	unit := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(root, "usr/lib/systemd/system", name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"postgresql.service", "apt-daily.timer", "apt-daily-upgrade.timer", "systemd-networkd.service", "networking.service", "systemd-resolved.service"} {
		os.Symlink("/dev/null", filepath.Join(root, "etc/systemd/system", name))
	}
	unit("moor-agent.service", "[Service]\nExecStart=/usr/local/bin/moor-agent run --dir /var/lib/moor-agent\nRestart=always\n[Install]\nWantedBy=multi-user.target\n")
	unit("stuck.service", "[Unit]\nDescription=Does not hear\n[Service]\nExecStart=/bin/sh -c 'trap \"\" TERM; while :; do sleep 1; done'\nTimeoutStopSec=2\n")
	unit("leaning.service", "[Unit]\nDescription=Leans on it\nRequires=stuck.service\nAfter=stuck.service\n[Service]\nExecStart=/bin/sleep infinity\n")
	wants := filepath.Join(root, "etc/systemd/system/multi-user.target.wants")
	os.MkdirAll(wants, 0o755)
	for _, name := range []string{"moor-agent", "stuck", "leaning"} {
		os.Symlink("/usr/lib/systemd/system/"+name+".service", filepath.Join(wants, name+".service"))
	}
	os.WriteFile(filepath.Join(root, "etc/machine-id"), []byte(strings.ReplaceAll(uuid.NewString(), "-", "")+"\n"), 0o444)
	os.WriteFile(filepath.Join(root, "etc/hostname"), []byte(name+"\n"), 0o644)
	program := must(os.ReadFile(filepath.Join(must(programs())(t), "moor-agent")))(t)
	if err := os.WriteFile(filepath.Join(root, "usr/local/bin/moor-agent"), program, 0o755); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	var said bytes.Buffer
	done := make(chan struct{})
	go func() { // a machine that restarts ends its container, and is booted again
		defer close(done)
		for ctx.Err() == nil {
			cmd := exec.CommandContext(ctx, "systemd-nspawn", "--quiet", "--directory="+root, "--boot", "--register=no", "--keep-unit", "--machine="+name, "--link-journal=no", "--resolv-conf=off", "--timezone=off", "--console=pipe")
			cmd.Stdout, cmd.Stderr = &said, &said
			cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
			cmd.WaitDelay = 15 * time.Second
			cmd.Run()
		}
	}()
	t.Cleanup(func() {
		cancel()
		<-done
		if t.Failed() {
			t.Logf("the machine said: %.3000s", said.String())
		}
	})
	id := uuid.MustParse(i.Device)
	w.await(t, 60*time.Second, "the machine has booted and its agent is connected", func() bool {
		d := must(w.owner.Device(t.Context(), id))(t).Device
		return d.Online && slices.Contains(d.Capabilities, "services")
	})
	return id
}

// Services, the journal and power of a real machine with a systemd of its own.
func TestABootedMachine(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	id := w.booted(t, "sal-records")
	services := must(client.Result(w.owner.ListServicesWithResponse(t.Context(), id)))(t).Items
	state := map[string]string{}
	for _, s := range services {
		state[s.Name] = s.State
	}
	if state["stuck.service"] != "running" || state["systemd-journald.service"] != "running" || len(services) < 20 {
		t.Errorf("%d services: %v", len(services), state)
	}
	s := must(client.Result(w.owner.GetServiceWithResponse(t.Context(), id, "stuck")))(t)
	if s.Title != "Does not hear" || !slices.Equal(s.NeededBy, []string{"leaning.service"}) || s.PID == 0 {
		t.Errorf("the service shows %+v", s)
	}
	do := func(d link.ServiceDeed) (*link.Outcome, error) {
		return client.Result(w.owner.ChangeServiceWithResponse(t.Context(), id, d))
	}
	_, err := do(link.ServiceDeed{Deed: link.ServiceRestart, Name: "stuck"})
	refused(t, err, http.StatusConflict, "leaning.service would stop too")
	_, err = do(link.ServiceDeed{Deed: link.ServiceStop, Name: "stuck", Stops: s.NeededBy, Seconds: 1})
	refused(t, err, http.StatusConflict, "is still stopping after 1s")
	w.await(t, 15*time.Second, "systemd has ended it", func() bool {
		return must(client.Result(w.owner.GetServiceWithResponse(t.Context(), id, "stuck")))(t).State == "failed"
	})
	if o := must(do(link.ServiceDeed{Deed: link.ServiceStart, Name: "leaning"}))(t); !strings.Contains(o.Message, "leaning.service runs") {
		t.Errorf("%+v", o)
	}
	must(do(link.ServiceDeed{Deed: link.ServiceMode, Name: "leaning", Start: "disabled"}))(t)
	if s := must(client.Result(w.owner.GetServiceWithResponse(t.Context(), id, "leaning")))(t); s.Start != "disabled" {
		t.Errorf("after its change it starts %s", s.Start)
	}
	_, err = do(link.ServiceDeed{Deed: link.ServiceStart, Name: "--help"})
	refused(t, err, http.StatusBadRequest, "no name of a service")
	_, err = do(link.ServiceDeed{Deed: link.ServiceStart, Name: "no-such"})
	refused(t, err, http.StatusNotFound, "no service")

	mark := uuid.NewString()
	said := false
	var got []link.Event
	r, err := w.owner.ReadEvents(t.Context(), id, link.EventQuery{Source: "journal", Text: mark, Follow: true})
	err = client.Lines(t.Context(), r, err, "while it was followed", func(b link.EventBatch) (bool, error) {
		if b.Live && !said {
			said = true
			run := link.Command{Argv: []string{"systemd-cat", "-p", "warning", "-t", "moor-test", "echo", mark}}
			go w.owner.Run(t.Context(), id, run, &bytes.Buffer{}, &bytes.Buffer{})
		}
		got = append(got, b.Events...)
		return len(got) > 0, nil
	})
	if err != nil || got[0].Level != "warning" || got[0].Message != mark {
		t.Errorf("followed: %+v, %v", got, err)
	}

	before := must(w.owner.Device(t.Context(), id))(t)
	o := must(client.Result(w.owner.ChangePowerWithResponse(t.Context(), id, link.PowerDeed{Deed: link.PowerRestart})))(t)
	if o.Message != "It restarts now." {
		t.Errorf("%+v", o)
	}
	w.await(t, 60*time.Second, "it has restarted and is back", func() bool {
		now := must(w.owner.Device(t.Context(), id))(t)
		return now.Device.Online && now.Device.Since.After(before.Device.Since)
	})
}
