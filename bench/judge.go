package main

import (
	"fmt"
	"runtime"
	"time"

	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/series"
)

// judge measures how long it takes to judge 10,000 devices by sixty checks each, on one core.
func (b *bench) judge() error {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	state, set := sixty()
	var all []float64
	for range 5 {
		began := time.Now()
		for range 10_000 {
			health.Judge(state, set, nil, began)
		}
		all = append(all, time.Since(began).Seconds())
	}
	b.figure("10000 devices by 60 checks", median(all), "s", 1, true)
	return nil
}

// sixty is a device with sixty checks over what it reports, a few of which have findings.
func sixty() (*health.State, *health.Set) {
	v := &device.Vitals{CPU: 12, Memory: 93, MemoryBytes: 8 << 30, MemoryUsedBytes: 7 << 30, Swap: 3, UptimeSeconds: 86400}
	var settings []health.Setting
	limits := func(warning, critical float64) *health.Limits {
		return &health.Limits{Warning: &warning, Critical: &critical}
	}
	for i := range 8 {
		mount := fmt.Sprint("/srv/", i)
		latency := 3.0
		v.Disks = append(v.Disks, device.Disk{Mount: mount, TotalBytes: 1e12, UsedBytes: int64(i) * 12e10, LatencyMS: &latency})
		settings = append(settings, health.Setting{Check: "disk", Subject: mount, Above: limits(90, 95), Back: 2},
			health.Setting{Check: "latency", Subject: mount, Above: limits(100, 500)})
		v.Temperatures = append(v.Temperatures, device.Temperature{Sensor: fmt.Sprint("core-", i), Celsius: 45})
	}
	for i := range 12 {
		name := fmt.Sprint("service-", i)
		settings = append(settings, health.Setting{Check: "service", Subject: name})
		v.Probes = append(v.Probes, device.ProbeResult{Kind: device.ProbeService, Target: name, OK: i != 3, Value: 1})
	}
	for i := range 6 {
		host := fmt.Sprintf("192.0.2.%d:443", i)
		settings = append(settings, health.Setting{Check: "tcp", Subject: host, Above: limits(100, 500)})
		v.Probes = append(v.Probes, device.ProbeResult{Kind: device.ProbeTCP, Target: host, OK: true, Value: 8})
	}
	set := health.Resolve([]health.Policy{{Name: "sixty", Scope: health.Scope{Kind: health.Everywhere}, Settings: settings}},
		&health.Place{})
	if n := len(set.Settings()); n != 60 {
		panic(fmt.Sprintf("there are %d checks", n)) // the usual set changed: keep this one at sixty
	}
	return &health.State{Online: true, Vitals: v, Trends: map[string]series.Trend{"/srv/1": {PerDay: 0.1, Span: 7 * 24 * time.Hour}},
		Safety: map[string]map[string]string{"firewall": {"state": "on"}, "malware": {"state": "current"},
			"updates": {"waiting": "2", "oldest_days": "4"}}}, set
}
