package device

import "time"

// Families of operating systems, as Facts.OS names them.
const (
	Windows = "windows"
	MacOS   = "macos"
	Linux   = "linux"
)

// Facts is what a device is. An agent reports it at each connection.
type Facts struct {
	HostName     string    `json:"host_name"`
	OS           string    `json:"os"` // Windows, MacOS or Linux
	OSName       string    `json:"os_name,omitempty"`
	OSVersion    string    `json:"os_version,omitempty"`
	Kernel       string    `json:"kernel,omitempty"`
	Arch         string    `json:"arch,omitempty"`
	Vendor       string    `json:"vendor,omitempty"`
	Model        string    `json:"model,omitempty"`
	Serial       string    `json:"serial,omitempty"`
	CPUModel     string    `json:"cpu_model,omitempty"`
	Cores        int       `json:"cores,omitempty"`
	MemoryBytes  int64     `json:"memory_bytes,omitempty"`
	Virtual      bool      `json:"virtual,omitempty"`
	TimeZone     string    `json:"time_zone,omitempty"`
	BootedAt     time.Time `json:"booted_at,omitzero"`
	Addresses    []string  `json:"addresses,omitempty"`
	AgentVersion string    `json:"agent_version"`
	Capabilities []string  `json:"capabilities"` // see the Capability constants
	// Hardware are names that its parts have of their own; see HardwareName.
	Hardware []string `json:"hardware,omitempty"`
}

// Capabilities that an agent may list in its facts. The console shows only what a device offers.
const (
	CapabilityVitals    = "vitals"
	CapabilityCommands  = "commands"
	CapabilityShell     = "shell"
	CapabilityInventory = "inventory"
	CapabilityProbes    = "probes"
	CapabilityQuestions = "questions"
	CapabilityFiles     = "files"
	CapabilityProcesses = "processes"
	CapabilityServices  = "services"
	CapabilityEvents    = "events"
	CapabilityNetwork   = "network"
	CapabilityPower     = "power"
	CapabilityPeople    = "people"
	CapabilitySettings  = "settings"
	CapabilityQueries   = "queries"
	CapabilityScreen    = "screen"
	CapabilityPackages  = "packages"
	CapabilityUpdates   = "updates"
)

// Withholdable are the capabilities that a policy may have an agent withhold: all but those by which it
// tells of itself.
var Withholdable = []string{CapabilityCommands, CapabilityShell, CapabilityFiles, CapabilityProcesses, CapabilityServices, CapabilityEvents,
	CapabilityNetwork,
	CapabilityPower, CapabilityPeople, CapabilitySettings, CapabilityQueries, CapabilityScreen, CapabilityPackages, CapabilityUpdates}

// Vitals is one reading of a device. Percentages run from 0 to 100, sizes are bytes, rates bytes
// a second.
type Vitals struct {
	At              time.Time     `json:"at"`
	CPU             float64       `json:"cpu"` // percent of all cores
	Load1           float64       `json:"load1"`
	Memory          float64       `json:"memory"` // percent in use
	MemoryBytes     int64         `json:"memory_bytes"`
	MemoryUsedBytes int64         `json:"memory_used_bytes"`
	Swap            float64       `json:"swap"` // percent in use
	Disks           []Disk        `json:"disks"`
	Receive         float64       `json:"receive"`
	Transmit        float64       `json:"transmit"`
	UptimeSeconds   int64         `json:"uptime_seconds"`
	Temperatures    []Temperature `json:"temperatures"`
	People          []SignedIn    `json:"people"`
	Sensors         []Sensor      `json:"sensors,omitempty"`
	NetworkErrors   float64       `json:"network_errors,omitempty"` // packets lost or broken a second
	Busiest         *Process      `json:"busiest,omitempty"`        // the process that uses most CPU
	LogOn           *LogOn        `json:"log_on,omitempty"`         // the latest since the agent began
	FailedLogOns    *float64      `json:"failed_log_ons,omitempty"` // in the last ten minutes
	StartSeconds    *float64      `json:"start_seconds,omitempty"`  // that the last start of the device took
	Crashes         *float64      `json:"crashes,omitempty"`        // of programs, in CrashesOver
	Crash           *Crash        `json:"crash,omitempty"`          // the last of them
	SpoolReports    int           `json:"spool_reports,omitempty"`  // kept at the device until now
	Probes          []ProbeResult `json:"probes,omitempty"`         // of the probes that the service asked for
}

// Sensor is a reading of the hardware other than a temperature.
type Sensor struct {
	Kind  string  `json:"kind"` // SensorFan, SensorVoltage or SensorBattery
	Name  string  `json:"name"`
	Value float64 `json:"value"` // turns a minute, volts, or percent of charge
}

// Kinds of sensor.
const (
	SensorFan     = "fan"
	SensorVoltage = "voltage"
	SensorBattery = "battery"
)

// Process is one running program.
type Process struct {
	Name        string  `json:"name"`
	PID         int     `json:"pid"`
	CPU         float64 `json:"cpu"` // percent of all cores
	MemoryBytes int64   `json:"memory_bytes"`
}

// LogOn is how long a person waited for their desktop.
type LogOn struct {
	Person  string    `json:"person"`
	At      time.Time `json:"at"`
	Seconds float64   `json:"seconds"`
}

// CrashesOver is for how long crashes are counted.
const CrashesOver = 24 * time.Hour

// Crash is a program that ended as it must not.
type Crash struct {
	Program string    `json:"program"`
	At      time.Time `json:"at"`
}

// Kinds of probe.
const (
	ProbeService = "service" // is a service running
	ProbeProcess = "process" // how many processes of a name run, and what they use
	ProbePing    = "ping"    // ICMP echo
	ProbeTCP     = "tcp"     // connect to host:port
	ProbeHTTP    = "http"    // GET a URL
	ProbeDNS     = "dns"     // resolve a name
	ProbeSetting = "setting" // whether it is there, and its value
	ProbeLog     = "log"     // lines of a log that match a pattern, a minute
)

// Probe is something that the agent is asked to look at. Kind, Target and Pattern identify it.
type Probe struct {
	Kind    string `json:"kind"`
	Target  string `json:"target"`            // a service, process, host, host:port, URL, name, or file ("journal" for the system's log)
	Pattern string `json:"pattern,omitempty"` // RE2, of log probes
	Every   int    `json:"every"`             // seconds, at least MinProbe
}

// Bounds of a probe.
const (
	MinProbe  = 10  // seconds between two looks
	MaxProbes = 100 // of one device
)

// ProbeResult is what a probe last found. Value is milliseconds for ping, tcp, http and dns;
// 0 or 1 for a service; processes for process; matching lines a minute for log.
type ProbeResult struct {
	Kind    string    `json:"kind"`
	Target  string    `json:"target"`
	Pattern string    `json:"pattern,omitempty"`
	At      time.Time `json:"at"`
	OK      bool      `json:"ok"`
	Unknown bool      `json:"unknown,omitempty"` // the device cannot look; Detail says why
	Value   float64   `json:"value"`
	CPU     float64   `json:"cpu,omitempty"`    // percent of all cores, of processes
	Memory  int64     `json:"memory,omitempty"` // bytes, of processes
	Expires time.Time `json:"expires,omitzero"` // of the certificate that an HTTPS server showed
	Detail  string    `json:"detail,omitempty"` // what went wrong, or the last matching line
}

// Disk is one mounted file system.
type Disk struct {
	Mount      string `json:"mount"`
	TotalBytes int64  `json:"total_bytes"`
	UsedBytes  int64  `json:"used_bytes"`
	// LatencyMS is how long a read or write took since the reading before, in milliseconds.
	LatencyMS *float64 `json:"latency_ms,omitempty"`
}

// Percent is the share in use, 0 to 100; 0 for a disk of no size.
func (d Disk) Percent() float64 {
	if d.TotalBytes <= 0 {
		return 0
	}
	return 100 * float64(d.UsedBytes) / float64(d.TotalBytes)
}

// Temperature is the reading of one sensor.
type Temperature struct {
	Sensor  string  `json:"sensor"`
	Celsius float64 `json:"celsius"`
}

// SignedIn is a person with a session at the device.
type SignedIn struct {
	Name        string `json:"name"`
	Where       string `json:"where,omitempty"` // the terminal or seat
	IdleSeconds int64  `json:"idle_seconds"`    // -1 when the system does not tell
}

// FullestDisk is the disk with the greatest share in use; ok is false when there is none.
func (v Vitals) FullestDisk() (full Disk, ok bool) {
	for _, d := range v.Disks {
		if !ok || d.Percent() > full.Percent() {
			full, ok = d, true
		}
	}
	return full, ok
}

// Hottest is the highest temperature; ok is false when no sensor reports.
func (v Vitals) Hottest() (hot Temperature, ok bool) {
	for _, t := range v.Temperatures {
		if !ok || t.Celsius > hot.Celsius {
			hot, ok = t, true
		}
	}
	return hot, ok
}
