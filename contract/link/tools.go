package link

import (
	"errors"
	"time"
)

// Process is one process of a device. PID and Started identify it.
type Process struct {
	PID       int       `json:"pid"`
	Parent    int       `json:"parent"`
	Name      string    `json:"name"`
	Command   string    `json:"command,omitempty"` // its command line
	Person    string    `json:"person,omitempty"`  // whom it runs as
	Started   time.Time `json:"started"`
	CPU       float64   `json:"cpu"`    // percent of one core
	Memory    int64     `json:"memory"` // resident bytes
	Read      float64   `json:"read"`   // bytes a second from disks
	Written   float64   `json:"written"`
	State     string    `json:"state,omitempty"` // running, sleeping, waiting, stopped, ended
	Priority  string    `json:"priority,omitempty"`
	Listening []string  `json:"listening,omitempty"` // such as tcp 127.0.0.1:5432
}

// Processes is all of them at one moment.
type Processes struct {
	At    time.Time `json:"at"`
	Cores int       `json:"cores"`
	Items []Process `json:"items"`
}

// Spike is what used most of a device at a moment past.
type Spike struct {
	At      time.Time `json:"at"`
	CPU     float64   `json:"cpu"` // of the whole device, percent of all cores
	Busiest []Process `json:"busiest"`
}

// Spikes are the moments of the last hour, oldest first.
type Spikes struct {
	Items []Spike `json:"items"`
}

// ProcessAction is done to one process. Started must be its own: a number may belong to another by
// now.
type ProcessAction struct {
	Action   string    `json:"action"` // one of the constants below
	PID      int       `json:"pid"`
	Started  time.Time `json:"started,omitzero"`
	Name     string    `json:"name,omitempty"` // instead of PID, on many devices: all of this name
	Priority string    `json:"priority,omitempty"`
	Force    bool      `json:"force,omitempty"` // do not ask it to end first
}

// What may be done to a process.
const (
	ProcessEnd      = "end"
	ProcessEndTree  = "end-tree" // with all that it started
	ProcessPause    = "pause"
	ProcessContinue = "continue"
	ProcessPriority = "priority"
)

// The priorities of processes.
const (
	PriorityLow    = "low"
	PriorityBelow  = "below-normal"
	PriorityNormal = "normal"
	PriorityAbove  = "above-normal"
	PriorityHigh   = "high"
)

// Program is to be started and left running.
type Program struct {
	Argv    []string `json:"argv"`
	Person  string   `json:"person,omitempty"` // who is signed in; empty for the agent itself
	Visible bool     `json:"visible,omitempty"`
	Folder  string   `json:"folder,omitempty"`
}

// Outcome is how an action ended.
type Outcome struct {
	Message string `json:"message"`          // in a sentence
	PIDs    []int  `json:"pids,omitempty"`   // that it concerned
	Number  *int   `json:"number,omitempty"` // how many
}

// Service is one service of a device.
type Service struct {
	Name        string   `json:"name"`
	Title       string   `json:"title,omitempty"`
	State       string   `json:"state"` // running, stopped, starting, stopping, failed
	Detail      string   `json:"detail,omitempty"`
	Start       string   `json:"start"` // automatic, manual, disabled, other
	PID         int      `json:"pid,omitempty"`
	Memory      int64    `json:"memory,omitempty"` // bytes
	Since       string   `json:"since,omitempty"`  // RFC 3339; when its state began
	Needs       []string `json:"needs,omitempty"`
	NeededBy    []string `json:"needed_by,omitempty"`     // running services that stop with it
	Log         []string `json:"log,omitempty"`           // its last lines
	WillNotStop bool     `json:"will_not_stop,omitempty"` // the system refuses to
}

// Services is all of them.
type Services struct {
	Items []Service `json:"items"`
}

// ServiceAction is done to one service.
type ServiceAction struct {
	Action string `json:"action"` // one of the constants below
	Name   string `json:"name"`
	Start  string `json:"start,omitempty"` // of mode
	// Stops are the services that the technician was told will stop with it. The action is refused
	// when others would.
	Stops   []string `json:"stops,omitempty"`
	Seconds int      `json:"seconds,omitempty"` // to wait for the state, 1 to 300; 60 when 0
}

// What may be done to a service.
const (
	ServiceStart   = "start"
	ServiceStop    = "stop"
	ServiceRestart = "restart"
	ServiceMode    = "mode" // its start mode
)

// EventSource is a log of a device.
type EventSource struct {
	Name  string `json:"name"` // such as journal, or the path of a log file
	Title string `json:"title"`
	Kind  string `json:"kind"` // journal, file, channel, unified
	// Units are what the source's events come from, by which it may be narrowed.
	Units []string `json:"units,omitempty"`
}

// EventSources is all of them.
type EventSources struct {
	Items []EventSource `json:"items"`
}

// EventQuery asks for events of one source, oldest first.
type EventQuery struct {
	Source string    `json:"source"`
	Unit   string    `json:"unit,omitempty"`  // of the source's units
	Level  string    `json:"level,omitempty"` // the least severe wanted; of core/eventlog.Severities
	Text   string    `json:"text,omitempty"`  // RE2 over the message
	Since  time.Time `json:"since,omitzero"`
	Until  time.Time `json:"until,omitzero"`
	Last   int       `json:"last,omitempty"`   // at most so many, the latest; 500 when 0
	Follow bool      `json:"follow,omitempty"` // and then what comes
}

// Event is one entry of a log.
type Event struct {
	At      time.Time `json:"at"`
	Level   string    `json:"level,omitempty"`
	Unit    string    `json:"unit,omitempty"`
	PID     int       `json:"pid,omitempty"`
	Message string    `json:"message"`
}

// EventBatch are events as they come. Skipped counts those left out as they came faster than they
// could be sent. Live says that what was asked of the past is complete.
type EventBatch struct {
	Events  []Event `json:"events,omitempty"`
	Skipped int     `json:"skipped,omitempty"`
	Live    bool    `json:"live,omitempty"`
	Done    bool    `json:"done,omitempty"`
	Error   string  `json:"error,omitempty"`
}

// Limits of following.
const (
	MaxEvents    = 50_000  // of the past, in one answer
	MaxEventText = 8 << 10 // bytes of a message; what is longer is cut
	MaxFollowed  = 20_000  // lines a second that are sent on; others are skipped
)

// Presence is a person signed in at a device.
type Presence struct {
	Session     string    `json:"session"` // the system's own name of it
	Name        string    `json:"name"`
	Kind        string    `json:"kind"`            // console, remote or terminal
	Where       string    `json:"where,omitempty"` // a display, terminal or address
	Since       time.Time `json:"since,omitzero"`
	IdleSeconds int64     `json:"idle_seconds"` // -1 when not known
	Locked      bool      `json:"locked,omitempty"`
	Graphic     bool      `json:"graphic,omitempty"` // they have a desktop, on which a message can be shown
}

// PresenceList is who is signed in.
type PresenceList struct {
	Items []Presence `json:"items"`
	// Means says how a message reaches a person here; empty when it cannot.
	Means string `json:"means,omitempty"`
}

// PowerAction changes whether a device runs, or who is signed in.
type PowerAction struct {
	Action       string `json:"action"`                  // one of the constants below
	Session      string `json:"session,omitempty"`       // of log-off and lock; empty for all
	DelaySeconds int    `json:"delay_seconds,omitempty"` // 0 to 3600; the people signed in are told
	Message      string `json:"message,omitempty"`       // what they are told
}

// What may be done.
const (
	PowerRestart  = "restart"
	PowerFirmware = "firmware" // restart into the firmware's settings
	PowerRecovery = "recovery" // restart into the recovery or safe mode
	PowerOff      = "off"
	PowerLogOff   = "log-off"
	PowerLock     = "lock"
	PowerCancel   = "cancel" // what was to come after a delay
)

// Message is shown to a person at a device, and waits for their answer.
type Message struct {
	Title   string   `json:"title,omitempty"`
	Text    string   `json:"text"`
	Buttons []string `json:"buttons,omitempty"` // at most 3; the person's answer is one of them
	Session string   `json:"session,omitempty"` // whom; empty for the one at the console
	Seconds int      `json:"seconds,omitempty"` // to wait for an answer, 5 to 600; 120 when 0
}

// messageWithin is how long an answer is waited for when nothing else is said.
const messageWithin = 2 * time.Minute

// Limits returns how long an answer is waited for, and the buttons, within the bounds above; without any
// there is one that closes the message.
func (m Message) Limits() (within time.Duration, buttons []string) {
	if within = messageWithin; m.Seconds > 0 {
		within = time.Duration(min(max(m.Seconds, 5), 600)) * time.Second
	}
	if buttons = m.Buttons; len(buttons) == 0 {
		buttons = []string{"OK"}
	}
	return within, buttons[:min(len(buttons), 3)]
}

// MessageAnswer is what became of a message.
type MessageAnswer struct {
	Answer string  `json:"answer,omitempty"` // the button; empty when nobody answered
	By     string  `json:"by,omitempty"`     // who was asked
	Shown  bool    `json:"shown"`
	Reason string  `json:"reason,omitempty"` // why it was not shown, or not answered
	After  float64 `json:"after_seconds"`    // until the answer
}

// Clip is text for a device's clipboard.
type Clip struct {
	Text    string `json:"text"`
	Session string `json:"session,omitempty"`
}

// Network is the network as a device sees it.
type Network struct {
	Interfaces  []Interface  `json:"interfaces"`
	Routes      []Route      `json:"routes"`
	Neighbours  []Neighbour  `json:"neighbours"`
	Resolvers   []string     `json:"resolvers"`
	Search      []string     `json:"search,omitempty"`
	Connections []Connection `json:"connections"`
}

// Interface is a network interface.
type Interface struct {
	Name      string   `json:"name"`
	Hardware  string   `json:"hardware,omitempty"` // MAC address
	Addresses []string `json:"addresses"`          // with prefix length
	Up        bool     `json:"up"`
	MTU       int      `json:"mtu"`
}

// Route says where packets for a network go.
type Route struct {
	To        string `json:"to"` // a prefix; 0.0.0.0/0 for all others
	By        string `json:"by,omitempty"`
	Interface string `json:"interface"`
	Metric    int    `json:"metric"`
}

// Neighbour is a host that the device has met on its own networks.
type Neighbour struct {
	Address   string `json:"address"`
	Hardware  string `json:"hardware,omitempty"`
	Interface string `json:"interface,omitempty"`
	Name      string `json:"name,omitempty"`
	Open      []int  `json:"open,omitempty"` // of a scan: TCP ports that answer
	// Device is the fleet's device at this address, as the service knows it.
	Device   string `json:"device,omitempty"`
	DeviceID string `json:"device_id,omitempty"`
}

// Connection is an open socket.
type Connection struct {
	Protocol string `json:"protocol"` // tcp or udp
	Local    string `json:"local"`
	Remote   string `json:"remote,omitempty"`
	State    string `json:"state,omitempty"`
	PID      int    `json:"pid,omitempty"`
	Process  string `json:"process,omitempty"`
}

// Reach is a test whether the device reaches something.
type Reach struct {
	Kind   string `json:"kind"`           // echo (ICMP), tcp, name (DNS) or web (HTTP)
	Target string `json:"target"`         // a host, or a URL
	Port   int    `json:"port,omitempty"` // of tcp
	Times  int    `json:"times,omitempty"`
}

// ReachResult is one try, or the last line, which sums them up.
type ReachResult struct {
	OK           bool    `json:"ok"`
	Text         string  `json:"text"`
	Milliseconds float64 `json:"milliseconds,omitempty"`
	Done         bool    `json:"done,omitempty"`
	Error        string  `json:"error,omitempty"`
}

// Scan looks for hosts on a device's own network.
type Scan struct {
	Network string `json:"network"` // a prefix of its own, IPv4, /20 at the largest
}

// ScanEvent is a host found, or how far the scan is.
type ScanEvent struct {
	Found *Neighbour `json:"found,omitempty"`
	Tried int        `json:"tried,omitempty"`
	Of    int        `json:"of,omitempty"`
	Done  bool       `json:"done,omitempty"`
	Error string     `json:"error,omitempty"`
}

// Wake asks a device to wake another with a magic packet (Wake-on-LAN).
type Wake struct {
	Hardware []string `json:"hardware"` // MAC addresses
}

// Problem is why an agent does not do what it was asked, with an HTTP status.
type Problem struct {
	Status int
	Reason string
}

func (p *Problem) Error() string { return p.Reason }

// StatusOf is the HTTP status that an error is answered with: a Problem's own, or another.
func StatusOf(err error, otherwise int) int {
	if told := (*Problem)(nil); errors.As(err, &told) {
		return told.Status
	}
	return otherwise
}
