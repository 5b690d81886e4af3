// Package link holds the messages that travel on the link between an agent and the service: the
// greeting, the reports an agent sends, and the orders it is given. The public API's schemas of
// the same name are these types.
//
// The service calls an agent at these paths, with ordinary HTTP:
//
//	GET  /vitals/live  Vitals as JSON, one a line, every 2 s until closed
//	POST /commands     Command in, CommandEvents as JSON out, one a line
//	GET  /shell        WebSocket; bytes as binary messages, ShellEvents as text messages
//	GET  /bytes?n=     n bytes of no meaning
//	POST /questions    Question in, Answer out
//	POST /inventory    take the inventory now; answered once the service has it
//
// An agent calls the service at these:
//
//	POST /facts        device.Facts in
//	POST /reports      Batch in, Receipt out
//	GET  /settings     Settings out
//	POST /inventory    inventory.Delta in; 409 when the service does not know its base
package link

import (
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
)

// Protocol is what an agent offers beside HTTP/1.1 when it connects for its link (ALPN, RFC 7301). The service never
// chooses it: by it agents, of which many may come at once, have their turn one after another, and people at once.
const Protocol = "moorwatch-agent"

// Challenge is the service's first message on a new link.
type Challenge struct {
	Nonce    string    `json:"nonce"`           // to be signed once
	Audience string    `json:"audience"`        // of the signed proof
	Time     time.Time `json:"time"`            // the service's clock, since a device's may be wrong
	Notes    bool      `json:"notes,omitempty"` // the service takes notes
}

// Proof answers a Challenge: a JWT signed by the device's key (RFC 7523, EdDSA).
type Proof struct {
	Token string `json:"token"`
	// HostName and Hardware tell which computer it is that shows the key (device.Facts).
	HostName string   `json:"host_name,omitempty"`
	Hardware []string `json:"hardware,omitempty"`
	// Mark is what the service gave the device when it last connected, where it did.
	Mark  string `json:"mark,omitempty"`
	Notes bool   `json:"notes,omitempty"` // the service takes them and this agent knows them: messages begin with their kind
}

// Welcome ends the greeting. A Refusal means that the link is not to be used.
type Welcome struct {
	Refusal *Refusal `json:"refusal,omitempty"`
	// Mark is to be kept, and shown at the next connection: whoever shows an older one is a copy.
	Mark string `json:"mark,omitempty"`
}

// Refusal says why a device may not connect, as HTTP would: 401 for a key that is unknown or a
// proof that does not hold, 409 while another computer is connected with the same identity, 425 while a
// technician is asked which computer this is, 421 once it is known that it is another.
type Refusal struct {
	Status int    `json:"status"`
	Reason string `json:"reason"`
	// With 421: Anew is a token to enrol anew with, as a device of its own; Device is as which it goes on.
	Anew   string `json:"anew,omitempty"`
	Device string `json:"device,omitempty"`
}

func (r *Refusal) Error() string { return r.Reason }

// The most that a message of an agent may hold, in bytes; what is larger is answered with 413.
const (
	MaxFacts = 1 << 20
	MaxBatch = 4 << 20
	MaxSends = 500 // reports in one batch
)

// Report is one reading, numbered by the spool it was kept in.
type Report struct {
	Seq    uint64        `json:"seq"` // 1, 2, 3, … within an epoch
	Vitals device.Vitals `json:"vitals"`
}

// Batch is a run of reports from one spool, oldest first.
type Batch struct {
	Epoch   string    `json:"epoch"` // a UUID made with the spool
	Sent    time.Time `json:"sent"`  // the device's clock when it sent this
	Reports []Report  `json:"reports"`
}

// Receipt tells an agent what it may forget: every report up to Through is on the service's disk,
// or in Refused with the reason why it never will be.
type Receipt struct {
	Through  uint64    `json:"through"`
	Refused  []Refused `json:"refused,omitempty"`
	Settings string    `json:"settings,omitempty"` // digest of the device's Settings
}

// Refused is a report that was not stored.
type Refused struct {
	Seq    uint64 `json:"seq"`
	Reason string `json:"reason"`
}

// Command is an order to run one program.
type Command struct {
	Argv             []string `json:"argv"`
	Line             bool     `json:"line,omitempty"`               // argv joined by spaces is for the command interpreter
	Order            string   `json:"order,omitempty"`              // a UUID; carried out at most once
	TimeoutSeconds   int      `json:"timeout_seconds,omitempty"`    // DefaultTimeout when 0
	OutputLimitBytes int64    `json:"output_limit_bytes,omitempty"` // DefaultOutputLimit when 0
	Env              []string `json:"-"`                            // NAME=value, beside the usual ones; no order over the link has any
}

// Limits of a command when it states none, and the most it may state.
const (
	DefaultTimeout     = 10 * time.Minute
	MaxTimeout         = 24 * time.Hour
	DefaultOutputLimit = 64 << 20
	MaxOutputLimit     = 1 << 30
)

// Limits returns the command's limits, within the bounds above.
func (c Command) Limits() (timeout time.Duration, output int64) {
	timeout, output = time.Duration(c.TimeoutSeconds)*time.Second, c.OutputLimitBytes
	if timeout <= 0 {
		timeout = DefaultTimeout
	}
	if output <= 0 {
		output = DefaultOutputLimit
	}
	return min(timeout, MaxTimeout), min(output, MaxOutputLimit)
}

// CommandEvent is one thing that happened to a running command. The last has Exit or Error.
type CommandEvent struct {
	Stdout         []byte  `json:"stdout,omitempty"`
	Stderr         []byte  `json:"stderr,omitempty"`
	Exit           *int    `json:"exit,omitempty"` // 128 + the signal's number when a signal ended it
	Error          string  `json:"error,omitempty"`
	ElapsedSeconds float64 `json:"elapsed_seconds,omitempty"`
}

// ShellOrder says which shell is opened.
type ShellOrder struct {
	Size TerminalSize
	// Person is whom it runs as, who must have an account; empty for the agent itself. Program is
	// the interpreter, one of those that the device lists; empty for the usual one.
	Person, Program string
}

// ShellChoices are the interpreters of a device, the usual one first, and the people with a session
// there, whom a shell may run as.
type ShellChoices struct {
	Programs []string `json:"programs"`
	People   []string `json:"people"`
}

// How long a shell lives whose connection was lost, and how much of what it printed is kept for
// whoever attaches to it again.
const (
	ShellLinger = 5 * time.Minute
	ShellKept   = 1 << 20 // bytes
)

// ShellEvent is a text message on a shell's WebSocket. The first says at which byte of all that the
// shell ever printed the binary messages begin.
type ShellEvent struct {
	Begin  *int64        `json:"begin,omitempty"`
	Resize *TerminalSize `json:"resize,omitempty"`
	Exit   *int          `json:"exit,omitempty"` // the last message
	Error  string        `json:"error,omitempty"`
}

// TerminalSize counts characters, 1 to 1000 each way.
type TerminalSize struct {
	Columns int `json:"columns"`
	Rows    int `json:"rows"`
}

// Sane returns s within its bounds, 80x24 where it says nothing.
func (s TerminalSize) Sane() TerminalSize {
	if s.Columns <= 0 {
		s.Columns = 80
	}
	if s.Rows <= 0 {
		s.Rows = 24
	}
	return TerminalSize{min(s.Columns, 1000), min(s.Rows, 1000)}
}

// Settings is what the service asks of an agent. A Receipt carries their digest, so that an agent
// reads them when they changed.
type Settings struct {
	Digest string         `json:"digest"`
	Probes []device.Probe `json:"probes"`
	Agent  health.Agent   `json:"agent"` // how the agent behaves
}

// Question is what a sweep asks a device.
type Question struct {
	Kind    string `json:"kind"` // one of the constants below
	Name    string `json:"name,omitempty"`
	Section string `json:"section,omitempty"` // of AskItem: of the inventory
	Digest  bool   `json:"digest,omitempty"`  // of AskFile: its SHA-256 too
}

// What may be asked.
const (
	AskProcess  = "process"  // processes of a name, * for any characters
	AskService  = "service"  // the state of a service
	AskPort     = "port"     // what listens on a port
	AskFile     = "file"     // whether a file is there, its size, time and digest
	AskRegistry = "registry" // a value of the registry, on Windows
	AskLogOn    = "log-on"   // who is signed in, and how long the last log-on took
	AskFact     = "fact"     // a fact, by its name
	AskItem     = "item"     // an item of the inventory, by its name
)

// Answer is what a device answers. Value is short and equal for equal answers.
type Answer struct {
	Value  string   `json:"value"`
	Number *float64 `json:"number,omitempty"` // where the answer is a number
	Lines  []string `json:"lines,omitempty"`
}

// The most that an answer may hold.
const (
	MaxAnswer      = 64 << 10 // bytes
	MaxAnswerLines = 100
)

// MaxInventory is the most that an inventory's differences may hold, in bytes.
const MaxInventory = 16 << 20
