// Package setup puts the agent in place on a device and takes it away again: its program, its folder,
// and the service that starts it with the system. What enrols it is package identity.
package setup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/identity"
	"moorwatch.example/core/device"
	"moorwatch.example/core/release"
)

// ServiceName is what the service manager calls the agent.
const ServiceName = "moor-agent"

// Place is where the agent stands on a device.
type Place struct {
	Program string // its program
	Dir     string // its folder
}

// Choices are made at installation and hold as long as the agent is there.
type Choices struct {
	// Proxy is the HTTP proxy that the service is reached through; "" for what the environment says.
	Proxy string `json:"proxy,omitempty"`
	// Without are capabilities that the agent never offers here, such as screen.
	Without []string `json:"without,omitempty"`
}

const choicesFile = "choices.json"

// Validate refuses capabilities that cannot be left out.
func (c Choices) Validate() error {
	for _, w := range c.Without {
		if !slices.Contains(device.Withholdable, w) {
			return fmt.Errorf("the agent can be installed without %v, and not without %q", device.Withholdable, w)
		}
	}
	return nil
}

// Chosen reads the choices; none where there are none.
func Chosen(dir string) (c Choices, err error) {
	text, err := os.ReadFile(filepath.Join(dir, choicesFile))
	if errors.Is(err, os.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &c)
	}
	return c, err
}

func (c Choices) save(dir string) error {
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(dir, choicesFile), text, atomicfile.OnDisk)
}

// manager starts the agent with the system.
type manager interface {
	// name is what people call it.
	name() string
	// add makes the service that runs a program from the next start on, and starts it now. It is started
	// again whenever it ends.
	add(ctx context.Context, p Place) error
	// remove stops the service and takes it away; that there is none is no error.
	remove(ctx context.Context) error
	// state is running, stopped or absent.
	state(ctx context.Context) string
}

// errNoManager is returned where nothing is known that starts services.
var errNoManager = errors.New("nothing is known here that starts services with the system: have `moor-agent run` started by what there is")

// Install puts the program that runs now in place, and has it started with the system. The folder
// holds an identity already. What is there of an earlier installation is replaced.
func Install(ctx context.Context, p Place, c Choices, version string, out io.Writer) error {
	m, err := services()
	if err != nil {
		return err
	}
	if err := errors.Join(c.Validate(), c.save(p.Dir)); err != nil {
		return err
	}
	if err := m.remove(ctx); err != nil {
		return fmt.Errorf("the service that is there cannot be stopped: %w", err)
	}
	own, err := os.Executable()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(p.Program), 0o755); err != nil {
		return err
	}
	if !sameFile(own, p.Program) {
		if err := copyProgram(own, p.Program); err != nil {
			return fmt.Errorf("putting the program in place: %w", err)
		}
	}
	if err := m.add(ctx, p); err != nil {
		return fmt.Errorf("adding the service to %s: %w", m.name(), err)
	}
	if err := announce(p, version); err != nil {
		return err
	}
	fmt.Fprintf(out, "Installed as %s; %s keeps it running.\n", p.Program, m.name())
	return nil
}

func sameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

// copyProgram copies a program whole or not at all. One that runs is moved out of the way.
func copyProgram(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	fresh := to + ".new"
	os.Remove(fresh)
	out, err := os.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o755)
	if err != nil {
		return err
	}
	info, err := in.Stat()
	if err == nil {
		_, program, _ := release.Carried(in, info.Size()) // what it carries is for one device, and stays behind
		_, err = io.Copy(out, io.LimitReader(in, program))
	}
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		os.Remove(fresh)
		return err
	}
	return Replace(fresh, to)
}

// Replace gives a program the place of another, which may run: it is kept beside it until the next.
func Replace(fresh, place string) error {
	old := place + previous
	os.Remove(old)
	if err := atomicfile.Rename(place, old); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := atomicfile.Rename(fresh, place); err != nil {
		return errors.Join(err, atomicfile.Rename(old, place))
	}
	return nil
}

// previous ends the name of the program that was replaced last.
const previous = ".previous"

// Previous is where the program stands that was replaced last.
func Previous(place string) string { return place + previous }

// Uninstall stops the agent and leaves nothing of it: its service, its program and its folder.
func Uninstall(ctx context.Context, p Place, out io.Writer) error {
	m, err := services()
	if err != nil && !errors.Is(err, errNoManager) {
		return err
	}
	if m != nil {
		if err := m.remove(ctx); err != nil {
			return fmt.Errorf("the service cannot be taken away: %w", err)
		}
	}
	if err := retract(p); err != nil {
		return err
	}
	beside, _ := filepath.Glob(strings.TrimSuffix(p.Program, ".exe") + ".*") // what renewals left
	for _, path := range slices.Concat([]string{p.Dir}, beside, []string{p.Program}) {
		if err := remove(path); err != nil {
			return fmt.Errorf("%s stays behind: %w", path, err)
		}
	}
	os.Remove(filepath.Dir(p.Program)) // unless somebody else keeps something there
	fmt.Fprintln(out, "The agent is gone from this device. In the console it can be retired.")
	return nil
}

// Life is what an agent that runs tells of itself in its folder.
type Life struct {
	Version   string    `json:"version"`
	PID       int       `json:"pid"`
	Started   time.Time `json:"started"`
	Connected time.Time `json:"connected,omitzero"` // the last time
}

const lifeFile = "life.json"

// Tell writes how an agent fares.
func (l Life) Tell(dir string) error {
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(dir, lifeFile), text, atomicfile.Soon)
}

// Living reads how the agent fared last.
func Living(dir string) (l Life, err error) {
	text, err := os.ReadFile(filepath.Join(dir, lifeFile))
	if err == nil {
		err = json.Unmarshal(text, &l)
	}
	return l, err
}

// AwaitConnected waits until the agent that was started since then is connected.
func AwaitConnected(ctx context.Context, dir string, since time.Time) error {
	for {
		if l, err := Living(dir); err == nil && l.Connected.After(since) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Status tells how the agent stands on this device.
func Status(ctx context.Context, p Place) (lines []string) {
	i, err := identity.Load(p.Dir)
	if err != nil {
		return []string{err.Error()}
	}
	lines = append(lines, fmt.Sprintf("device     %s (%s)", i.Name, i.Device), "service    "+i.Service)
	if m, err := services(); err == nil {
		lines = append(lines, "runs       "+m.state(ctx)+", kept by "+m.name())
	}
	if l, err := Living(p.Dir); err == nil {
		lines = append(lines, "version    "+l.Version)
		if !l.Connected.IsZero() {
			lines = append(lines, "connected  last at "+l.Connected.Local().Format("2006-01-02 15:04:05"))
		}
	}
	c, err := Chosen(p.Dir)
	if err == nil && len(c.Without) > 0 {
		lines = append(lines, fmt.Sprintf("without    %v", c.Without))
	}
	return lines
}

// Carries is the enrolment file that the program which runs now carries behind its end, nil where it is none.
func Carries() ([]byte, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, err
	}
	f, err := os.Open(own)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	enrolment, _, err := release.Carried(f, info.Size())
	return enrolment, err
}
