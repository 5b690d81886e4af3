// Package host is what an operating system offers to the agent: one small interface a capability,
// with an implementation for each system in a folder below, and a simulated one for the sample
// fleet. No other package of the agent calls an operating system.
package host

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"reflect"
	"slices"

	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// Host is what one computer offers. A field with a capability tag is that capability: where it is nil or false the
// agent does not list it in the device's facts, and serves none of its routes. The tag needs names another capability
// without which it is not offered.
type Host struct {
	Informer  Informer  // never nil
	Meter     Meter     `capability:"vitals"`
	Runner    Runner    `capability:"commands"`
	Terminals Terminals `capability:"shell"`
	Lister    Lister    `capability:"inventory"`
	Prober    Prober    `capability:"probes"`
	Asker     Asker     `capability:"questions"`
	Disk      Disk      `capability:"files"`
	Processes Processes `capability:"processes"`
	Services  Services  `capability:"services"`
	Events    Events    `capability:"events"`
	Network   Network   `capability:"network"`
	Power     Power     `capability:"power"`
	People    People    `capability:"people"`
	Settings  Settings  `capability:"settings"`
	// Queries tells that queries for management data are answered, from the inventory and Sources.
	Queries  bool     `capability:"queries" needs:"inventory"`
	Screens  Screens  `capability:"screen"`
	Software Software `capability:"packages" needs:"commands"`
	Updates  Updates  `capability:"updates" needs:"commands"`
	// Sources are classes of management data beside those that the other capabilities give.
	Sources []Source
}

// capability is a field of Host.
type capability struct {
	name, needs string
	field       int
}

// capabilities are those of Host, in the order of facts.
var capabilities = func() (all []capability) {
	host := reflect.TypeFor[Host]()
	for i := range host.NumField() {
		if name, ok := host.Field(i).Tag.Lookup("capability"); ok {
			all = append(all, capability{name, host.Field(i).Tag.Get("needs"), i})
		}
	}
	return all
}()

// Offers tells whether the host offers a capability.
func (h Host) Offers(name string) bool {
	for _, c := range capabilities {
		if c.name == name {
			return !reflect.ValueOf(h).Field(c.field).IsZero() && (c.needs == "" || h.Offers(c.needs))
		}
	}
	return false
}

// Capabilities lists what the host offers, as facts name it.
func (h Host) Capabilities() []string {
	list := []string{}
	for _, c := range capabilities {
		if h.Offers(c.name) {
			list = append(list, c.name)
		}
	}
	return list
}

// Without returns the host without some of its capabilities, those of device.Withholdable.
func (h Host) Without(names []string) Host {
	v := reflect.ValueOf(&h).Elem()
	for _, c := range capabilities {
		if slices.Contains(names, c.name) && slices.Contains(device.Withholdable, c.name) {
			v.Field(c.field).SetZero()
		}
	}
	return h
}

// Informer tells what the computer is.
type Informer interface {
	// Facts is called at each connection. What cannot be found out is left empty; an error means
	// that nothing could. The agent fills in its own version and capabilities.
	Facts(ctx context.Context) (device.Facts, error)
}

// Meter reads the computer's vital signs.
type Meter interface {
	// Vitals returns the readings of now. Rates and CPU are means since the reading before, or
	// over a moment at the first. It is not called twice at once; each reader has a Meter of its
	// own through Another.
	Vitals(ctx context.Context) (device.Vitals, error)
	// Another returns a Meter whose rates do not depend on this one's readings.
	Another() Meter
}

// Lister lists what the computer consists of.
type Lister interface {
	// Items returns the items of every section of core/inventory that can be read; what cannot is
	// left out. What changes by itself, such as counters, is no part of it. It is not called twice
	// at once.
	Items(ctx context.Context) ([]inventory.Item, error)
}

// Prober looks at what policies ask to be watched.
type Prober interface {
	// Probe looks once. What goes wrong is told in the result, with Kind, Target and Pattern as in
	// the probe. Probes of the same target are not made at once; others may be.
	Probe(ctx context.Context, p device.Probe) device.ProbeResult
}

// Asker answers questions that are put to many devices at once: those about processes, services,
// ports, files and the registry. The agent answers the others.
type Asker interface {
	// Ask answers within a second or two, or when ctx ends with its error. A question that the
	// system has no answer to, such as one about a registry, is an error that says so.
	Ask(ctx context.Context, q link.Question) (link.Answer, error)
}

// Runner runs programs unseen by the computer's user.
type Runner interface {
	// Run starts a program and returns once it and what it started have ended, with its exit
	// status (128 + the signal's number when a signal ended it). Output is written to stdout and
	// stderr as it comes, each from one goroutine; an error of theirs ends the program. When ctx
	// ends, the program and all that it started are killed, and Run returns context.Cause(ctx).
	// Any other error means that it could not be started.
	Run(ctx context.Context, c link.Command, stdout, stderr io.Writer) (exit int, err error)
}

// Terminals opens terminals with a shell in them.
type Terminals interface {
	// Open starts a shell in a new terminal. When ctx ends the shell is hung up.
	Open(ctx context.Context, o link.ShellOrder) (Terminal, error)
	// Programs lists the interpreters that may be asked for, the usual one first.
	Programs() []string
}

// Terminal is one open terminal. Read and Write may be called at once; Read returns io.EOF when
// the shell has ended and all it printed was read.
type Terminal interface {
	io.ReadWriteCloser
	Resize(size link.TerminalSize) error
	// Wait returns the shell's exit status once it has ended.
	Wait() (exit int)
}

// ErrNoLists is what Disk.Let returns where a system keeps no lists of who may do what.
var ErrNoLists = errors.New("this system has permission bits, such as 0644, and owners, instead of a list of who may do what")

// Disk is what file tools need of a system beyond package os.
type Disk interface {
	// Real returns where package os finds what people call path; an error says that it is no whole
	// path. Shown is its inverse.
	Real(path string) (string, error)
	Shown(real string) string
	// Owner names whom the file at a place belongs to, "" where that is not known.
	Owner(real string, info fs.FileInfo) (owner, group string)
	// Like gives a file the access list of another, where the system has such lists beside bits. Files that
	// are changed are named in an open folder, here and below.
	Like(in *place.Dir, name string, asIn *place.Dir, as string) error
	// Access tells who may do what with a file, in words, where the system has such lists.
	Access(real string) []string
	// Let sets what an account may do with a file, one of link.MayNothing and those beside it, in such a list.
	Let(in *place.Dir, name, who, may string) error
	// Seclude makes a folder one that nobody but the agent's account and administrators looks into, and that
	// people are not shown among their own. It refuses one that somebody else made.
	Seclude(in *place.Dir, name string) error
	// SetOwner gives a file to others; "" leaves one of them as it is. A link itself is given, not
	// what it names.
	SetOwner(in *place.Dir, name, owner, group string) error
	// Top returns the topmost folder of the disk that a folder is on.
	Top(folder string) (string, error)
	// Free is how many bytes may be written to the disk that a folder is on.
	Free(folder string) (int64, error)
	// Windows tells whether names follow the rules of Windows.
	Windows() bool
}

// Processes looks at processes and changes them. What cannot be done is a *link.Problem.
type Processes interface {
	// List returns all processes. Rates are means since another list of the same Processes, or
	// since the process began at the first. It is not called twice at once; each reader has one of
	// its own through Another.
	List(ctx context.Context) (link.Processes, error)
	Another() Processes
	// Past returns what was busiest at moments of the last hour. Where it must be looked for as
	// time goes by, the Processes is a Noter too.
	Past(ctx context.Context) (link.Spikes, error)
	// Do does an action to one process, after making sure that it is the one that is meant.
	Do(ctx context.Context, d link.ProcessAction) (link.Outcome, error)
	// Start starts a program and leaves it running.
	Start(ctx context.Context, p link.Program) (link.Outcome, error)
}

// Noter is told at each report to note what it must remember.
type Noter interface{ Note(ctx context.Context) }

// Services looks at services and changes them. What cannot be done is a *link.Problem.
type Services interface {
	List(ctx context.Context) (link.Services, error)
	// Service returns the one of a name with what it needs, what needs it, and the last lines of
	// its log.
	Service(ctx context.Context, named link.Service) (link.Service, error)
	// Do does an action and waits until the service is in the state that it leads to.
	Do(ctx context.Context, d link.ServiceAction) (link.Outcome, error)
}

// Events reads the system's logs.
type Events interface {
	Sources(ctx context.Context) (link.EventSources, error)
	// Events sends what a query asks for, oldest first, and then, when it follows, what comes,
	// until ctx ends. A batch with Live parts the two.
	Events(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error
}

// Network looks at the network from the computer.
type Network interface {
	Network(ctx context.Context) (link.Network, error)
	// Reach tries, sending each result, and at last one with Done.
	Reach(ctx context.Context, r link.Reach, send func(link.ReachResult) error) error
	// Scan sends the hosts that it finds, how far it is, and at last an event with Done.
	Scan(ctx context.Context, s link.Scan, send func(link.ScanEvent) error) error
	// Wake sends a magic packet for each address on every network that the computer is on.
	Wake(ctx context.Context, w link.Wake) (link.Outcome, error)
}

// Power restarts and ends the computer, and the sessions on it.
type Power interface {
	Do(ctx context.Context, d link.PowerAction) (link.Outcome, error)
}

// People tells who is signed in, and reaches them.
type People interface {
	People(ctx context.Context) (link.PresenceList, error)
	// Show shows a message and waits for an answer, for its time, or for ctx.
	Show(ctx context.Context, m link.Message) (link.MessageAnswer, error)
	// Clip puts a text on a person's clipboard.
	Clip(ctx context.Context, c link.Clip) (link.Outcome, error)
}

// Settings looks at the system's settings and changes them: the registry, preferences, or kernel
// parameters and configuration files. What cannot be done is a *link.Problem.
type Settings interface {
	// List lists what stands at a place; at none, the stores that there are.
	List(ctx context.Context, at link.SettingsAt) (link.SettingPage, error)
	// Search sends what it finds, how far it is, and at last an event with Done.
	Search(ctx context.Context, s link.SettingSearch, send func(link.SettingFound) error) error
	Do(ctx context.Context, d link.SettingAction) (link.Outcome, error)
}

// Source is a class of management data that a system tells of.
type Source struct {
	Class link.QueryClass
	// Rows calls each with the rows, until it returns an error.
	Rows func(ctx context.Context, each func(map[string]any) error) error
}

// Software is the system's own package manager.
type Software interface {
	// Version tells which version is installed of what it calls by a name; "" where none is.
	Version(ctx context.Context, name string) (string, error)
	// Install installs a file of one of its Formats; what the manager prints goes to log. An error
	// says in words why it could not.
	Install(ctx context.Context, path string, log io.Writer) error
	// Remove removes what it calls by a name. What is not installed is no error.
	Remove(ctx context.Context, name string, log io.Writer) error
	// Formats are the ends of the names of files that it installs, such as ".deb".
	Formats() []string
}

// Updates offers newer versions of what the computer has, by the system's own means. Versions of sources that
// are not the system's are passed over, and those that are there already; what a source prints goes to log.
type Updates interface {
	// Missing lists what is offered. fresh has the sources asked anew, over the network. What is known is
	// returned even with an error, which says in words what a source said.
	Missing(ctx context.Context, fresh bool) ([]update.Update, error)
	// Fetch fetches what Install needs, so that this needs no network.
	Fetch(ctx context.Context, all []work.Version, log io.Writer) error
	Install(ctx context.Context, all []work.Version, log io.Writer) error
	// Back installs older versions in place of those that are there.
	Back(ctx context.Context, all []work.Version, log io.Writer) error
	// Refresh restarts the services that still use what was replaced, but for the agent's own.
	Refresh(ctx context.Context, log io.Writer) error
	// Restart tells whether the computer asks to be restarted.
	Restart(ctx context.Context) (bool, error)
}
