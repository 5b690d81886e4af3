package lab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"
)

// Machine is one of a lab. Its methods are called one at a time.
type Machine struct {
	Name string
	Root string // of its disk, as the host sees it

	lab     *Lab
	dir     string
	number  int
	groups  []string // its control groups
	mu      sync.Mutex
	leader  *os.Process // systemd-nspawn, while it is booted
	stopped bool
	said    bytes.Buffer
	done    chan struct{}
}

// Start adds a machine, enrols it and boots it. A machine that restarts is booted again.
func (l *Lab) Start(ctx context.Context, name string) (*Machine, error) {
	m := &Machine{Name: name, lab: l, dir: filepath.Join(l.base, "machines", name), number: len(l.machines) + 2}
	m.Root = filepath.Join(m.dir, "root")
	l.machines = append(l.machines, m)
	err := m.make(ctx)
	if err == nil {
		m.groups, err = ownGroups("lab-" + m.container())
	}
	if err != nil {
		return nil, fmt.Errorf("machine %s: %w", name, err)
	}
	m.boot()
	return m, nil
}

// make gives the machine a disk as new.
func (m *Machine) make(ctx context.Context) error {
	for _, dir := range []string{"upper", "work", "root"} {
		if err := os.MkdirAll(filepath.Join(m.dir, dir), 0o755); err != nil {
			return err
		}
	}
	if err := syscall.Mount("overlay", m.Root, "overlay", 0, "lowerdir="+m.lab.base+"/shared/upper:/,upperdir="+m.dir+"/upper,workdir="+
		m.dir+"/work"); err != nil {
		return fmt.Errorf("mounting its disk: %w", err)
	}
	if m.lab.options.Init != "" {
		if err := m.without(ctx); err != nil {
			return err
		}
	}
	address := fmt.Sprintf("%s%d", m.lab.subnet, m.number)
	for name, text := range map[string]string{"etc/machine-id": strings.ReplaceAll(uuid.NewString(), "-", "") + "\n",
		"etc/hostname": m.Name + "\n", "etc/hosts": "127.0.0.1 localhost " + m.Name + "\n",
		"etc/lab-network": "ip link set lo up\nip addr add " + address + "/24 dev host0\nip link set host0 up\nip route add default via " +
			m.lab.subnet + "1\n"} {
		os.Remove(filepath.Join(m.Root, name))
		if err := os.WriteFile(filepath.Join(m.Root, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if m.lab.options.Bare {
		return nil
	}
	return m.lab.options.Enrol(ctx, m.Name, filepath.Join(m.Root, "var/lib/moor-agent"))
}

// boot boots the machine, again and again until it is stopped.
func (m *Machine) boot() {
	m.mu.Lock()
	m.stopped, m.done = false, make(chan struct{})
	done := m.done
	m.mu.Unlock()
	go func() {
		defer close(done)
		for {
			m.unlink() // what a machine left that ended at once
			args := []string{"--quiet", "--directory=" + m.Root, "--register=no", "--keep-unit", "--machine=" + m.container(),
				"--hostname=" + m.Name, "--network-bridge=" + m.lab.bridge,
				"--link-journal=no", "--resolv-conf=off", "--timezone=off", "--console=pipe"}
			if m.lab.options.Init == "" {
				args = append(args, "--boot")
			} else {
				args = append(args, "/sbin/init")
			}
			argv := inGroups(m.groups, append([]string{"systemd-nspawn"}, args...)...)
			cmd := exec.Command(argv[0], argv[1:]...)
			cmd.Stdout, cmd.Stderr = &m.said, &m.said
			m.mu.Lock()
			if m.stopped || m.lab.closing.Err() != nil || cmd.Start() != nil {
				m.mu.Unlock()
				return
			}
			m.leader = cmd.Process
			m.mu.Unlock()
			cmd.Wait()
			select { // one that cannot boot does not try all the time
			case <-m.lab.closing.Done():
			case <-time.After(200 * time.Millisecond):
			}
		}
	}()
}

// unlink removes the machine's network interface from the host, where it is there.
func (m *Machine) unlink() { run(context.Background(), "ip", "link", "del", m.link()) }

// Said is what the machine wrote to its console, while it is off.
func (m *Machine) Said() string { return m.said.String() }

// link is the machine's network, as the host names it.
func (m *Machine) link() string { return "vb-" + m.container() }

// container is what the host calls the machine: a name of its own among those of other labs, and short enough
// for the name of an interface.
func (m *Machine) container() string { return fmt.Sprintf("%s-%d", m.lab.bridge, m.number) }

// first is the first process of the machine, as the host numbers it; 0 while there is none. mu is held.
func (m *Machine) first() int {
	if m.leader == nil {
		return 0
	}
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", m.leader.Pid, m.leader.Pid))
	if err != nil || len(strings.Fields(string(children))) == 0 {
		return 0
	}
	pid, _ := strconv.Atoi(strings.Fields(string(children))[0])
	return pid
}

// Do runs a script in the machine as root, and returns what it printed.
func (m *Machine) Do(ctx context.Context, script string) (string, error) {
	m.mu.Lock()
	first := m.first()
	m.mu.Unlock()
	if first == 0 {
		return "", errors.New("the machine is off, or not there yet")
	}
	cmd := exec.CommandContext(ctx, "nsenter", "--target", strconv.Itoa(first), "--mount", "--uts", "--ipc", "--net", "--pid",
		"--root", "--wd", "/bin/sh", "-c", script)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root"}
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// Cut takes the machine off its network, and Join puts it back.
func (m *Machine) Cut(ctx context.Context) error {
	return run(ctx, "ip", "link", "set", m.link(), "down")
}
func (m *Machine) Join(ctx context.Context) error {
	return run(ctx, "ip", "link", "set", m.link(), "up")
}

// Kill ends the machine as a power cut does, and it boots again.
func (m *Machine) Kill() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.leader == nil {
		return errors.New("the machine is off")
	}
	return m.cutPower()
}

// cutPower kills the machine's first process, and with it all others of it (pid_namespaces(7)). They would outlive
// systemd-nspawn. mu is held.
func (m *Machine) cutPower() error {
	if first := m.first(); first != 0 {
		return syscall.Kill(first, syscall.SIGKILL)
	}
	return m.leader.Kill()
}

// Stop shuts the machine down, and returns when it is off.
func (m *Machine) Stop() {
	m.mu.Lock()
	m.stopped = true
	leader, done := m.leader, m.done
	m.mu.Unlock()
	if done == nil {
		return
	}
	if leader != nil {
		leader.Signal(syscall.SIGTERM)
	}
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		m.mu.Lock()
		m.cutPower()
		m.mu.Unlock()
		<-done
	}
}

// Reset gives the machine a disk as new, with another identity, and boots it.
func (m *Machine) Reset(ctx context.Context) error {
	m.Stop()
	syscall.Unmount(m.Root, syscall.MNT_DETACH)
	os.RemoveAll(m.dir)
	if err := m.make(ctx); err != nil {
		return err
	}
	m.boot()
	return nil
}
