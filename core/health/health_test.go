package health

import (
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

var usual = Resolve(nil, &Place{})

func disk(percent int64) *device.Vitals {
	return &device.Vitals{Memory: 40, Disks: []device.Disk{{Mount: "/srv", TotalBytes: 100e9, UsedBytes: percent * 1e9}}}
}

func safe(item, field, value string) map[string]map[string]string {
	return map[string]map[string]string{item: {field: value}}
}

// set is the usual set with more settings over it.
func set(t *testing.T, settings ...Setting) *Set {
	t.Helper()
	for _, s := range settings {
		if err := s.Validate(); err != nil {
			t.Fatal(err)
		}
	}
	return Resolve([]Policy{{Name: "test", Scope: Scope{Kind: Everywhere}, Settings: settings}}, &Place{})
}

func TestJudge(t *testing.T) {
	sensor := func(kind string, v float64) *device.Vitals {
		return &device.Vitals{Sensors: []device.Sensor{{Kind: kind, Name: "a", Value: v}}}
	}
	probe := func(p device.ProbeResult) *device.Vitals { return &device.Vitals{Probes: []device.ProbeResult{p}} }
	for name, c := range map[string]struct {
		state State
		set   *Set
		want  Condition
		texts []string // of the findings, worst first
	}{
		"well":   {State{Online: true, Vitals: disk(50)}, usual, Healthy, nil},
		"new":    {State{Online: true}, usual, Healthy, nil},
		"silent": {State{Vitals: disk(50)}, usual, Silent, []string{"Not heard from"}},
		"silent, full": {State{Vitals: disk(97)}, usual, Silent,
			[]string{"Disk /srv is 97 % full: 3.0 GB of 100 GB left.", "Not heard from"}},
		"nearly full": {State{Online: true, Vitals: disk(91)}, usual, Degraded, []string{"91 % full"}},
		"full":        {State{Online: true, Vitals: disk(96)}, usual, Failing, []string{"96 % full"}},
		"filling": {State{Online: true, Vitals: disk(80),
			Trends: map[string]series.Trend{"/srv": {PerDay: 6, Span: 7 * 24 * time.Hour}}}, usual, Degraded,
			[]string{"Disk /srv full in 3 days at this week's rate: 20.0 GB of 100 GB left."}},
		"filling fast": {State{Online: true, Vitals: disk(80),
			Trends: map[string]series.Trend{"/srv": {PerDay: 12, Span: 30 * time.Hour}}}, usual, Failing,
			[]string{"full in 40 hours at the rate of the last 30 hours"}},
		"not growing": {State{Online: true, Vitals: disk(80), Trends: map[string]series.Trend{"/srv": {PerDay: 0.001}}}, usual, Healthy,
			nil},
		"full, filling": {State{Online: true, Vitals: disk(94),
			Trends: map[string]series.Trend{"/srv": {PerDay: 2, Span: 7 * 24 * time.Hour}}}, usual, Degraded, []string{"full in 3 days"}},
		"memory": {State{Online: true, Vitals: &device.Vitals{Memory: 98, MemoryBytes: 8 << 30, MemoryUsedBytes: 8<<30 - 150<<20}},
			usual, Failing, []string{"Memory is 98 % in use: 150 MiB of 8 GiB left."}},
		"wrong clock": {State{Online: true, Skew: -370 * 24 * time.Hour}, usual, Healthy, []string{"Its clock is 370 days behind."}},
		"second":      {State{Online: true, Conflict: now.Add(-time.Minute)}, usual, Degraded, []string{"second computer"}},
		"too much": {State{Online: true, Exceeded: now.Add(-time.Minute), ExceededWhat: "calls"}, usual, Degraded,
			[]string{"too many calls"}},
		"no more":       {State{Online: true, Exceeded: now.Add(-2 * time.Hour), ExceededWhat: "calls"}, usual, Healthy, nil},
		"second, ended": {State{Online: true, Conflict: now.Add(-time.Hour)}, usual, Healthy, nil},
		"hot": {State{Online: true, Vitals: &device.Vitals{Temperatures: []device.Temperature{{Sensor: "soc", Celsius: 91}}}},
			usual, Failing, []string{"Sensor soc is at 91 °C, above its limit of 90 °C."}},
		"frozen": {State{Online: true, Vitals: &device.Vitals{Temperatures: []device.Temperature{{Sensor: "soc", Celsius: -25}}}},
			usual, Degraded, []string{"below its limit of -20 °C"}},
		"slow fan": {State{Online: true, Vitals: sensor(device.SensorFan, 100)}, usual, Degraded,
			[]string{"Fan a turns at 100 rpm, below its limit of 250 rpm."}},
		"no fan":  {State{Online: true, Vitals: &device.Vitals{}}, usual, Healthy, nil},
		"battery": {State{Online: true, Vitals: sensor(device.SensorBattery, 4)}, usual, Failing, []string{"Battery a holds 4 %."}},
		"voltage": {State{Online: true, Vitals: sensor(device.SensorVoltage, 10.4)},
			set(t, Setting{Check: "voltage", Below: above(11, 10)}), Degraded, []string{"Voltage a is 10.40 V, below its limit of 11 V."}},
		"slow log-on": {State{Online: true, Vitals: &device.Vitals{LogOn: &device.LogOn{Person: "Wren", Seconds: 95}}}, usual, Degraded,
			[]string{"Logging on took 95 seconds for Wren."}},
		"firewall": {State{Online: true, Safety: safe("firewall", "state", "off")}, usual, Degraded, []string{"Its firewall is off."}},
		"encryption": {State{Online: true, Safety: safe("encryption C:", "state", "off")}, usual, Healthy,
			[]string{"Disk C: is not encrypted."}},
		"malware": {State{Online: true, Safety: map[string]map[string]string{"malware": {"state": "out of date", "name": "Hedge"}}},
			usual, Degraded, []string{"Malware protection (Hedge) is out of date."}},
		"updates": {State{Online: true, Safety: map[string]map[string]string{"updates": {"waiting": "7", "oldest_days": "61"}}},
			usual, Degraded, []string{"7 updates wait, the oldest for 61 days."}},
		"many admins": {State{Online: true, Safety: safe("administrators", "names", "a, b, c")},
			set(t, Setting{Check: "administrators", Above: above(3, 0)}), Degraded,
			[]string{"3 people are local administrators: a, b, c."}},
		"old agent": {State{Online: true, AgentVersion: "0.9.1", NewestAgent: "0.10.0"}, usual, Healthy,
			[]string{"version 0.9.1; the newest in use is 0.10.0"}},
		"up long": {State{Online: true, Vitals: &device.Vitals{UptimeSeconds: 70 * 86400}}, usual, Healthy,
			[]string{"not been restarted for 70 days"}},
		"service": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "service", Target: "spooler", Detail: "stopped"})},
			set(t, Setting{Check: "service", Subject: "spooler", Level: Critical}), Failing, []string{"Service spooler is stopped."}},
		"cannot look": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "service", Target: "spooler", Unknown: true})},
			set(t, Setting{Check: "service", Subject: "spooler"}), Healthy, nil},
		"not asked": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "service", Target: "spooler"})}, usual, Healthy, nil},
		"unwanted": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "process", Target: "miner*", Value: 2})},
			set(t, Setting{Check: "unwanted", Subject: "miner*"}), Degraded, []string{"miner* runs 2 times and should not."}},
		"unreachable": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "tcp", Target: "db:5432",
			Detail: "connection refused"})}, set(t, Setting{Check: "tcp", Subject: "db:5432"}), Degraded,
			[]string{"db:5432 cannot be connected to: connection refused."}},
		"slow answer": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "http", Target: "https://a.example", OK: true,
			Value: 3000})}, set(t, Setting{Check: "http", Subject: "https://a.example", Above: above(2000, 0)}), Degraded,
			[]string{"answers after 3000 ms"}},
		"certificate": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "http", Target: "https://a.example", OK: true,
			Value: 3, Expires: now.Add(5 * 24 * time.Hour)})},
			set(t, Setting{Check: "certificate", Subject: "https://a.example", Below: above(21, 7)}), Failing,
			[]string{"expires in 5 days"}},
		"log": {State{Online: true, Vitals: probe(device.ProbeResult{Kind: "log", Target: "journal", Pattern: "oom", Value: 4,
			Detail: "oom killed x"})}, set(t, Setting{Check: "log", Subject: "journal", Pattern: "oom", Above: above(1, 0)}), Degraded,
			[]string{`4 lines a minute in journal match "oom". The last: oom killed x`}},
		"turned off": {State{Online: true, Vitals: disk(99)}, set(t, Setting{Check: "disk", Subject: "/srv", Off: true}), Healthy, nil},
		"by pattern": {State{Online: true, Vitals: disk(50)}, set(t, Setting{Check: "disk", Subject: "/s*", Above: above(40, 0)}),
			Degraded, []string{"50 % full"}},
	} {
		// Judged twice, an hour later, so that what must last has lasted.
		s := c.state
		if !s.Online {
			s.Since = now.Add(-time.Hour)
		}
		_, before := Judge(&s, c.set, nil, now.Add(-time.Hour))
		if s.Safety != nil || s.AgentVersion != "" {
			_, before = Judge(&s, c.set, nil, now.Add(-30*24*time.Hour))
		}
		got, found := Judge(&s, c.set, before, now)
		if got != c.want || len(found) != len(c.texts) {
			t.Errorf("%s: %s with %+v", name, got, found)
			continue
		}
		for i, text := range c.texts {
			if !strings.Contains(found[i].Message, text) {
				t.Errorf("%s: finding %d says %q, want %q", name, i, found[i].Message, text)
			}
			if found[i].Pending || NextStep(found[i].Check) == "" {
				t.Errorf("%s: %+v", name, found[i])
			}
		}
	}
}

// What will be full is since when it would have been foretold.
func TestDiskDaysSince(t *testing.T) {
	for days, c := range map[int64]time.Duration{3: 4 * 24 * time.Hour, 1: 24 * time.Hour, 10: 4 * 24 * time.Hour} {
		s := State{Online: true, Vitals: disk(100 - days), Trends: map[string]series.Trend{"/srv": {PerDay: 1, Span: 6 * 24 * time.Hour}}}
		_, found := Judge(&s, usual, nil, now)
		i := slices.IndexFunc(found, func(f Finding) bool { return f.Check == "disk-days" })
		if i < 0 || !found[i].Since.Equal(now.Add(-c)) {
			t.Errorf("full in %d days: %+v", days, found)
		}
	}
}

// A disk that swings about a limit has one finding, from when it first crossed it.
func TestHysteresis(t *testing.T) {
	var before []Finding
	at := now
	for i, step := range []struct {
		percent int64
		want    Level
	}{{89, ""}, {90, Warning}, {89, Warning}, {94, Warning}, {95, Critical}, {94, Critical}, {92, Warning}, {88, Warning}, {87, ""},
		{89, ""}} {
		at = at.Add(time.Minute)
		_, found := Judge(&State{Online: true, Vitals: disk(step.percent)}, usual, before, at)
		var got Level
		if len(found) > 0 {
			got = found[0].Level
			if !found[0].Since.Equal(now.Add(2 * time.Minute)) {
				t.Errorf("step %d: since %s", i, found[0].Since)
			}
		}
		if got != step.want {
			t.Errorf("step %d: %d %% gives %q, want %q", i, step.percent, got, step.want)
		}
		before = found
	}
}

// A state counts once it has lasted, a rise to a higher level as well, and a moment's peak never.
func TestMustLast(t *testing.T) {
	checks := set(t, Setting{Check: "memory", Above: above(90, 97), ForSeconds: 60})
	var before []Finding
	for i, step := range []struct {
		second  int
		memory  float64
		level   Level
		pending bool
		want    Condition
	}{{0, 95, Warning, true, Healthy}, {30, 99, Critical, true, Healthy}, {59, 95, Warning, true, Healthy},
		{61, 95, Warning, false, Degraded},
		{70, 99, Warning, false, Degraded}, {100, 99, Warning, false, Degraded}, {131, 99, Critical, false, Failing},
		{140, 95, Warning, false, Degraded},
		{150, 99, Warning, false, Degraded}, {160, 95, Warning, false, Degraded}, {170, 50, "", false, Healthy}} {
		at := now.Add(time.Duration(step.second) * time.Second)
		got, found := Judge(&State{Online: true, Vitals: &device.Vitals{Memory: step.memory}}, checks, before, at)
		var level Level
		pending := false
		if len(found) > 0 {
			level, pending = found[0].Level, found[0].Pending
			if pending != found[0].Due.After(at) && found[0].Rising == "" {
				t.Errorf("step %d: due at %s", i, found[0].Due)
			}
		}
		if got != step.want || level != step.level || pending != step.pending {
			t.Errorf("step %d: %s, %q, pending %t; want %s, %q, %t", i, got, level, pending, step.want, step.level, step.pending)
		}
		before = found
	}
}

// The nearest policy wins, setting by setting, and is named.
func TestResolve(t *testing.T) {
	limit := func(v float64) Setting { return Setting{Check: "cpu", Above: above(v, 0)} }
	policies := []Policy{
		{ID: "d", Name: "device", Scope: Scope{Device, "7"}, Settings: []Setting{limit(5)}},
		{ID: "e", Name: "all", Scope: Scope{Kind: Everywhere}, Settings: []Setting{limit(1), {Check: "swap", Off: true}}},
		{ID: "s", Name: "site", Scope: Scope{Site, "hay"}, Settings: []Setting{limit(3)}},
		{ID: "o", Name: "organisation", Scope: Scope{Organisation, "lark"}, Settings: []Setting{limit(2)}},
		{ID: "g", Name: "group", Scope: Scope{Group, "desks"},
			Settings: []Setting{limit(4), {Check: "disk", Subject: "C:", Above: above(70, 0)}}},
	}
	for _, c := range []struct {
		place Place
		want  float64
		from  string
	}{{Place{Device: "1"}, 1, "all"}, {Place{Device: "1", Organisation: "lark"}, 2, "organisation"},
		{Place{Device: "1", Organisation: "lark", Site: "hay"}, 3, "site"},
		{Place{Organisation: "lark", Site: "hay", Groups: []string{"desks"}}, 4, "group"},
		{Place{Device: "7", Site: "hay", Groups: []string{"desks"}}, 5, "device"}} {
		s := Resolve(policies, &c.place)
		got := s.one("cpu")
		if *got.Above.Warning != c.want || got.Source.Name != c.from || s.one("swap") != nil {
			t.Errorf("%+v: %g from %q", c.place, *got.Above.Warning, got.Source.Name)
		}
	}
	s := Resolve(policies, &Place{Groups: []string{"desks"}})
	if *s.find("disk", "C:").Above.Warning != 70 || *s.find("disk", "D:").Above.Warning != 90 {
		t.Error("a setting for one disk is not told from that for all")
	}
}

func TestValidate(t *testing.T) {
	for text, s := range map[string]Setting{
		"there is no check":           {Check: "nonsense"},
		"at least one limit":          {Check: "cpu"},
		"must rise":                   {Check: "cpu", Above: above(95, 90)},
		"must fall":                   {Check: "battery", Below: above(5, 12)},
		"needs one service":           {Check: "service"},
		"only a level":                {Check: "firewall", Above: above(1, 2)},
		"needs a pattern":             {Check: "log", Subject: "journal"},
		"regular expression":          {Check: "log", Subject: "journal", Pattern: "("},
		"none of notice, warning and": {Check: "firewall", Level: "loud"},
		"looked at every 10 s":        {Check: "ping", Subject: "a", EverySeconds: 1},
	} {
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%+v: %v, want %q", s, err, text)
		}
	}
	for _, k := range Kinds {
		if k.Usual != nil {
			if err := k.Usual.Validate(); err != nil {
				t.Errorf("the usual setting of %s: %v", k.Name, err)
			}
		}
	}
}
