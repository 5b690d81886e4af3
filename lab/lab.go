// Package lab is real Linux machines on one host: containers that boot a systemd of their own on overlays of
// the host's root, with names, machine-ids, networks, journals and an apt of their own, and a repository of
// made-up packages. It needs root, Debian, and systemd-nspawn(1). The end-to-end tests use it, and make lab.
package lab

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Options of a lab.
type Options struct {
	// Agent is the path of the program moor-agent.
	Agent string
	// Service is the address of a service on this host, such as http://127.0.0.1:8460. Machines reach it at
	// the same address, through their own network.
	Service string
	// Enrol puts the identity of a device into a folder, as moor-agent enrol does.
	Enrol func(ctx context.Context, name, dir string) error
	// Bare machines have no agent: it is installed on them.
	Bare bool
	// Init is BusyBox or OpenRC for machines without systemd, which are Bare.
	Init string
}

// Lab is machines and what they share.
type Lab struct {
	options  Options
	base     string // folder of all that it makes
	repo     string
	key      key
	watching bool // the host allows more instances of inotify for it
	site     *http.Server
	listens  []net.Listener
	machines []*Machine
	bridge   string
	subnet   string // of its machines, the first three numbers
	closing  context.Context
	close    context.CancelFunc
}

// Missing tells what this host lacks for a lab, in words; "" where nothing.
func Missing() string {
	if os.Getuid() != 0 {
		return "a lab needs root"
	}
	for _, program := range []string{"systemd-nspawn", "dpkg-deb", "dpkg-scanpackages", "gpg", "ip"} {
		if _, err := exec.LookPath(program); err != nil {
			return "a lab needs the program " + program
		}
	}
	return ""
}

// New prepares a lab: its repository, with the versions that machines begin with, its network, and the layer
// that all machines share.
func New(ctx context.Context, o Options) (l *Lab, err error) {
	if why := Missing(); why != "" {
		return nil, errors.New(why)
	}
	l = &Lab{options: o}
	l.closing, l.close = context.WithCancel(context.Background())
	defer func() {
		if err != nil {
			l.Close()
		}
	}()
	if err := l.watchers(); err != nil {
		return nil, err
	}
	if l.base, err = os.MkdirTemp("", "moorwatch-lab-"); err != nil {
		return nil, err
	}
	// Layers of one overlay must not lie in each other, as a folder of this host would in its root.
	if err := syscall.Mount("tmpfs", l.base, "tmpfs", 0, "size=4g,mode=0755"); err != nil {
		return nil, fmt.Errorf("mounting memory for the disks: %w", err)
	}
	l.repo = filepath.Join(l.base, "repo")
	for _, dir := range []string{filepath.Join(l.repo, mainSuite), filepath.Join(l.repo, securitySuite),
		filepath.Join(l.base, "shared/upper"), filepath.Join(l.base, "shared/work"), filepath.Join(l.base, "shared/root")} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
	}
	if l.key, err = newKey(ctx, filepath.Join(l.base, "key")); err != nil {
		return nil, fmt.Errorf("making a key for the repository: %w", err)
	}
	debs, err := l.put(ctx, before)
	if err != nil {
		return nil, err
	}
	if err := l.network(ctx); err != nil {
		return nil, err
	}
	return l, l.share(ctx, debs)
}

// Each machine's systemd takes about ten instances of inotify(7), of which a user has 128 by default, and root
// one account on this host and in all machines. Without them a machine boots and starts nothing.
const (
	instancesFile = "/proc/sys/fs/inotify/max_user_instances"
	instances     = 1024
)

// raised is how many labs of this process need the instances, and how many the host allowed before.
var raised struct {
	sync.Mutex
	labs   int
	before []byte // nil where that was enough
}

// watchers raises the number of inotify instances while there are labs.
func (l *Lab) watchers() error {
	raised.Lock()
	defer raised.Unlock()
	text, err := os.ReadFile(instancesFile)
	if err != nil {
		return err
	}
	raised.labs++
	l.watching = true
	if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err != nil || n >= instances {
		return err
	}
	raised.before = text
	return os.WriteFile(instancesFile, []byte(strconv.Itoa(instances)), 0o644)
}

// unwatch puts the number back when the last lab goes.
func (l *Lab) unwatch() {
	raised.Lock()
	defer raised.Unlock()
	if !l.watching {
		return
	}
	l.watching = false
	if raised.labs--; raised.labs == 0 && raised.before != nil {
		os.WriteFile(instancesFile, raised.before, 0o644)
		raised.before = nil
	}
}

// put adds packages to the repository.
func (l *Lab) put(ctx context.Context, all []piece) (debs []string, err error) {
	for _, p := range all {
		suite := mainSuite
		if p.security {
			suite = securitySuite
		}
		deb, err := p.build(ctx, filepath.Join(l.base, "build"), filepath.Join(l.repo, suite))
		if err != nil {
			return nil, err
		}
		debs = append(debs, deb)
	}
	err = errors.Join(index(ctx, l.repo, mainSuite, "Larkmoor"), index(ctx, l.repo, securitySuite, "Larkmoor Security"))
	return debs, errors.Join(err, l.sign(ctx))
}

func (l *Lab) sign(ctx context.Context) error {
	return errors.Join(l.key.sign(ctx, l.repo, mainSuite), l.key.sign(ctx, l.repo, securitySuite))
}

// Resign has the repository signed by another key, which the machines do not know.
func (l *Lab) Resign(ctx context.Context) error {
	other, err := newKey(ctx, filepath.Join(l.base, "other"))
	if err != nil {
		return err
	}
	mine := l.key
	l.key = other
	err = l.sign(ctx)
	l.key = mine
	other.end()
	return err
}

// Advisory is the one about tarnlib, as an OSV document: 1.1 mends it.
const Advisory = `{"id": "LAB-2026-0001", "aliases": ["CVE-2026-70901"], "published": "2026-11-20T00:00:00Z",
	"modified": "2026-11-20T00:00:00Z", "summary": "tarnlib reads what it should not",
 "severity": [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:N"}],
 "affected": [{"package": {"ecosystem": "Debian", "name": "tarnlib"}, "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "1.1"}]}]}]}`

// Publish adds the newer versions to the repository: tarnlib 1.1, a security fix that its users are restarted
// for; kiosk-screen 3.3, whose service does not start; fell-kernel 6.2, which asks for a restart; bracken 2,
// whose installation fails; peat 2, which takes four seconds; sedge 2, which needs what there is not.
func (l *Lab) Publish(ctx context.Context) error {
	_, err := l.put(ctx, after)
	return err
}

// Vanish takes the repository off the network.
func (l *Lab) Vanish() { l.site.Close() }

// network makes the bridge of the machines, and serves the repository and the service's address on it.
func (l *Lab) network(ctx context.Context) error {
	for n := range 200 { // labs beside each other have bridges of their own
		l.bridge, l.subnet = fmt.Sprintf("moorlab%d", n), fmt.Sprintf("198.18.%d.", n)
		if run(ctx, "ip", "link", "add", l.bridge, "type", "bridge") == nil {
			break
		}
		l.bridge = ""
	}
	if l.bridge == "" {
		return errors.New("no bridge can be added: does the kernel have bridges?")
	}
	host := l.subnet + "1"
	if err := errors.Join(run(ctx, "ip", "addr", "add", host+"/24", "dev", l.bridge),
		run(ctx, "ip", "link", "set", l.bridge, "up")); err != nil {
		return err
	}
	packages, err := net.Listen("tcp", host+":80")
	if err != nil {
		return err
	}
	l.site = &http.Server{Handler: http.FileServer(http.Dir(l.repo)), ReadHeaderTimeout: 10 * time.Second}
	go l.site.Serve(packages)
	address := strings.TrimPrefix(l.options.Service, "http://")
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("the service's address: %w", err)
	}
	service, err := net.Listen("tcp", host+":"+port)
	if err != nil {
		return err
	}
	l.listens = append(l.listens, service)
	go func() {
		for {
			c, err := service.Accept()
			if err != nil {
				return
			}
			go relay(c, address)
		}
	}()
	return nil
}

// relay passes bytes between a connection and an address.
func relay(c net.Conn, address string) {
	defer c.Close()
	d, err := net.DialTimeout("tcp", address, 5*time.Second)
	if err != nil {
		return
	}
	defer d.Close()
	go func() { io.Copy(d, c); d.Close() }()
	io.Copy(c, d)
}

// share makes the layer that all machines have above the host's root.
func (l *Lab) share(ctx context.Context, debs []string) error {
	root := filepath.Join(l.base, "shared/root")
	if err := syscall.Mount("overlay", root, "overlay", 0, "lowerdir=/,upperdir="+l.base+"/shared/upper,workdir="+l.base+
		"/shared/work"); err != nil {
		return fmt.Errorf("mounting an overlay of this host's root: %w", err)
	}
	defer syscall.Unmount(root, syscall.MNT_DETACH)
	write := func(name, text string) error {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		return os.WriteFile(path, []byte(text), 0o644)
	}
	for _, name := range []string{"postgresql.service", "apt-daily.timer", "apt-daily-upgrade.timer", "systemd-networkd.service",
		"networking.service", "systemd-resolved.service"} {
		os.Remove(filepath.Join(root, "etc/systemd/system", name))
		os.Symlink("/dev/null", filepath.Join(root, "etc/systemd/system", name))
	}
	os.RemoveAll(filepath.Join(root, "etc/apt/sources.list.d"))
	os.RemoveAll(filepath.Join(root, "etc/apt/preferences.d"))
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(l.options.Service, "http://"))
	host := l.subnet + "1"
	wants := filepath.Join(root, "etc/systemd/system/multi-user.target.wants")
	known, err := l.key.public(ctx)
	var public []byte
	if err == nil {
		public, err = os.ReadFile(known)
	}
	err = errors.Join(err, os.MkdirAll(wants, 0o755),
		write("etc/lab-repository.gpg", string(public)),
		write("etc/apt/sources.list", fmt.Sprintf("deb [signed-by=/etc/lab-repository.gpg] http://%s/%s ./\ndeb "+
			"[signed-by=/etc/lab-repository.gpg] http://%s/%s ./\n", host, mainSuite, host, securitySuite)),
		write("etc/apt/apt.conf.d/90lab",
			"Acquire::http::Proxy \"false\";\nAcquire::http::Timeout \"10\";\nAPT::Sandbox::User \"root\";\n"),
		write("usr/lib/systemd/system/moor-agent.service",
			"[Unit]\nAfter=lab-network.service lab-service.socket\n[Service]\nExecStart=/usr/local/bin/moor-agent run --dir "+
				"/var/lib/moor-agent\nRestart=always\nRestartSec=1\n"),
		write("usr/lib/systemd/system/lab-network.service",
			"[Unit]\nBefore=moor-agent.service\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sh /etc/lab-network\n"),
		// The service's address is on the machine's own loopback, as it is on the host.
		write("usr/lib/systemd/system/lab-service.socket", fmt.Sprintf("[Socket]\nListenStream=127.0.0.1:%s\n", port)),
		write("usr/lib/systemd/system/lab-service.service",
			fmt.Sprintf("[Unit]\nRequires=lab-service.socket\n[Service]\nExecStart=/lib/systemd/systemd-socket-proxyd %s:%s\n", host,
				port)))
	if err != nil {
		return err
	}
	units := []string{"lab-network.service", "lab-service.socket"}
	if l.options.Bare {
		os.Remove(filepath.Join(root, "usr/lib/systemd/system/moor-agent.service"))
	} else {
		units = append(units, "moor-agent.service")
	}
	for _, name := range units {
		os.Symlink("/usr/lib/systemd/system/"+name, filepath.Join(wants, name))
	}
	if !l.options.Bare {
		program, err := os.ReadFile(l.options.Agent)
		if err == nil {
			err = os.WriteFile(filepath.Join(root, "usr/local/bin/moor-agent"), program, 0o755)
		}
		if err != nil {
			return err
		}
	}
	for _, deb := range debs {
		text, err := os.ReadFile(deb)
		if err == nil {
			err = os.WriteFile(filepath.Join(root, "var/cache", filepath.Base(deb)), text, 0o644)
		}
		if err != nil {
			return err
		}
	}
	return run(ctx, "systemd-nspawn", "--quiet", "--directory="+root, "--register=no", "--keep-unit", "--pipe", "/bin/sh", "-c",
		"dpkg -i /var/cache/*_all.deb && systemctl enable heathd.service kiosk-screen.service && rm /var/cache/*_all.deb")
}

// Close ends all machines, and removes what the lab made.
func (l *Lab) Close() {
	l.close()
	var ending sync.WaitGroup
	for _, m := range l.machines {
		ending.Go(func() {
			m.Stop()
			m.unlink()
			removeGroups(m.groups)
			syscall.Unmount(m.Root, syscall.MNT_DETACH)
		})
	}
	ending.Wait()
	if l.site != nil {
		l.site.Close()
	}
	for _, one := range l.listens {
		one.Close()
	}
	if l.bridge != "" {
		run(context.Background(), "ip", "link", "del", l.bridge)
	}
	if l.key.home != "" {
		l.key.end()
	}
	l.unwatch()
	if l.base != "" {
		syscall.Unmount(l.base, syscall.MNT_DETACH)
		os.RemoveAll(l.base)
	}
}
