package device

import (
	"strings"

	"moorwatch.example/core/series"
)

// Kind describes one kind of reading.
type Kind struct {
	Name    string         `json:"name"`
	Title   string         `json:"title"`        // as a person reads it
	Unit    string         `json:"unit"`         // "%", "B/s", "ms", "°C", "rpm", "V", "s", "/s" or ""
	Of      string         `json:"of,omitempty"` // what it is read of, where a device has several: "disk", "sensor", "probe"
	Quantum series.Quantum `json:"-"`            // how finely its history is kept
}

// Kinds are all kinds of reading whose history is kept, in the order in which they are shown.
var Kinds = []Kind{
	{"cpu", "Processor", "%", "", series.Quantum{Step: 0.1}},
	{"memory", "Memory", "%", "", series.Quantum{Step: 0.1}},
	{"swap", "Swap", "%", "", series.Quantum{Step: 0.1}},
	{"load", "Load", "", "", series.Quantum{Step: 0.01}},
	{"disk", "Disk in use", "%", "disk", series.Quantum{Step: 0.01}},
	{"latency", "Disk latency", "ms", "disk", series.Quantum{Relative: 0.02}},
	{"receive", "Received", "B/s", "", series.Quantum{Relative: 0.02}},
	{"transmit", "Transmitted", "B/s", "", series.Quantum{Relative: 0.02}},
	{"errors", "Network errors", "/s", "", series.Quantum{Relative: 0.02}},
	{"temperature", "Temperature", "°C", "sensor", series.Quantum{Step: 0.1}},
	{"fan", "Fan", "rpm", "sensor", series.Quantum{Step: 10}},
	{"voltage", "Voltage", "V", "sensor", series.Quantum{Step: 0.01}},
	{"battery", "Battery", "%", "sensor", series.Quantum{Step: 1}},
	{"log-on", "Log-on", "s", "", series.Quantum{Step: 0.1}},
	{"failed-log-ons", "Failed log-ons", "", "", series.Quantum{Step: 1}},
	{"start", "Start of the device", "s", "", series.Quantum{Step: 0.1}},
	{"crashes", "Crashes of programs in a day", "", "", series.Quantum{Step: 1}},
	{"since-crash", "Since the last crash", "s", "", series.Quantum{Relative: 0.02}},
	{"reach", "Answer time", "ms", "probe", series.Quantum{Relative: 0.02}},
	{"spool", "Reports kept at the device", "", "", series.Quantum{Step: 1}},
}

var kinds = func() map[string]Kind {
	m := map[string]Kind{}
	for _, k := range Kinds {
		m[k.Name] = k
	}
	return m
}()

// KindOf finds the kind of a reading, by the reading's full name.
func KindOf(reading string) (k Kind, ok bool) {
	name, _ := SplitReading(reading)
	k, ok = kinds[name]
	return k, ok
}

// JoinReading writes the full name of a reading: its kind, and after a space what it is read of.
func JoinReading(kind, subject string) string {
	if subject == "" {
		return kind
	}
	return kind + " " + subject
}

// SplitReading takes a full name apart.
func SplitReading(reading string) (kind, subject string) {
	kind, subject, _ = strings.Cut(reading, " ")
	return kind, subject
}

// QuantumOf is how finely a reading, or a column that a reading was rolled up into, is kept.
func QuantumOf(column string) series.Quantum {
	if column == series.CountColumn {
		return series.Exact
	}
	if k, ok := KindOf(series.Reading(column)); ok {
		return k.Quantum
	}
	return series.Quantum{Relative: 0.01}
}

// Readings yields every reading of v whose history is kept, by its full name.
func (v *Vitals) Readings(yield func(name string, value float64)) {
	yield("cpu", v.CPU)
	yield("memory", v.Memory)
	yield("swap", v.Swap)
	yield("load", v.Load1)
	for i := range v.Disks {
		d := &v.Disks[i]
		yield(JoinReading("disk", d.Mount), d.Percent())
		if d.LatencyMS != nil {
			yield(JoinReading("latency", d.Mount), *d.LatencyMS)
		}
	}
	yield("receive", v.Receive)
	yield("transmit", v.Transmit)
	yield("errors", v.NetworkErrors)
	for _, t := range v.Temperatures {
		yield(JoinReading("temperature", t.Sensor), t.Celsius)
	}
	for _, s := range v.Sensors {
		if _, ok := kinds[s.Kind]; ok {
			yield(JoinReading(s.Kind, s.Name), s.Value)
		}
	}
	if v.LogOn != nil {
		yield("log-on", v.LogOn.Seconds)
	}
	if v.FailedLogOns != nil {
		yield("failed-log-ons", *v.FailedLogOns)
	}
	if v.StartSeconds != nil {
		yield("start", *v.StartSeconds)
	}
	if v.Crashes != nil {
		yield("crashes", *v.Crashes)
	}
	if v.Crash != nil {
		yield("since-crash", max(v.At.Sub(v.Crash.At).Seconds(), 0))
	}
	for _, p := range v.Probes {
		switch p.Kind {
		case ProbePing, ProbeTCP, ProbeHTTP, ProbeDNS:
			if p.OK {
				yield(JoinReading("reach", p.Kind+" "+p.Target), p.Value)
			}
		}
	}
	if v.SpoolReports > 0 {
		yield("spool", float64(v.SpoolReports))
	}
}
