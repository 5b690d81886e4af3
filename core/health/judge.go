package health

import (
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/versions"
)

// presence judges the agent itself: whether it is heard from, whether it is alone, how old it is.
func (j *judging) presence() {
	if s := j.set.one(CheckSilent); !j.Online && !j.Waiting && s != nil {
		j.add(s, "", levelOf(s, Warning), j.Since, func() string { return "Not heard from: its agent is not connected." })
	}
	if s := j.set.one(CheckIdentity); s != nil && !j.Conflict.IsZero() && j.now.Sub(j.Conflict) < conflictLasts {
		j.add(s, "", levelOf(s, Warning), j.now, func() string {
			return "A second computer shows this device's identity and is refused: was its disk or its agent's folder copied?"
		})
		j.found[len(j.found)-1].Due = j.Conflict.Add(conflictLasts)
	}
	if s := j.set.one(CheckIdentity); s != nil && j.Asked != "" {
		j.add(s, "question", levelOf(s, Warning), j.AskedSince, func() string { return j.Asked })
	}
	if s := j.set.one(CheckBudget); s != nil && !j.Exceeded.IsZero() && j.now.Sub(j.Exceeded) < exceededLasts {
		j.add(s, "", levelOf(s, Warning), j.now, func() string {
			return "It sends too many " + j.ExceededWhat + " and is slowed: is what runs there still its agent?"
		})
		j.found[len(j.found)-1].Due = j.Exceeded.Add(exceededLasts)
	}
	if s := j.set.one("agent"); s != nil && j.AgentVersion != "" && olderVersion(j.AgentVersion, j.NewestAgent) {
		j.add(s, "", levelOf(s, Notice), j.now, func() string {
			return fmt.Sprintf("Its agent has version %s; the newest in use is %s.", j.AgentVersion, j.NewestAgent)
		})
	}
	if s := j.set.one(CheckClock); s != nil && j.Online {
		j.limit(s, "", j.Skew.Abs().Seconds(), func(float64, bool) string {
			return fmt.Sprintf("Its clock is %s %s.", span(j.Skew.Abs()), map[bool]string{true: "ahead", false: "behind"}[j.Skew > 0])
		})
	}
}

func levelOf(s *Resolved, usual Level) Level {
	if s.Level == "" {
		return usual
	}
	return s.Level
}

// limit judges a value by its limits.
func (j *judging) limit(s *Resolved, subject string, value float64, message func(crossed float64, above bool) string) {
	level, crossed, above := s.limit(value, j.level(s.Check, subject))
	if level != "" {
		j.add(s, subject, level, j.now, func() string { return message(crossed, above) })
	}
}

// reading judges one reading by the check of its kind.
func (j *judging) reading(name string, value float64) {
	kind, subject := device.SplitReading(name)
	k := byReading[kind]
	if k == nil {
		return
	}
	s := j.set.find(k.Name, subject)
	if s == nil {
		return
	}
	level, crossed, above := s.limit(value, j.level(k.Name, subject))
	if level == "" {
		return
	}
	j.add(s, subject, level, j.now, func() string { return j.sentence(k, subject, value, crossed, above) })
}

// sentence says what is wrong with a reading, in the reader's words.
func (j *judging) sentence(k *Kind, subject string, value, crossed float64, above bool) string {
	v := j.Vitals
	side := map[bool]string{true: "above", false: "below"}[above]
	switch k.Name {
	case CheckDisk:
		if v != nil {
			for _, d := range v.Disks {
				if d.Mount == subject {
					return fmt.Sprintf("Disk %s is %.0f %% full: %s of %s left.", subject, value, Bytes(d.TotalBytes-d.UsedBytes),
						Bytes(d.TotalBytes))
				}
			}
		}
		return fmt.Sprintf("Disk %s is %.0f %% full.", subject, value)
	case CheckMemory:
		if v != nil && v.MemoryBytes > 0 {
			return fmt.Sprintf("Memory is %.0f %% in use: %s of %s left.", value, Memory(v.MemoryBytes-v.MemoryUsedBytes),
				Memory(v.MemoryBytes))
		}
		return fmt.Sprintf("Memory is %.0f %% in use.", value)
	case "cpu":
		if v != nil && v.Busiest != nil && v.Busiest.CPU > 20 {
			return fmt.Sprintf("Its processors are %.0f %% busy, %.0f %% with %s.", value, v.Busiest.CPU, v.Busiest.Name)
		}
		return fmt.Sprintf("Its processors are %.0f %% busy.", value)
	case "swap":
		return fmt.Sprintf("Swap is %.0f %% in use: its programs wait for the disk.", value)
	case "latency":
		return fmt.Sprintf("Disk %s takes %s ms for a read or write.", subject, short(value))
	case "errors":
		return fmt.Sprintf("Its network loses or breaks %s packets a second.", short(value))
	case "temperature":
		if above {
			return fmt.Sprintf("Sensor %s is at %.0f °C, above its limit of %s °C.", subject, value, short(crossed))
		}
		return fmt.Sprintf("Sensor %s is at %.0f °C, below its limit of %s °C.", subject, value, short(crossed))
	case "fan":
		return fmt.Sprintf("Fan %s turns at %.0f rpm, %s its limit of %s rpm.", subject, value, side, short(crossed))
	case "voltage":
		return fmt.Sprintf("Voltage %s is %.2f V, %s its limit of %s V.", subject, value, side, short(crossed))
	case "battery":
		return fmt.Sprintf("Battery %s holds %.0f %%.", subject, value)
	case "log-on":
		if v != nil && v.LogOn != nil && v.LogOn.Person != "" {
			return fmt.Sprintf("Logging on took %s for %s.", span(time.Duration(value*float64(time.Second))), v.LogOn.Person)
		}
		return fmt.Sprintf("Logging on took %s.", span(time.Duration(value*float64(time.Second))))
	case "failed-log-ons":
		return fmt.Sprintf("%.0f log-ons failed within ten minutes.", value)
	case "spool":
		return fmt.Sprintf("%.0f reports are kept at the device and not sent yet.", value)
	}
	return fmt.Sprintf("%s is %s %s, %s its limit of %s.", k.Title, short(value), k.Unit, side, short(crossed))
}

// more judges what the last report tells beyond single readings.
func (j *judging) more() {
	v := j.Vitals
	for mount, trend := range j.Trends {
		for i := range v.Disks {
			if d := &v.Disks[i]; d.Mount == mount {
				j.diskDays(d, trend.PerDay/100*float64(d.TotalBytes), trend.Span)
			}
		}
	}
	if s := j.set.one("uptime"); s != nil && j.Online {
		days := float64(v.UptimeSeconds) / 86400
		j.limit(s, "", days, func(float64, bool) string { return fmt.Sprintf("It has not been restarted for %.0f days.", days) })
	}
	if p := v.Busiest; p != nil {
		if s := j.set.find("process-cpu", p.Name); s != nil {
			j.limit(s, p.Name, p.CPU, func(float64, bool) string {
				return fmt.Sprintf("%s uses %.0f %% of all processors, with %s of memory.", p.Name, p.CPU, Memory(p.MemoryBytes))
			})
		}
	}
}

// leastGrowth is the share of a disk that must fill in a day for its trend to count.
const leastGrowth = 0.001

func (j *judging) diskDays(d *device.Disk, perDay float64, over time.Duration) {
	s := j.set.find(checkDiskDays, d.Mount)
	left := float64(d.TotalBytes - d.UsedBytes)
	if s == nil || perDay < leastGrowth*float64(d.TotalBytes) {
		return
	}
	days := left / perDay
	level, crossed, _ := s.limit(days, j.level(s.Check, d.Mount))
	if level == "" {
		return
	}
	// At this rate it crossed the limit so long ago; no earlier than the rate is known for.
	since := j.now.Add(-min(max(time.Duration((crossed-days)*24*float64(time.Hour)), 0), over))
	j.add(s, d.Mount, level, since, func() string {
		rate := "at this week's rate"
		if over < 5*24*time.Hour {
			rate = "at the rate of the last " + span(over)
		}
		return fmt.Sprintf("Disk %s full in %s %s: %s of %s left.", d.Mount, inDays(days), rate, Bytes(int64(left)), Bytes(d.TotalBytes))
	})
}

func inDays(days float64) string {
	switch {
	case days < 1.0/24:
		return "less than an hour"
	case days < 2:
		return fmt.Sprintf("%.0f hours", days*24)
	}
	return fmt.Sprintf("%.0f days", days)
}

// safety judges what the inventory tells of a device's safety. What a device does not tell is not
// held against it.
func (j *judging) safety() {
	get := func(item, attribute string) (string, bool) { v, ok := j.Safety[item][attribute]; return v, ok }
	if s := j.set.one("firewall"); s != nil {
		if v, ok := get("firewall", "state"); ok && v != "on" {
			j.add(s, "", levelOf(s, Warning), j.now, func() string { return "Its firewall is " + v + "." })
		}
	}
	for item, a := range j.Safety {
		disk, ok := strings.CutPrefix(item, "encryption ")
		if s := j.set.find("encryption", disk); ok && s != nil && a["state"] == "off" {
			j.add(s, disk, levelOf(s, Notice), j.now, func() string { return fmt.Sprintf("Disk %s is not encrypted.", disk) })
		}
	}
	if s := j.set.one("malware"); s != nil {
		if v, ok := get("malware", "state"); ok && v != "current" {
			j.add(s, "", levelOf(s, Warning), j.now, func() string {
				if name := j.Safety["malware"]["name"]; name != "" {
					return fmt.Sprintf("Malware protection (%s) is %s.", name, v)
				}
				return fmt.Sprintf("Malware protection is %s.", v)
			})
		}
	}
	if s := j.set.one("administrators"); s != nil {
		if names, ok := get("administrators", "names"); ok {
			n := len(strings.FieldsFunc(names, func(r rune) bool { return r == ',' }))
			j.limit(s, "", float64(n), func(float64, bool) string {
				return fmt.Sprintf("%d people are local administrators: %s.", n, names)
			})
		}
	}
	if s := j.set.one("restart"); s != nil {
		if v, ok := get("restart", "state"); ok && v == "pending" {
			j.add(s, "", levelOf(s, Notice), j.now, func() string {
				if why := j.Safety["restart"]["reason"]; why != "" {
					return "A restart is pending: " + why + "."
				}
				return "A restart is pending."
			})
		}
	}
	if s := j.set.one("updates"); s != nil {
		days, err := strconv.ParseFloat(j.Safety["updates"]["oldest_days"], 64)
		if err == nil {
			j.limit(s, "", days, func(float64, bool) string {
				return fmt.Sprintf("%s updates wait, the oldest for %.0f days.", j.Safety["updates"]["waiting"], days)
			})
		}
	}
}

// software judges which software a device has, and has not. Where that is not known yet nothing is held
// against it.
func (j *judging) software() {
	if j.Software == nil {
		return
	}
	for _, s := range j.set.byCheck[CheckSoftware] {
		if s.Off {
			continue
		}
		if !s.Absent {
			version, there := j.Software.Version(s.Subject)
			switch {
			case !there:
				j.add(s, s.Subject, levelOf(s, Notice), j.now,
					func() string { return fmt.Sprintf("%s is wanted, and is not installed.", s.Subject) })
			case s.Value != "" && versions.Debian(version, s.Value) < 0:
				j.add(s, s.Subject, levelOf(s, Notice), j.now, func() string {
					return fmt.Sprintf("%s is installed in version %s, and wanted in %s or later.", s.Subject, version, s.Value)
				})
			}
			continue
		}
		found := []string{s.Subject}
		if !s.exact {
			found = slices.DeleteFunc(j.Software.Names(), func(n string) bool { ok, _ := path.Match(s.Subject, n); return !ok })
		}
		for _, name := range found {
			if version, there := j.Software.Version(name); there && j.set.find(CheckSoftware, name) == s {
				j.add(s, name, levelOf(s, Warning), j.now, func() string {
					return fmt.Sprintf("%s is installed, in version %s, and not wanted here.", name, version)
				})
			}
		}
	}
}

// probes judges what the agent was asked to look at.
func (j *judging) probes() {
	for i := range j.Vitals.Probes {
		p := &j.Vitals.Probes[i]
		if p.Unknown {
			continue // what a device cannot look at is not held against it
		}
		switch p.Kind {
		case device.ProbeService:
			j.probe("service", p, !p.OK, func() string {
				return fmt.Sprintf("Service %s is %s.", p.Target,
					orElse(p.Detail, "not running"))
			})
		case device.ProbeProcess:
			j.probe("unwanted", p, p.Value > 0, func() string {
				return fmt.Sprintf("%s runs %s.", p.Target, times(p.Value))
			})
			j.measure("process-memory", p, float64(p.Memory)/(1<<20),
				func() string { return fmt.Sprintf("%s uses %s of memory.", p.Target, Memory(p.Memory)) })
			j.measure("process-cpu", p, p.CPU, func() string { return fmt.Sprintf("%s uses %.0f %% of all processors.", p.Target, p.CPU) })
		case device.ProbePing, device.ProbeTCP, device.ProbeHTTP, device.ProbeDNS:
			if !p.OK {
				j.probe(p.Kind, p, true, func() string { return fmt.Sprintf("%s: %s.", unreachable(p), orElse(p.Detail, "no answer")) })
				continue
			}
			j.measure(p.Kind, p, p.Value, func() string { return fmt.Sprintf("%s answers after %s ms.", p.Target, short(p.Value)) })
			if !p.Expires.IsZero() {
				days := p.Expires.Sub(j.now).Hours() / 24
				j.measure("certificate", p, days, func() string {
					if days < 0 {
						return fmt.Sprintf("The certificate of %s expired %s ago.", p.Target, inDays(-days))
					}
					return fmt.Sprintf("The certificate of %s expires in %s.", p.Target, inDays(days))
				})
			}
		case device.ProbeSetting:
			if s := j.set.exact(CheckSetting, p.Target); s != nil && (p.OK == s.Absent || p.OK && p.Detail != s.Value) {
				j.add(s, p.Target, levelOf(s, Notice), j.now, func() string {
					switch {
					case s.Absent:
						return fmt.Sprintf("%s is %q, and must not be set.", p.Target, p.Detail)
					case !p.OK:
						return fmt.Sprintf("%s is not set, and must be %q.", p.Target, s.Value)
					}
					return fmt.Sprintf("%s is %q, and must be %q.", p.Target, p.Detail, s.Value)
				})
			}
		case device.ProbeLog:
			if s := j.pattern(p); s != nil {
				j.limit(s, p.Target+": "+p.Pattern, p.Value, func(_ float64, over bool) string {
					return matchingLines(p, over)
				})
			}
		}
	}
}

// matchingLines says how often a pattern stands in a log.
func matchingLines(p *device.ProbeResult, over bool) string {
	rate := short(p.Value) + " lines a minute"
	if p.Value < 1 {
		rate = short(p.Value*60) + " lines an hour"
	}
	if !over {
		rate = "Only " + rate
	}
	text := fmt.Sprintf("%s in %s match %q.", rate, p.Target, p.Pattern)
	if over && p.Detail != "" {
		text += " The last: " + p.Detail
	}
	return text
}

// probe judges a probe that is either well or not.
func (j *judging) probe(check string, p *device.ProbeResult, wrong bool, message func() string) {
	if s := j.set.exact(check, p.Target); s != nil && wrong {
		j.add(s, p.Target, levelOf(s, Warning), j.now, message)
	}
}

// measure judges a probe's number.
func (j *judging) measure(check string, p *device.ProbeResult, value float64, message func() string) {
	if s := j.set.exact(check, p.Target); s != nil {
		j.limit(s, p.Target, value, func(float64, bool) string { return message() })
	}
}

// exact finds the setting that asked for a probe: its subject is the target.
func (s *Set) exact(check, target string) *Resolved {
	for _, r := range s.byCheck[check] {
		if r.Subject == target && !r.Off {
			return r
		}
	}
	return nil
}

func (j *judging) pattern(p *device.ProbeResult) *Resolved {
	for _, r := range j.set.byCheck["log"] {
		if r.Subject == p.Target && r.Pattern == p.Pattern && !r.Off {
			return r
		}
	}
	return nil
}

func unreachable(p *device.ProbeResult) string {
	switch p.Kind {
	case device.ProbePing:
		return p.Target + " does not answer to ping"
	case device.ProbeTCP:
		return p.Target + " cannot be connected to"
	case device.ProbeDNS:
		return p.Target + " does not resolve"
	}
	return p.Target + " does not answer as it should"
}

func times(n float64) string {
	if n == 1 {
		return "and should not"
	}
	return fmt.Sprintf("%.0f times and should not", n)
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return strings.TrimSuffix(s, ".")
}

// short writes a number with as many digits as matter.
func short(v float64) string {
	if math.Abs(v) >= 100 || v == math.Trunc(v) {
		return strconv.FormatFloat(v, 'f', 0, 64)
	}
	return strconv.FormatFloat(v, 'g', 2, 64)
}

// olderVersion compares versions of numbers between dots; false where either cannot be read.
func olderVersion(a, b string) bool {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(x), len(y)) {
		p, errP := strconv.Atoi(x[i])
		q, errQ := strconv.Atoi(y[i])
		if errP != nil || errQ != nil {
			return false
		}
		if p != q {
			return p < q
		}
	}
	return false
}

// NewestVersion is the newest of versions of numbers between dots; "" for none.
func NewestVersion(versions []string) (newest string) {
	for _, v := range versions {
		if newest == "" || olderVersion(newest, v) {
			newest = v
		}
	}
	return newest
}
