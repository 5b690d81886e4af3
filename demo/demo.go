// Package demo runs Moorwatch with the sample world: a private database, the service, about 120
// simulated devices with a week of history, and this machine as a real device.
package demo

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/release"
	"moorwatch.example/core/series"
	"moorwatch.example/demo/fleet"
	"moorwatch.example/demo/mail"
	"moorwatch.example/service"
	"moorwatch.example/service/authority"
	"moorwatch.example/service/db/cluster"
	"moorwatch.example/service/post"
)

// Version is that of everything built together.
var Version = release.Version

// Port is the demo's port when none is chosen.
const Port = 8460

// Options of Run.
type Options struct {
	Dir     string
	Port    int
	Console fs.FS
}

// Access is how to get in. It is kept in demo.json, readable by its owner alone.
type Access struct {
	URL      string    `json:"url"`
	User     string    `json:"user"`
	Password string    `json:"password"`
	Token    string    `json:"token"`
	Local    string    `json:"local"` // the name of this machine's device
	Began    time.Time `json:"began"` // when the demo was first started
	Seeded   bool      `json:"seeded"`
}

const (
	accessFile   = "demo.json"
	user         = "robin@curlew-sedge.example"
	connectLimit = 60 * time.Second
)

// Reset deletes what the demo in dir keeps. It refuses while the demo runs.
func Reset(ctx context.Context, dir string) error {
	if _, err := os.Stat(filepath.Join(dir, accessFile)); err != nil {
		if left, _ := os.ReadDir(dir); len(left) > 0 {
			return fmt.Errorf("%s holds files but no %s, so it is no demo's folder: delete it yourself if it is", dir, accessFile)
		}
	}
	unlock, err := lock(dir)
	if err != nil {
		return err
	}
	defer unlock()
	return errors.Join(cluster.Remove(ctx, filepath.Join(dir, "postgres")), os.RemoveAll(dir))
}

// lock makes sure that one demo uses a folder.
func lock(dir string) (func(), error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("a demo is running in %s: stop it first, or choose another folder with DEMO_DIR", dir)
	}
	return func() { f.Close() }, nil
}

// Run runs the demo until ctx ends, and stops everything that it started.
func Run(ctx context.Context, o Options) error {
	began := time.Now()
	var err error
	if o.Dir, err = filepath.Abs(o.Dir); err != nil { // devices open their files from the top
		return err
	}
	unlock, err := lock(o.Dir)
	if err != nil {
		return err
	}
	defer unlock()
	address := fmt.Sprintf("127.0.0.1:%d", o.Port)
	if l, err := net.Listen("tcp", address); err != nil {
		return fmt.Errorf("port %d is in use: choose another with DEMO_PORT (%w)", o.Port, err)
	} else {
		l.Close()
	}
	progress("starting the database")
	database, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(o.Dir, "postgres")})
	if err != nil {
		return err
	}
	defer database.Stop()
	progress("starting the service")
	sink, err := mail.Start(filepath.Join(o.Dir, "mail"))
	if err != nil {
		return err
	}
	defer sink.Stop()
	seal, err := authority.Seal(o.Dir)
	if err != nil {
		return err
	}
	s, err := service.Start(ctx, service.Config{Seal: seal, Database: database.URL, Owner: database.Owner, Listen: address,
		Console: o.Console, Contents: filepath.Join(o.Dir, "contents"), Releases: filepath.Join(o.Dir, "releases"),
		Post: post.Post{SMTP: sink.URL, From: "moorwatch@curlew-sedge.example"}})
	if err != nil {
		return err
	}
	defer s.Stop()
	d := &demo{Options: o, service: s}
	if err := d.access(ctx); err != nil {
		return err
	}
	defer d.stop()
	if err := d.devices(ctx); err != nil {
		return err
	}
	fmt.Printf("\nMoorwatch is ready after %.1f s, with %d devices.\n\n  %s\n  sign in as  %s\n  password    %s\n\nThe same, and an API "+
		"token, are in %s. Mail that it sends is kept in %s.\nCtrl+C stops it all.\n",
		time.Since(began).Seconds(), s.Online(), d.URL, d.User, d.Password, filepath.Join(o.Dir, accessFile), filepath.Join(o.Dir, "mail"))
	select {
	case <-ctx.Done():
		progress("stopping")
		return nil
	case err := <-s.Failed():
		return err
	case err := <-d.failed:
		return err
	}
}

func progress(what string) { fmt.Fprintf(os.Stderr, "demo: %s\n", what) }

type demo struct {
	Options
	Access
	service  *service.Service
	client   *client.Client
	children sync.WaitGroup
	ending   []func()
	failed   chan error
}

// access reads how to get in, or sets up the first owner with an API token.
func (d *demo) access(ctx context.Context) error {
	d.failed = make(chan error, 2)
	text, err := os.ReadFile(filepath.Join(d.Dir, accessFile))
	switch {
	case err == nil:
		if err := json.Unmarshal(text, &d.Access); err != nil {
			return fmt.Errorf("%s is damaged: begin anew with make demo-reset (%w)", accessFile, err)
		}
	case errors.Is(err, os.ErrNotExist) && d.service.SetUpLink != "":
		d.User, d.Password, d.Began = user, "heather-"+strings.ToLower(rand.Text()[:12]), time.Now().UTC().Truncate(time.Second)
	default:
		return fmt.Errorf("the demo's database is there, but %s is not: begin anew with make demo-reset", accessFile)
	}
	d.URL = d.service.URL
	if d.Token == "" {
		c, err := client.New(client.Options{URL: d.URL})
		if err != nil {
			return err
		}
		_, secret, _ := strings.Cut(d.service.SetUpLink, "#")
		name, email := "Robin Sedge", d.User
		if _, err := c.SetUp(ctx, api.SetUp{Link: secret, Password: d.Password, Name: &name, Email: &email}); err != nil {
			return fmt.Errorf("setting up the owner: %w", err)
		}
		t, err := client.Made(c.AddTokenWithResponse(ctx, api.NewToken{Name: "demo", Days: 365}))
		if err != nil {
			return fmt.Errorf("making an API token: %w", err)
		}
		d.Token = t.Secret
	}
	if d.client, err = client.New(client.Options{URL: d.URL, Token: d.Token}); err != nil {
		return err
	}
	return d.save()
}

func (d *demo) save() error {
	text, err := json.MarshalIndent(d.Access, "", "  ")
	if err != nil {
		return err
	}
	path := filepath.Join(d.Dir, accessFile)
	if err := os.WriteFile(path+".new", append(text, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// devices starts the sample fleet and this machine's agent, and waits until all are connected.
func (d *demo) devices(ctx context.Context) error {
	sites := world(d.Began)
	progress("connecting the sample fleet")
	plan := fleet.Plan{URL: d.URL, Dir: filepath.Join(d.Dir, "fleet"), Hold: !d.Seeded}
	for _, s := range sites {
		token := ""
		if !d.Seeded {
			var err error
			if token, err = d.token(ctx, s, 2*len(s.devices)); err != nil {
				return err
			}
		}
		for _, device := range s.devices {
			device.Token = token
			plan.Devices = append(plan.Devices, device)
		}
	}
	events, begin, err := d.fleet(plan)
	if err != nil {
		return err
	}
	if !d.Seeded {
		enrolled := map[string]uuid.UUID{}
		if err := await(ctx, events, len(plan.Devices), func(e fleet.Event) (string, error) {
			if e.Enrolled == nil {
				return "", nil
			}
			enrolled[e.Enrolled.Name], err = uuid.Parse(e.Enrolled.ID)
			return e.Enrolled.Name, err
		}); err != nil {
			return err
		}
		if err := d.settle(ctx); err != nil {
			return fmt.Errorf("setting up groups, policies and notices: %w", err)
		}
		progress("writing a week of history")
		if err := d.history(ctx, plan.Devices, enrolled); err != nil {
			return fmt.Errorf("writing the history: %w", err)
		}
		if err := begin(); err != nil {
			return err
		}
	}
	if err := d.local(ctx, sites[0]); err != nil {
		return fmt.Errorf("adding this machine: %w", err)
	}
	if err := await(ctx, events, len(plan.Devices), func(e fleet.Event) (string, error) { return e.Connected, nil }); err != nil {
		return err
	}
	if time.Since(d.Began) < storyEnds {
		go func() {
			if err := d.rollout(ctx); err != nil && ctx.Err() == nil {
				progress("the story of the rollout ended: " + err.Error())
			}
		}()
	}
	d.Seeded = true
	return d.save()
}

func (d *demo) token(ctx context.Context, s site, uses int) (string, error) {
	if _, err := client.Made(d.client.AddSiteWithResponse(ctx, api.NewSite{Organisation: s.organisation, Site: s.name})); err != nil {
		return "", fmt.Errorf("adding %s: %w", s.name, err)
	}
	t, err := client.Made(d.client.AddEnrolmentTokenWithResponse(ctx,
		api.NewEnrolmentToken{Organisation: s.organisation, Site: s.name, Uses: &uses, Approval: new(bool)}))
	if err != nil {
		return "", fmt.Errorf("making an enrolment token: %w", err)
	}
	return t.Secret, nil
}

// await takes what a fleet tells until counts has named n devices.
func await(ctx context.Context, events <-chan fleet.Event, n int, counts func(fleet.Event) (string, error)) error {
	ctx, cancel := context.WithTimeout(ctx, connectLimit)
	defer cancel()
	for seen := map[string]bool{}; len(seen) < n; {
		select {
		case <-ctx.Done():
			return fmt.Errorf("%d of %d simulated devices are there within %s", len(seen), n, connectLimit)
		case e, ok := <-events:
			switch {
			case !ok:
				return errors.New("the sample fleet ended by itself")
			case e.Failed != "":
				return fmt.Errorf("a simulated device failed: %s", e.Failed)
			}
			name, err := counts(e)
			if err != nil {
				return err
			}
			if name != "" {
				seen[name] = true
			}
		}
	}
	return nil
}

// fleet starts the program moor-fleet; begin lets a plan that holds connect. What it tells after
// everything is connected is dropped.
func (d *demo) fleet(plan fleet.Plan) (events chan fleet.Event, begin func() error, err error) {
	cmd, err := sibling("moor-fleet")
	if err != nil {
		return nil, nil, err
	}
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	events = make(chan fleet.Event, 4*len(plan.Devices))
	if err := d.start(cmd, "the sample fleet", func() { in.Close() }); err != nil {
		return nil, nil, err
	}
	go func() {
		defer close(events)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var e fleet.Event
			if json.Unmarshal(lines.Bytes(), &e) == nil {
				select {
				case events <- e:
				default:
				}
			}
		}
	}()
	write := json.NewEncoder(in)
	return events, func() error { return write.Encode("start") }, write.Encode(plan)
}

// local enrols this machine, when it is not yet, and starts its agent.
func (d *demo) local(ctx context.Context, s site) error {
	dir := filepath.Join(d.Dir, "agent")
	if err := identity.Move(dir, d.URL); errors.Is(err, identity.ErrNotEnrolled) {
		token, err := d.token(ctx, s, 1)
		if err != nil {
			return err
		}
		cmd, err := sibling("moor-agent", "enrol", "--dir", dir, "--service", d.URL, "--token-file", "-")
		if err != nil {
			return err
		}
		cmd.Stdin = strings.NewReader(token)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
	} else if err != nil {
		return err
	}
	i, err := identity.Load(dir)
	if err != nil {
		return err
	}
	d.Local = i.Name
	cmd, err := sibling("moor-agent", "run", "--dir", dir)
	if err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(d.Dir, "agent.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stderr = log
	return d.start(cmd, "this machine's agent", func() { cmd.Process.Signal(syscall.SIGTERM) })
}

// sibling is a program built together with this one.
func sibling(name string, args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	path := filepath.Join(filepath.Dir(self), name)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("%s is missing: run make build", path)
	}
	return exec.Command(path, args...), nil
}

// start runs a child until it is told to end. It dies with this process, however that ends.
func (d *demo) start(cmd *exec.Cmd, what string, end func()) error {
	if cmd.Stderr == nil {
		cmd.Stderr = os.Stderr
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	started := make(chan error, 1)
	ended := make(chan struct{})
	d.children.Go(func() {
		runtime.LockOSThread() // the death signal is sent when this thread ends
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			err = cmd.Wait()
			close(ended)
			select {
			case d.failed <- fmt.Errorf("%s ended: %w", what, errors.Join(err, io.EOF)):
			default:
			}
		}
	})
	if err := <-started; err != nil {
		return fmt.Errorf("starting %s: %w", what, err)
	}
	d.ending = append(d.ending, func() {
		end()
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			cmd.Process.Kill()
		}
	})
	return nil
}

func (d *demo) stop() {
	for _, end := range d.ending {
		end()
	}
	d.children.Wait()
}

// The time between two readings of the made history: wide at first, and in the last hours the
// agent's own.
const (
	historyStep = 5 * time.Minute
	recentStep  = 30 * time.Second
	recent      = 2 * time.Hour

	inventoryStep = 4 * time.Hour
)

// history writes the week before now, as the simulated devices tell it: their readings, what they
// consisted of each day, and the alerts that would have come of it.
func (d *demo) history(ctx context.Context, devices []fleet.Device, ids map[string]uuid.UUID) error {
	end := time.Now()
	begin := end.Add(-7 * 24 * time.Hour)
	for _, device := range devices {
		id, table := ids[device.Name], &series.Table{}
		var people []string
		var there time.Time
		for at := begin; at.Before(end); at = at.Add(historyStep) {
			v := device.At(at)
			table.Append(at, v.Readings)
			if len(v.People) > 0 {
				people, there = []string{v.People[0].Name}, at
			}
			if end.Sub(at) < recent {
				at = at.Add(recentStep - historyStep)
			}
		}
		if err := d.service.Vitals.Import(ctx, id, table); err != nil {
			return err
		}
		if len(people) > 0 {
			if err := d.service.Vitals.ImportPeople(ctx, id, people, there); err != nil {
				return err
			}
		}
		if err := d.inventories(ctx, id, device, begin, end); err != nil {
			return err
		}
		if err := d.service.Health.Recall(ctx, id, table, end); err != nil {
			return err
		}
	}
	return d.service.Vitals.FindTrends(ctx)
}

// inventories stores what a device consisted of over a time, as it changed: each change between two
// inventories, so that it is known since when it may have been.
func (d *demo) inventories(ctx context.Context, id uuid.UUID, device fleet.Device, begin, end time.Time) error {
	var before inventory.Snapshot
	for at := begin; at.Before(end); at = at.Add(inventoryStep) {
		now := inventory.Of(device.ItemsAt(at))
		delta := inventory.Compare(before, now)
		if before != nil && len(delta.Put)+len(delta.Gone) == 0 {
			continue
		}
		if before != nil {
			if err := d.service.Inventory.Accept(ctx, id, inventory.Compare(before, before), at.Add(-inventoryStep)); err != nil {
				return err
			}
		}
		if err := d.service.Inventory.Accept(ctx, id, delta, at); err != nil {
			return err
		}
		before = now
	}
	return nil
}
