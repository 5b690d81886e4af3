// Package cluster runs a private PostgreSQL server on loopback, from Debian's binaries, for the
// demo and the tests. It makes a cluster of its own in a folder of its own, on a free port, and
// knows of no other. Production uses a server that its operator looks after.
package cluster

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Cluster is a running server.
type Cluster struct {
	URL     string // connection URL of the service's role, with the password
	Owner   string // connection URL of the role that the schema belongs to
	Dir     string // where its files are
	command *exec.Cmd
	exited  chan struct{}
}

// Options of Start.
type Options struct {
	Dir string // made when it is missing
	// Throwaway gives up safety from a crash of the machine, not of the service, for speed.
	Throwaway bool
	Database  string // made when it is missing; "moorwatch" when empty
}

const (
	role        = "moorwatch"
	serviceRole = "moorwatch_service"
	startWithin = 30 * time.Second
	stopWithin  = 20 * time.Second
)

// Start makes the cluster where there is none, starts its server where it does not run, and waits
// up to 30 s for it to answer. Run as root, the server runs as the account "postgres" that
// Debian's package makes, in Dir when that account can reach it, else in a folder for Dir below
// /var/lib/moorwatch.
func Start(ctx context.Context, o Options) (*Cluster, error) {
	if o.Database == "" {
		o.Database = role
	}
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	as, err := account()
	if err != nil {
		return nil, err
	}
	if as != nil {
		if dir, err = reachable(ctx, dir, as); err != nil {
			return nil, err
		}
	} else if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	c := &Cluster{Dir: dir, exited: make(chan struct{})}
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		if err := initialise(ctx, bin, data, secret, as); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(secret)
	if err != nil {
		return nil, fmt.Errorf("reading the private database's password: %w", err)
	}
	for began := time.Now(); ; {
		err = c.open(ctx, bin, data, strings.TrimSpace(string(password)), as, o)
		// After a crash, what is left of the server before may still hold its memory or its port.
		if !errors.Is(err, errEnded) || time.Since(began) > startWithin/2 {
			break
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(retryAfter):
		}
	}
	if err != nil {
		c.Stop()
		log, _ := os.ReadFile(filepath.Join(dir, "log"))
		return nil, fmt.Errorf("the private database in %s does not start: %w\n%s", dir, err, log[max(0, len(log)-2000):])
	}
	return c, nil
}

// errEnded means that the server ended before it could be spoken to.
var errEnded = errors.New("it ended by itself")

const retryAfter = 500 * time.Millisecond

// open starts the server, unless one runs on this folder already, and waits until it answers.
func (c *Cluster) open(ctx context.Context, bin, data, password string, as *syscall.Credential, o Options) (err error) {
	port, running := runningPort(data)
	if !running {
		if port, err = freePort(); err != nil {
			return err
		}
		if err := c.spawn(bin, data, port, as, o.Throwaway); err != nil {
			return err
		}
	}
	base := fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/", role, password, port)
	c.Owner = base + o.Database + "?sslmode=disable"
	c.URL = fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", serviceRole, password, port, o.Database)
	return c.await(ctx, base+"postgres?sslmode=disable", o.Database, password)
}

// Stop ends a server that Start started, and waits for it; one that was running before stays.
func (c *Cluster) Stop() {
	if c.command == nil {
		return
	}
	c.command.Process.Signal(syscall.SIGINT) // "fast": open transactions are rolled back
	select {
	case <-c.exited:
	case <-time.After(stopWithin):
		c.command.Process.Signal(syscall.SIGQUIT)
		<-c.exited
	}
}

// Kill ends the server at once, as a crash would.
func (c *Cluster) Kill() {
	if c.command != nil {
		syscall.Kill(-c.command.Process.Pid, syscall.SIGKILL)
		<-c.exited
	}
}

func (c *Cluster) spawn(bin, data string, port int, as *syscall.Credential, throwaway bool) error {
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=60", "-c", "shared_buffers=128MB", "-c", "log_min_messages=warning"}
	if throwaway {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	log, err := os.OpenFile(filepath.Join(c.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := run(context.WithoutCancel(context.Background()), as, filepath.Join(bin, "postgres"), args...)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr.Setpgid = true // Ctrl+C stops the service first, and the service stops this
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the private database: %w", err)
	}
	exited := make(chan struct{})
	c.command, c.exited = cmd, exited
	go func() {
		cmd.Wait()
		close(exited)
	}()
	return nil
}

func (c *Cluster) await(ctx context.Context, admin, database, password string) error {
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(ctx)
			if err := addRole(ctx, conn, password); err != nil {
				return err
			}
			var there bool
			err = conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", database).Scan(&there)
			if err == nil && !there {
				_, err = conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{database}.Sanitize())
			}
			return err
		}
		select {
		case <-c.exited:
			return errEnded
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// addRole makes the service's role where it is missing; another may be doing so at the same time.
func addRole(ctx context.Context, conn *pgx.Conn, password string) error {
	var there bool
	err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)", serviceRole).Scan(&there)
	if err == nil && !there {
		_, err = conn.Exec(ctx, "CREATE ROLE "+serviceRole+" LOGIN PASSWORD '"+password+"'") // of letters and digits
		var answer *pgconn.PgError
		if errors.As(err, &answer) && (answer.Code == "42710" || answer.Code == "23505") {
			err = nil
		}
	}
	return err
}

func initialise(ctx context.Context, bin, data, secret string, as *syscall.Credential) error {
	if err := os.WriteFile(secret, []byte(rand.Text()), 0o600); err != nil {
		return err
	}
	if as != nil {
		if err := os.Chown(secret, int(as.Uid), int(as.Gid)); err != nil {
			return err
		}
	}
	cmd := run(ctx, as, filepath.Join(bin, "initdb"), "-D", data, "-U", role, "-A", "scram-sha-256", "--pwfile", secret,
		"-E", "UTF8", "--locale", "C.UTF-8", "--no-sync")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making the private database: %w\n%s", err, out)
	}
	return nil
}

// run prepares a program of PostgreSQL, whose working folder must be one it can enter.
func run(ctx context.Context, as *syscall.Credential, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	return cmd
}

// binaries finds the newest server that Debian's packages installed.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL's server is not installed: apt-get install postgresql")
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
		return n
	}
	return filepath.Dir(slices.MaxFunc(found, func(a, b string) int { return version(a) - version(b) })), nil
}

// account is whom to run the server as: nil for ourselves, as PostgreSQL refuses root alone.
func account() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and its own account is missing: %w", err)
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, errors.Join(err1, err2)
}

// reachable returns dir, owned by the account, or its stand-in where the account cannot enter.
func reachable(ctx context.Context, dir string, as *syscall.Credential) (string, error) {
	try := func(dir string, parents os.FileMode) error {
		if err := os.MkdirAll(filepath.Dir(dir), parents); err != nil {
			return err
		}
		if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
		if err := os.Chown(dir, int(as.Uid), int(as.Gid)); err != nil {
			return err
		}
		return run(ctx, as, "/usr/bin/test", "-w", dir).Run()
	}
	if try(dir, 0o755) == nil {
		return dir, nil
	}
	sum := sha256.Sum256([]byte(dir))
	elsewhere := filepath.Join("/var/lib/moorwatch", hex.EncodeToString(sum[:8]))
	if err := try(elsewhere, 0o755); err != nil {
		return "", fmt.Errorf("no folder for the private database: neither %s nor %s can be reached by the account postgres: %w", dir,
			elsewhere, err)
	}
	return elsewhere, nil
}

// Remove deletes the cluster that Start would use for dir. Its server must not be running.
func Remove(ctx context.Context, dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if as, err := account(); err != nil {
		return err
	} else if as != nil {
		if there, err := reachable(ctx, dir, as); err == nil && there != dir {
			if err := os.RemoveAll(there); err != nil {
				return err
			}
		}
	}
	return os.RemoveAll(dir)
}

// runningPort reads the port from postmaster.pid (PostgreSQL's storage chapter: line 1 is the
// process, line 4 the port) when that process lives and is PostgreSQL's.
func runningPort(data string) (int, bool) {
	f, err := os.Open(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return 0, false
	}
	defer f.Close()
	var lines []string
	for s := bufio.NewScanner(f); s.Scan(); {
		lines = append(lines, s.Text())
	}
	if len(lines) < 4 {
		return 0, false
	}
	port, err := strconv.Atoi(strings.TrimSpace(lines[3]))
	name, gone := os.ReadFile("/proc/" + strings.TrimSpace(lines[0]) + "/comm")
	return port, err == nil && gone == nil && strings.HasPrefix(string(name), "postgres")
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
