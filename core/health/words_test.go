package health

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/calendar"
	"moorwatch.example/core/device"
	"moorwatch.example/core/response"
)

// has is the software of a device, with its versions.
type has map[string]string

func (h has) Version(name string) (string, bool) { v, ok := h[name]; return v, ok }
func (h has) Names() []string                    { return slices.Sorted(maps.Keys(h)) }

// Each reading that is out of its range is told of in the reader's words.
func TestSentences(t *testing.T) {
	at := now
	vitals := func(change func(v *device.Vitals)) *device.Vitals {
		v := &device.Vitals{At: at}
		change(v)
		return v
	}
	sensor := func(kind string, value float64) *device.Vitals {
		return vitals(func(v *device.Vitals) { v.Sensors = []device.Sensor{{Kind: kind, Name: "A1", Value: value}} })
	}
	probed := func(p device.ProbeResult) *device.Vitals {
		p.At = at
		return vitals(func(v *device.Vitals) { v.Probes = []device.ProbeResult{p} })
	}
	over := func(check, subject string, v float64) Setting {
		return Setting{Check: check, Subject: subject, Above: &Limits{Warning: &v}}
	}
	under := func(check, subject string, v float64) Setting {
		return Setting{Check: check, Subject: subject, Below: &Limits{Warning: &v}}
	}
	for want, c := range map[string]struct {
		v *device.Vitals
		s Setting
	}{
		"Memory is 91 % in use: 1 GiB of 8 GiB left.": {vitals(func(v *device.Vitals) {
			v.Memory, v.MemoryBytes, v.MemoryUsedBytes = 91, 8<<30, 7<<30
		}), over("memory", "", 90)},
		"Memory is 91 % in use.":        {vitals(func(v *device.Vitals) { v.Memory = 91 }), over("memory", "", 90)},
		"Its processors are 95 % busy.": {vitals(func(v *device.Vitals) { v.CPU = 95 }), over("cpu", "", 90)},
		"busy, 60 % with catalogue.": {vitals(func(v *device.Vitals) {
			v.CPU, v.Busiest = 95,
				&device.Process{Name: "catalogue", CPU: 60}
		}), over("cpu", "", 90)},
		"Swap is 80 % in use": {vitals(func(v *device.Vitals) { v.Swap = 80 }), over("swap", "", 70)},
		"Disk /srv takes 250 ms for a read": {vitals(func(v *device.Vitals) {
			v.Disks = []device.Disk{{Mount: "/srv",
				LatencyMS: new(250.0)}}
		}), over("latency", "/srv", 200)},
		"loses or breaks 12 packets": {vitals(func(v *device.Vitals) { v.NetworkErrors = 12 }), over("errors", "", 10)},
		"at 90 °C, above its limit of 80 °C": {vitals(func(v *device.Vitals) {
			v.Temperatures = []device.Temperature{{Sensor: "board",
				Celsius: 90}}
		}), over("temperature", "board", 80)},
		"at -5 °C, below its limit of 0 °C": {vitals(func(v *device.Vitals) {
			v.Temperatures = []device.Temperature{{Sensor: "board",
				Celsius: -5}}
		}), under("temperature", "board", 0)},
		"Fan A1 turns at 300 rpm, below":   {sensor("fan", 300), under("fan", "A1", 500)},
		"Voltage A1 is 11.20 V, below its": {sensor("voltage", 11.2), under("voltage", "A1", 11.6)},
		"Battery A1 holds 12 %.":           {sensor("battery", 12), under("battery", "A1", 20)},
		"Logging on took 3 minutes for Wren": {vitals(func(v *device.Vitals) {
			v.LogOn = &device.LogOn{Person: "Wren", Seconds: 180,
				At: at}
		}), over("log-on", "", 60)},
		"Logging on took 70 seconds.": {vitals(func(v *device.Vitals) { v.LogOn = &device.LogOn{Seconds: 70, At: at} }),
			over("log-on", "", 60)},
		"30 log-ons failed within ten": {vitals(func(v *device.Vitals) { v.FailedLogOns = new(30.0) }),
			over("failed-log-ons", "", 20)},
		"300 reports are kept at the device": {vitals(func(v *device.Vitals) { v.SpoolReports = 300 }), over("spool", "", 200)},
		"has not been restarted for 40 days": {vitals(func(v *device.Vitals) { v.UptimeSeconds = 40 * 86400 }), over("uptime", "", 30)},
		"viewer uses 70 % of all processors": {vitals(func(v *device.Vitals) {
			v.Busiest = &device.Process{Name: "viewer", CPU: 70,
				MemoryBytes: 1 << 30}
		}), over("process-cpu", "viewer", 50)},

		"Service cron is not running.": {probed(device.ProbeResult{Kind: device.ProbeService, Target: "cron"}),
			Setting{Check: "service", Subject: "cron"}},
		"Service cron is failed.": {probed(device.ProbeResult{Kind: device.ProbeService, Target: "cron",
			Detail: "failed"}), Setting{Check: "service", Subject: "cron"}},
		"miner runs and should not.": {probed(device.ProbeResult{Kind: device.ProbeProcess, Target: "miner",
			Value: 1}), Setting{Check: "unwanted", Subject: "miner"}},
		"viewer uses 2 GiB of memory.": {probed(device.ProbeResult{Kind: device.ProbeProcess, Target: "viewer",
			Memory: 2 << 30}), over("process-memory", "viewer", 1000)},
		"192.0.2.1 does not answer to ping: no answer": {probed(device.ProbeResult{Kind: device.ProbePing, Target: "192.0.2.1"}),
			Setting{Check: "ping", Subject: "192.0.2.1"}},
		"moor.example does not resolve": {probed(device.ProbeResult{Kind: device.ProbeDNS, Target: "moor.example"}),
			Setting{Check: "dns", Subject: "moor.example"}},
		"https://a.example does not answer as it should": {probed(device.ProbeResult{Kind: device.ProbeHTTP,
			Target: "https://a.example"}), Setting{Check: "http", Subject: "https://a.example"}},
		"The certificate of https://a.example expired 3 da": {probed(device.ProbeResult{Kind: device.ProbeHTTP, Target: "https://a.example",
			OK: true, Expires: now.Add(-72 * time.Hour)}), under("certificate", "https://a.example", 7)},
		`a/b is "1", and must not be set.`: {probed(device.ProbeResult{Kind: device.ProbeSetting, Target: "a/b", OK: true,
			Detail: "1"}), Setting{Check: "setting", Subject: "a/b", Absent: true}},
		`a/b is not set, and must be "2".`: {probed(device.ProbeResult{Kind: device.ProbeSetting, Target: "a/b"}),
			Setting{Check: "setting", Subject: "a/b", Value: "2"}},
		`a/b is "1", and must be "2".`: {probed(device.ProbeResult{Kind: device.ProbeSetting, Target: "a/b", OK: true,
			Detail: "1"}), Setting{Check: "setting", Subject: "a/b", Value: "2"}},
		"9 lines a minute in journal match \"oom\".": {probed(device.ProbeResult{Kind: device.ProbeLog, Target: "journal",
			Pattern: "oom", Value: 9}), Setting{Check: "log", Subject: "journal", Pattern: "oom", Above: &Limits{Warning: new(1.0)}}},
		"Only 12 lines an hour in journal match \"record copied\".": {probed(device.ProbeResult{Kind: device.ProbeLog, Target: "journal",
			Pattern: "record copied", Value: 0.2, Detail: "record copied 7"}), Setting{Check: "log", Subject: "journal",
			Pattern: "record copied", Below: &Limits{Warning: new(1.0)}}},
	} {
		_, findings := Judge(&State{Online: true, Vitals: c.v}, set(t, c.s), nil, now)
		if len(findings) != 1 || !strings.Contains(findings[0].Message, want) {
			t.Errorf("%s: %+v", want, findings)
		}
	}
}

// What software a device must have, and must not.
func TestSoftware(t *testing.T) {
	for name, c := range map[string]struct {
		software Software
		s        Setting
		want     string
	}{
		"not known yet": {nil, Setting{Check: "software", Subject: "heathssl"}, ""},
		"there":         {has{"heathssl": "1.1"}, Setting{Check: "software", Subject: "heathssl"}, ""},
		"not there":     {has{}, Setting{Check: "software", Subject: "heathssl"}, "heathssl is wanted, and is not installed."},
		"too old": {has{"heathssl": "1.0"}, Setting{Check: "software", Subject: "heathssl", Value: "1.1"},
			"in version 1.0, and wanted in 1.1 or later."},
		"new enough": {has{"heathssl": "1.10"}, Setting{Check: "software", Subject: "heathssl", Value: "1.9"}, ""},
		"unwanted": {has{"Miner": "2"}, Setting{Check: "software", Subject: "Miner", Absent: true},
			"Miner is installed, in version 2, and not wanted here."},
		"unwanted, gone": {has{}, Setting{Check: "software", Subject: "Miner", Absent: true}, ""},
		"unwanted pattern": {has{"Miner Pro": "2", "moss": "1"}, Setting{Check: "software", Subject: "Miner*", Absent: true},
			"Miner Pro is installed"},
		"off": {has{}, Setting{Check: "software", Subject: "heathssl", Off: true}, ""},
	} {
		_, findings := Judge(&State{Online: true, Vitals: &device.Vitals{At: now}, Software: c.software}, set(t, c.s), nil, now)
		if (len(findings) > 0) != (c.want != "") || c.want != "" && !strings.Contains(findings[0].Message, c.want) {
			t.Errorf("%s: %+v", name, findings)
		}
	}
}

func TestRulesOfNoticeThatCannotBe(t *testing.T) {
	good := func() Rule {
		return Rule{Name: "Night", Scope: Scope{Kind: Everywhere}, Least: Warning, Channel: "mail", Checks: []string{"disk"},
			Zone:  "Europe/London",
			Hours: []calendar.Hours{{Days: []string{"MO"}, From: "18:00", To: "08:00"}}, EscalateMinutes: 10, EscalateTo: "telephone"}
	}
	if err := good().Validate(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(r *Rule){
		"the scope":           func(r *Rule) { r.Scope.Kind = "planet" },
		"the level":           func(r *Rule) { r.Least = "grave" },
		"the channel that":    func(r *Rule) { r.Channel = "" },
		"there is no check":   func(r *Rule) { r.Checks = []string{"mood"} },
		"there is no time":    func(r *Rule) { r.Zone = "Moor/Peat" },
		"there is no day":     func(r *Rule) { r.Hours[0].Days = []string{"MONDAY"} },
		"escalates within":    func(r *Rule) { r.EscalateMinutes = maxEscalate + 1 },
		"a digest is sent":    func(r *Rule) { r.DigestMinutes = -1 },
		"channel to escalate": func(r *Rule) { r.EscalateTo = "" },
	} {
		r := good()
		if change(&r); r.Validate() == nil || !strings.Contains(r.Validate().Error(), want) {
			t.Errorf("%s: %v", want, r.Validate())
		}
	}
}

func TestSettingsThatCannotBe(t *testing.T) {
	for want, s := range map[string]Setting{
		"cannot be read":         {Check: "disk", Subject: "["},
		"needs one":              {Check: "ping"},
		"none of notice":         {Check: "service", Subject: "a", Level: "grave"},
		"between 0 s":            {Check: "cpu", ForSeconds: -1},
		"way back":               {Check: "cpu", Back: -1},
		"has no limits":          {Check: "service", Subject: "a", Above: &Limits{Warning: new(1.0)}},
		"at least one limit":     {Check: "cpu"},
		"must rise":              {Check: "cpu", Above: &Limits{Warning: new(9.0), Critical: new(8.0)}},
		"must fall":              {Check: "fan", Below: &Limits{Warning: new(8.0), Critical: new(9.0)}},
		"only what is wanted":    {Check: "cpu", Above: &Limits{Warning: new(9.0)}, Absent: true},
		"the name of one":        {Check: "software"},
		"needs the value":        {Check: "setting", Subject: "a/b"},
		"its fix is":             {Check: "setting", Subject: "a/b", Value: "1", Fix: "a package"},
		"has one name":           {Check: "software", Subject: "moss*"},
		"only told of":           {Check: "software", Subject: "moss*", Absent: true, Fix: "x"},
		"it needs a pattern":     {Check: "log", Subject: "journal", Above: &Limits{Warning: new(9.0)}},
		"only the check \"log\"": {Check: "cpu", Above: &Limits{Warning: new(9.0)}, Pattern: "x"},
	} {
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
	for want, a := range map[string]Agent{
		"reports every":     {ReportSeconds: 1},
		"by which code":     {RemovalDigest: "ab"},
		"can withhold":      {Withhold: []string{"everything"}},
		"to 3600 seconds":   {ReportSeconds: 4000},
		"withhold, and not": {Withhold: []string{"nothing, and not"}},
	} {
		if err := a.Validate(); want != "withhold, and not" && (err == nil || !strings.Contains(err.Error(), want)) || err == nil {
			t.Errorf("%s: %v", want, err)
		}
	}
	if err := (Agent{ReportSeconds: 60, Withhold: device.Withholdable[:1], Protect: true}).Validate(); err != nil {
		t.Error(err)
	}
}

// A set tells what it judges, what its agent does, and what is done when a check fails.
func TestSets(t *testing.T) {
	here := &Place{Device: "d", Site: "s", Organisation: "o", Groups: []string{"g"}}
	for kind, covers := range map[Scope]bool{{Kind: Everywhere}: true, {Organisation, "o"}: true, {Organisation, "x"}: false,
		{Site, "s"}:  true,
		{Group, "g"}: true, {Group, "x"}: false, {Device, "d"}: true, {Device, "x"}: false, {"planet", "x"}: false} {
		if kind.Covers(here) != covers {
			t.Errorf("%+v covers: %v", kind, !covers)
		}
	}
	own := response.Response{Name: "Restart it", Check: "service", Steps: []response.Step{{Do: response.RestartService}}}
	s := Resolve([]Policy{
		{Name: "all", Scope: Scope{Kind: Everywhere}, Agent: Agent{ReportSeconds: 60, Withhold: []string{"screen"}}, Settings: []Setting{
			{Check: "service", Subject: "cron"}, {Check: "setting", Subject: "a/b", Value: "1", Fix: Self},
			{Check: "software", Subject: "heathssl", Fix: "p1"}, {Check: "software", Subject: "Miner", Absent: true, Fix: "p2"},
			{Check: "ping", Subject: "192.0.2.1", EverySeconds: 30}, {Check: "software", Subject: "moss"}}},
		{Name: "site", Scope: Scope{Site, "s"}, Responses: []response.Response{own}, Agent: Agent{ReportSeconds: 20, Protect: true}},
	}, here)
	if !s.Judges("ping") || s.Judges("http") || !Known("ping") || Known("mood") || len(s.Settings()) < 6 {
		t.Errorf("%+v", s.Settings())
	}
	if a := s.Agent(); a.ReportSeconds != 20 || !a.Protect || len(a.Withhold) != 1 {
		t.Errorf("%+v", a)
	}
	if len(s.Responses()) != 1 || len(s.Probes()) != 3 {
		t.Errorf("%+v, %+v", s.Responses(), s.Probes())
	}
	for subject, want := range map[string]string{"service cron": "Restart it", "setting a/b": "Set a/b",
		"software heathssl": "Install heathssl",
		"software Miner":    "Remove Miner", "software moss": "", "disk /": ""} {
		check, of, _ := strings.Cut(subject, " ")
		r, ok := s.Response(check, of)
		if ok != (want != "") || r.Name != want {
			t.Errorf("%s: %+v", subject, r)
		}
		if ok && r.Validate() != nil {
			t.Errorf("%s: %v", subject, r.Validate())
		}
	}
	if one, ok := s.Find("setting", "a/b"); !ok || one.Value != "1" {
		t.Errorf("%+v", one)
	}
	if _, ok := s.Find("setting", "c"); ok {
		t.Error("what is not set was found")
	}
}

func TestWords(t *testing.T) {
	for in, want := range map[time.Duration]string{time.Second: "1 seconds", 3 * time.Minute: "3 minutes", 5 * time.Hour: "5 hours",
		72 * time.Hour: "3 days"} {
		if span(in) != want {
			t.Errorf("%s is %q", in, span(in))
		}
	}
	for in, want := range map[float64]string{0.01: "less than an hour", 1: "24 hours", 3: "3 days"} {
		if inDays(in) != want {
			t.Errorf("%g days are %q", in, inDays(in))
		}
	}
	for in, want := range map[float64]string{100.4: "100", 2: "2", 0.256: "0.26"} {
		if short(in) != want {
			t.Errorf("%g is %q", in, short(in))
		}
	}
	for in, want := range map[string]string{"": "", "1.2 1.10 1.9": "1.10", "1.x 1.2": "1.x", "2 1.9.9": "2"} {
		if got := NewestVersion(strings.Fields(in)); got != want {
			t.Errorf("of %q %q is the newest", in, got)
		}
	}
	if NextStep("mood") == "" || NextStep("disk") == NextStep("mood") {
		t.Error("a check has no next step")
	}
	e := Episode{Level: Warning, From: now, To: now.Add(3 * time.Hour)}
	if got := Past("disk", "/srv", e); !strings.Contains(got, "/srv was out of its range for 3 hours.") || Past("mood", "", e) != "mood" {
		t.Error(got)
	}
	some := []Presence{{Online: true}, {}, {}}
	if got := SiteMessage(some[1:]); !strings.Contains(got, "all 2 devices") || !strings.Contains(SiteMessage(some), "2 of 3 devices") {
		t.Error(got)
	}
	for state, want := range map[AlertState]time.Time{Snoozed: now.Add(time.Hour), Open: now.Add(QuietFor), Over: {}} {
		a := Alert{State: state, SnoozedUntil: now.Add(time.Hour), QuietSince: now}
		if got := a.Due(); !got.Equal(want) {
			t.Errorf("%s is due at %s", state, got)
		}
	}
	if (&Alert{State: Open}).Due() != (time.Time{}) {
		t.Error("what is open changes by itself")
	}
	if got := fmt.Sprint(Bytes(-1), Bytes(999), Bytes(1200), Bytes(99_600_000), Memory(512<<20),
		Memory(8<<30)); got != "0 B999 B1.2 kB100 MB512 MiB8 GiB" {
		t.Error(got)
	}
}
