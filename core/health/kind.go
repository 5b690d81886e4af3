package health

import (
	"fmt"
	"regexp"

	"moorwatch.example/core/device"
)

// Checks that are named elsewhere than in the table below.
const (
	CheckSilent   = "silent"
	CheckIdentity = "identity"
	CheckBudget   = "budget"
	CheckDisk     = "disk"
	CheckMemory   = "memory"
	CheckClock    = "clock"

	CheckSoftware = "software"
	CheckSetting  = "setting"
	CheckService  = "service"

	checkDiskDays = "disk-days"
)

// Kind is one kind of check.
type Kind struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	About string `json:"about"` // resources, hardware, services, reachability, people, safety, text or agent
	Unit  string `json:"unit,omitempty"`
	Of    string `json:"of,omitempty"` // what its subjects are
	// Limits tells whether it has limits; a check without has a level.
	Limits bool `json:"limits"`
	// Reading is the kind of reading that it judges, where it does: then it can be tried on the past.
	Reading string `json:"reading,omitempty"`
	Probe   string `json:"probe,omitempty"`  // the kind of probe it needs; then every setting names a target
	Glob    bool   `json:"-"`                // a probe's target may be a pattern
	Every   int    `json:"-"`                // seconds between two looks of its probe; 60 where it is 0
	Wanted  bool   `json:"wanted,omitempty"` // it is about what a device is to have, and can be put right
	Next    string `json:"next"`             // what a technician would do first
	// Usual is its setting where no policy says otherwise; nil where it judges nothing until then.
	Usual *Setting `json:"usual,omitempty"`
}

func above(warning, critical float64) *Limits {
	l := &Limits{}
	if warning != 0 {
		l.Warning = &warning
	}
	if critical != 0 {
		l.Critical = &critical
	}
	return l
}

// Kinds are all checks, in the order in which they are shown.
var Kinds = []Kind{
	{Name: CheckSilent, Title: "Not heard from", About: "agent", Next: "Ask at the site whether it has power and network",
		Usual: &Setting{Check: CheckSilent, Level: Warning, ForSeconds: 60}},
	{Name: CheckIdentity, Title: "Second computer with its identity", About: "agent", Next: "See which computer it is",
		Usual: &Setting{Check: CheckIdentity, Level: Warning}},
	{Name: CheckBudget, Title: "Sends more than a device may", About: "agent", Next: "Find out what its agent does, or retire it",
		Usual: &Setting{Check: CheckBudget, Level: Warning}},
	{Name: "cpu", Title: "Processor", About: "resources", Unit: "%", Limits: true, Reading: "cpu", Next: "See what uses it",
		Usual: &Setting{Check: "cpu", Above: above(95, 0), Back: 10, ForSeconds: 900}},
	{Name: CheckMemory, Title: "Memory", About: "resources", Unit: "%", Limits: true, Reading: "memory", Next: "See what uses it",
		Usual: &Setting{Check: CheckMemory, Above: above(92, 97), Back: 4, ForSeconds: 60}},
	{Name: "swap", Title: "Swap", About: "resources", Unit: "%", Limits: true, Reading: "swap", Next: "See what uses memory",
		Usual: &Setting{Check: "swap", Above: above(85, 0), Back: 10, ForSeconds: 900}},
	{Name: CheckDisk, Title: "Disk space", About: "resources", Unit: "%", Of: "disk", Limits: true, Reading: "disk",
		Next:  "See what fills it",
		Usual: &Setting{Check: CheckDisk, Above: above(90, 95), Back: 2}},
	{Name: checkDiskDays, Title: "Days until a disk is full", About: "resources", Unit: "days", Of: "disk", Limits: true,
		Next:  "See what grows on it",
		Usual: &Setting{Check: checkDiskDays, Below: &Limits{Notice: number(14), Warning: number(7), Critical: number(2)}, Back: 1}},
	{Name: "latency", Title: "Disk latency", About: "resources", Unit: "ms", Of: "disk", Limits: true, Reading: "latency",
		Next:  "See what reads and writes",
		Usual: &Setting{Check: "latency", Above: above(100, 500), Back: 20, ForSeconds: 300}},
	{Name: "errors", Title: "Network errors", About: "resources", Unit: "/s", Limits: true, Reading: "errors",
		Next:  "Check its cable and adapter",
		Usual: &Setting{Check: "errors", Above: above(10, 100), Back: 5, ForSeconds: 300}},
	{Name: "uptime", Title: "Time since the last restart", About: "resources", Unit: "days", Limits: true, Next: "Plan a restart",
		Usual: &Setting{Check: "uptime", Above: &Limits{Notice: number(60)}}},
	{Name: "temperature", Title: "Temperature", About: "hardware", Unit: "°C", Of: "sensor", Limits: true, Reading: "temperature",
		Next: "Check its place, dust and fans",
		Usual: &Setting{Check: "temperature", Above: above(80, 90), Below: &Limits{Warning: number(-20), Critical: number(-30)}, Back: 4,
			ForSeconds: 60}},
	{Name: "fan", Title: "Fan", About: "hardware", Unit: "rpm", Of: "sensor", Limits: true, Reading: "fan",
		Next:  "Listen to the fan, or look at it",
		Usual: &Setting{Check: "fan", Below: &Limits{Warning: number(250), Critical: number(50)}, Back: 100, ForSeconds: 120}},
	{Name: "voltage", Title: "Voltage", About: "hardware", Unit: "V", Of: "sensor", Limits: true, Reading: "voltage",
		Next: "Check its power supply"},
	{Name: "battery", Title: "Battery", About: "hardware", Unit: "%", Of: "sensor", Limits: true, Reading: "battery",
		Next:  "Ask for it to be plugged in",
		Usual: &Setting{Check: "battery", Below: &Limits{Warning: number(12), Critical: number(5)}, Back: 5, ForSeconds: 120}},
	{Name: CheckService, Title: "Expected service", About: "services", Of: "service", Probe: device.ProbeService,
		Next: "See why it stopped, and start it"},
	{Name: "unwanted", Title: "Unwanted process", About: "services", Of: "process", Probe: device.ProbeProcess, Glob: true,
		Next: "Find out what started it"},
	{Name: "process-cpu", Title: "Process using too much CPU", About: "services", Unit: "%", Of: "process", Limits: true,
		Next:  "See what it does",
		Usual: &Setting{Check: "process-cpu", Above: above(90, 0), Back: 20, ForSeconds: 1800}},
	{Name: "process-memory", Title: "Process using too much memory", About: "services", Unit: "MiB", Of: "process", Limits: true,
		Probe: device.ProbeProcess, Glob: true, Next: "See whether it leaks"},
	{Name: "ping", Title: "Host answers to ping", About: "reachability", Unit: "ms", Of: "host", Limits: true, Probe: device.ProbePing,
		Next: "Test the path from the device"},
	{Name: "tcp", Title: "Port can be reached", About: "reachability", Unit: "ms", Of: "host:port", Limits: true, Probe: device.ProbeTCP,
		Next: "Test the path from the device"},
	{Name: "http", Title: "Web address answers", About: "reachability", Unit: "ms", Of: "URL", Limits: true, Probe: device.ProbeHTTP,
		Next: "Open the address from the device"},
	{Name: "certificate", Title: "Days until a certificate expires", About: "reachability", Unit: "days", Of: "URL", Limits: true,
		Probe: device.ProbeHTTP, Next: "Renew the certificate"},
	{Name: "dns", Title: "Name resolves", About: "reachability", Unit: "ms", Of: "name", Limits: true, Probe: device.ProbeDNS,
		Next: "Check its name servers"},
	{Name: "log-on", Title: "Time to log on", About: "people", Unit: "s", Limits: true, Reading: "log-on",
		Next:  "See what runs at log-on, and what changed",
		Usual: &Setting{Check: "log-on", Above: above(60, 180), Back: 15}},
	{Name: "failed-log-ons", Title: "Failed log-ons", About: "people", Limits: true, Reading: "failed-log-ons",
		Next:  "See from where, in the event log",
		Usual: &Setting{Check: "failed-log-ons", Above: above(10, 50), Back: 5}},
	{Name: "firewall", Title: "Firewall", About: "safety", Next: "Turn it on", Usual: &Setting{Check: "firewall", Level: Warning}},
	{Name: "encryption", Title: "Disk encryption", About: "safety", Of: "disk", Next: "Encrypt it",
		Usual: &Setting{Check: "encryption", Level: Notice}},
	{Name: "malware", Title: "Malware protection", About: "safety", Next: "Start and update it",
		Usual: &Setting{Check: "malware", Level: Warning}},
	{Name: "administrators", Title: "Local administrators", About: "safety", Limits: true, Next: "See who needs it",
		Usual: &Setting{Check: "administrators", Above: &Limits{Notice: number(6)}}},
	{Name: "restart", Title: "Restart pending", About: "safety", Next: "Plan a restart",
		Usual: &Setting{Check: "restart", Level: Notice, ForSeconds: 7 * 86400}},
	{Name: "updates", Title: "Age of the oldest update that waits", About: "safety", Unit: "days", Limits: true, Next: "Install what waits",
		Usual: &Setting{Check: "updates", Above: &Limits{Notice: number(30), Warning: number(60)}}},
	{Name: CheckClock, Title: "Clock", About: "safety", Unit: "s", Limits: true, Next: "Check its time service",
		Usual: &Setting{Check: CheckClock, Above: &Limits{Notice: number(120)}, Back: 30}},
	{Name: CheckSoftware, Title: "Required or unwanted software", About: "wanted", Of: "piece of software", Wanted: true,
		Next: "Install or remove it"},
	{Name: CheckSetting, Title: "Required setting", About: "wanted", Of: "setting", Probe: device.ProbeSetting, Every: 300,
		Wanted: true, Next: "Set it, or find out who changed it"},
	{Name: "log", Title: "Pattern in a log", About: "text", Unit: "lines/min", Of: "log", Limits: true, Probe: device.ProbeLog,
		Next: "Read the log around it"},
	{Name: "agent", Title: "Agent's version", About: "agent", Next: "Update the agent",
		Usual: &Setting{Check: "agent", Level: Notice, ForSeconds: 86400}},
	{Name: "spool", Title: "Reports kept at the device", About: "agent", Limits: true, Reading: "spool",
		Next:  "Check its link to the service",
		Usual: &Setting{Check: "spool", Above: &Limits{Notice: number(120), Warning: number(2000)}, ForSeconds: 300}},
}

var kindByName = func() map[string]*Kind {
	m := map[string]*Kind{}
	for i := range Kinds {
		m[Kinds[i].Name] = &Kinds[i]
	}
	return m
}()

// byReading finds the check that judges a kind of reading.
var byReading = func() map[string]*Kind {
	m := map[string]*Kind{}
	for i := range Kinds {
		if Kinds[i].Reading != "" {
			m[Kinds[i].Reading] = &Kinds[i]
		}
	}
	return m
}()

// Known tells whether there is a check of a name.
func Known(check string) bool { return kindByName[check] != nil }

func checkNames() (names []string) {
	for _, k := range Kinds {
		names = append(names, k.Name)
	}
	return names
}

func validPattern(k *Kind, s Setting) error {
	if s.Pattern == "" {
		if k.Name == "log" && !s.Off {
			return fmt.Errorf("log: it needs a pattern to look for")
		}
		return nil
	}
	if k.Name != "log" {
		return fmt.Errorf("%s: only the check \"log\" has a pattern", s.Check)
	}
	if _, err := regexp.Compile(s.Pattern); err != nil || len(s.Pattern) > 500 {
		return fmt.Errorf("log: the pattern %q cannot be read as a regular expression (RE2)", s.Pattern)
	}
	return nil
}
