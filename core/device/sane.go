package device

import (
	"fmt"
	"math"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Limits of what an agent may report. What is longer is cut; what is out of range is refused.
const (
	MaxName    = 63  // characters of a device name, the length of a DNS label (RFC 1035)
	MaxText    = 255 // characters of any other reported text
	MaxEntries = 256 // disks, sensors, people, addresses or capabilities of one device
)

// CleanName makes a name safe to show and to type: control characters, invisible format
// characters (right-to-left marks, joiners) and invalid UTF-8 are dropped, runs of white space
// become one space, and what is longer than MaxName characters is cut. Quotes and any script's
// letters stay. An empty result becomes "unnamed".
func CleanName(s string) string {
	if s = clean(s, MaxName); s == "" {
		return "unnamed"
	}
	return s
}

func clean(s string, most int) string {
	var b strings.Builder
	n, space := 0, false
	for _, r := range s {
		switch {
		case n == most:
			return b.String()
		case unicode.IsSpace(r):
			space = n > 0
			continue
		case r == utf8.RuneError || unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Co, unicode.Cs):
			continue
		}
		if space {
			if n+1 == most {
				return b.String()
			}
			b.WriteByte(' ')
			n++
		}
		space = false
		b.WriteRune(r)
		n++
	}
	return b.String()
}

func cleanList(list []string) []string {
	kept := make([]string, 0, min(len(list), MaxEntries))
	for _, s := range list {
		if len(kept) == MaxEntries {
			break
		}
		if s = clean(s, MaxText); s != "" {
			kept = append(kept, s)
		}
	}
	return kept
}

// Clean returns f with every text safe to show and of bounded length, and every number in range.
func (f Facts) Clean() Facts {
	f.HostName = CleanName(f.HostName)
	for _, s := range []*string{&f.OS, &f.OSName, &f.OSVersion, &f.Kernel, &f.Arch, &f.Vendor, &f.Model,
		&f.Serial, &f.CPUModel, &f.TimeZone, &f.AgentVersion} {
		*s = clean(*s, MaxText)
	}
	f.Cores = min(max(f.Cores, 0), 1<<16)
	f.MemoryBytes = min(max(f.MemoryBytes, 0), 1<<50)
	f.Addresses, f.Capabilities, f.Hardware = cleanList(f.Addresses), cleanList(f.Capabilities), CleanHardware(f.Hardware)
	if y := f.BootedAt.Year(); y < 1970 || y > 9999 {
		f.BootedAt = f.BootedAt.Truncate(0).UTC().AddDate(-y+1970, 0, 0)
	}
	return f
}

// Check returns v with its texts cleaned, or an error that names the first reading no device
// can have.
func (v Vitals) Check() (Vitals, error) {
	for _, r := range []struct {
		name     string
		value    float64
		from, to float64
	}{
		{"cpu", v.CPU, 0, 100}, {"memory", v.Memory, 0, 100}, {"swap", v.Swap, 0, 100},
		{"load1", v.Load1, 0, 1e6}, {"receive", v.Receive, 0, 1e13}, {"transmit", v.Transmit, 0, 1e13},
		{"memory_bytes", float64(v.MemoryBytes), 0, 1 << 50},
		{"memory_used_bytes", float64(v.MemoryUsedBytes), 0, 1 << 50},
		{"uptime_seconds", float64(v.UptimeSeconds), 0, 100 * 366 * 86400},
		{"network_errors", v.NetworkErrors, 0, 1e9}, {"spool_reports", float64(v.SpoolReports), 0, 1e9},
	} {
		if math.IsNaN(r.value) || r.value < r.from || r.value > r.to {
			return v, fmt.Errorf("%s is %g; it must lie between %g and %g", r.name, r.value, r.from, r.to)
		}
	}
	for name, n := range map[string]int{"disks": len(v.Disks), "temperatures": len(v.Temperatures), "people": len(v.People),
		"sensors": len(v.Sensors), "probes": len(v.Probes)} {
		if n > MaxEntries {
			return v, fmt.Errorf("%d %s; at most %d are stored", n, name, MaxEntries)
		}
	}
	for i := range v.Disks {
		d := &v.Disks[i]
		d.Mount = clean(d.Mount, MaxText)
		if d.TotalBytes < 0 || d.UsedBytes < 0 || d.UsedBytes > d.TotalBytes || d.TotalBytes > 1<<60 {
			return v, fmt.Errorf("disk %q has %d of %d bytes in use", d.Mount, d.UsedBytes, d.TotalBytes)
		}
		if d.LatencyMS != nil && !within(*d.LatencyMS, 0, 1e7) {
			return v, fmt.Errorf("disk %q takes %g ms; it must lie between 0 and 10000000", d.Mount, *d.LatencyMS)
		}
	}
	for i := range v.Temperatures {
		t := &v.Temperatures[i]
		t.Sensor = clean(t.Sensor, MaxText)
		if math.IsNaN(t.Celsius) || t.Celsius < -100 || t.Celsius > 300 {
			return v, fmt.Errorf("sensor %q reads %g °C; it must lie between -100 and 300", t.Sensor, t.Celsius)
		}
	}
	for i := range v.People {
		p := &v.People[i]
		p.Name, p.Where = clean(p.Name, MaxText), clean(p.Where, MaxText)
		p.IdleSeconds = min(max(p.IdleSeconds, -1), 10*366*86400)
	}
	for i := range v.Sensors {
		s := &v.Sensors[i]
		s.Kind, s.Name = clean(s.Kind, MaxText), clean(s.Name, MaxText)
		if !within(s.Value, -1e6, 1e6) {
			return v, fmt.Errorf("%s %q reads %g; it must lie between -1000000 and 1000000", s.Kind, s.Name, s.Value)
		}
	}
	return v, v.checkMore()
}

func within(v, from, to float64) bool { return v >= from && v <= to }

// checkMore holds what only some devices report against its bounds.
func (v *Vitals) checkMore() error {
	if p := v.Busiest; p != nil {
		p.Name = clean(p.Name, MaxText)
		if !within(p.CPU, 0, 100) || p.MemoryBytes < 0 {
			return fmt.Errorf("process %q uses %g %% of the processors and %d bytes", p.Name, p.CPU, p.MemoryBytes)
		}
	}
	if l := v.LogOn; l != nil {
		l.Person = clean(l.Person, MaxText)
		if !within(l.Seconds, 0, 86400) || l.At.Year() < 1970 || l.At.Year() > 9999 {
			return fmt.Errorf("a log-on took %g s; it must lie between 0 and 86400", l.Seconds)
		}
	}
	if v.FailedLogOns != nil && !within(*v.FailedLogOns, 0, 1e9) {
		return fmt.Errorf("%g failed log-ons", *v.FailedLogOns)
	}
	if v.StartSeconds != nil && !within(*v.StartSeconds, 0, 86400) {
		return fmt.Errorf("a start took %g s; it must lie between 0 and 86400", *v.StartSeconds)
	}
	if v.Crashes != nil && !within(*v.Crashes, 0, 1e9) {
		return fmt.Errorf("%g crashes", *v.Crashes)
	}
	if c := v.Crash; c != nil {
		c.Program = clean(c.Program, MaxText)
		if c.At.Year() < 1970 || c.At.Year() > 9999 {
			return fmt.Errorf("a crash in the year %d", c.At.Year())
		}
	}
	for i := range v.Probes {
		p := &v.Probes[i]
		p.Kind, p.Target, p.Pattern, p.Detail = clean(p.Kind, MaxText), clean(p.Target, MaxText), clean(p.Pattern, MaxText),
			clean(p.Detail, MaxText)
		if !within(p.Value, 0, 1e12) || !within(p.CPU, 0, 100) || p.Memory < 0 || p.At.Year() < 1970 || p.At.Year() > 9999 ||
			p.Expires.Year() > 9999 {
			return fmt.Errorf("probe %s %q gives %g, which cannot be", p.Kind, p.Target, p.Value)
		}
	}
	return nil
}

// CleanText makes any text from a device safe to show on one line, cut to MaxText characters.
func CleanText(s string) string { return clean(s, MaxText) }

// CleanLong is CleanText for a text of up to most characters.
func CleanLong(s string, most int) string { return clean(s, most) }
