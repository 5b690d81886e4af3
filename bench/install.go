package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/release"
	"moorwatch.example/lab"
	"moorwatch.example/test/wine"
)

// bootsWithin is how long a lab machine has to boot.
const bootsWithin = time.Minute

// installs measures how soon a device is seen with its vitals from the command that installs the agent on: on a
// lab machine, and under Wine. What the host lacks is told, and left out.
func (b *bench) installs() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	if why := lab.Missing(); why != "" {
		fmt.Fprintln(os.Stderr, "bench: not measured on Linux:", why)
	} else if err := b.installsLinux(w); err != nil {
		return fmt.Errorf("on Linux: %w", err)
	}
	if why := wine.Missing(); why != "" {
		fmt.Fprintln(os.Stderr, "bench: not measured under Wine:", why)
		return nil
	}
	if err := b.installsWine(w); err != nil {
		return fmt.Errorf("under Wine: %w", err)
	}
	return nil
}

// enrolment is an enrolment file for one device.
func (b *bench) enrolment(w *world) ([]byte, error) {
	token, err := w.enrolmentToken(b.ctx, 1)
	if err != nil {
		return nil, err
	}
	return json.Marshal(release.Enrolment{Service: w.url, Token: token})
}

// seen waits for the first vitals of a device that was not there before, and measures since when.
func (b *bench) seen(w *world, name string, before map[uuid.UUID]bool, began time.Time) error {
	for time.Since(began) < bootsWithin {
		for d, err := range w.client.Devices(b.ctx, "") {
			if err != nil {
				return err
			}
			if !before[d.ID] && d.Memory != nil {
				b.figure(name, time.Since(began).Seconds(), "s", 5, true)
				return nil
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fmt.Errorf("no device was seen within %s", bootsWithin)
}

func (b *bench) devicesNow(w *world) (map[uuid.UUID]bool, error) {
	all := map[uuid.UUID]bool{}
	for d, err := range w.client.Devices(b.ctx, "") {
		if err != nil {
			return nil, err
		}
		all[d.ID] = true
	}
	return all, nil
}

func (b *bench) installsLinux(w *world) error {
	l, err := lab.New(b.ctx, lab.Options{Service: "http://" + w.listen, Bare: true})
	if err != nil {
		return err
	}
	defer l.Close()
	m, err := l.Start(b.ctx, "bench-lab")
	if err != nil {
		return err
	}
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if out, err := m.Do(b.ctx, "systemctl is-active lab-service.socket"); err == nil && out == "active\n" {
			break
		}
		if time.Since(began) > bootsWithin {
			return fmt.Errorf("the machine does not boot: %s", m.Said())
		}
	}
	file, err := b.enrolment(w)
	if err != nil {
		return err
	}
	program, err := os.ReadFile(filepath.Join(w.bin, "moor-agent"))
	if err != nil {
		return err
	}
	for name, content := range map[string][]byte{"moor-agent": program, "moor-agent.enrolment": file} {
		if err := os.WriteFile(filepath.Join(m.Root, "root", name), content, 0o755); err != nil {
			return err
		}
	}
	before, err := b.devicesNow(w)
	if err != nil {
		return err
	}
	began := time.Now()
	if out, err := m.Do(b.ctx, "/root/moor-agent install --from /root/moor-agent.enrolment"); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return b.seen(w, "agent, install command to first vitals, Linux", before, began)
}

func (b *bench) installsWine(w *world) error {
	m := &wine.Machine{Prefix: filepath.Join(w.dir, "wine")}
	if err := wine.Make(b.ctx, m.Prefix); err != nil {
		return err
	}
	defer m.End()
	program := m.C("moor-agent.exe")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", program, "./cmd/moor-agent")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	file, err := b.enrolment(w)
	if err != nil {
		return err
	}
	if err := os.WriteFile(m.C("enrolment"), file, 0o600); err != nil {
		return err
	}
	if _, err := m.Do("cmd", "/c", "ver"); err != nil { // Windows is up, as it is where somebody types the command
		return err
	}
	before, err := b.devicesNow(w)
	if err != nil {
		return err
	}
	began := time.Now()
	if out, err := m.Do(program, "install", "--from", `C:\enrolment`); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return b.seen(w, "agent, install command to first vitals, Wine", before, began)
}
