// Package portable reads facts and vitals that every system offers in much the same way. What
// only one system offers belongs in its own folder beside this one.
package portable

import (
	"context"
	"net"
	"os"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/load"
	"github.com/shirou/gopsutil/v4/mem"
	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/sensors"

	agenthost "moorwatch.example/agent/host"
	"moorwatch.example/core/device"
)

// Informer tells what every system can tell; the system's own folder adds to it with More.
type Informer struct {
	OS   string // the family, as core/device names it
	More func(f *device.Facts)
}

// Facts implements host.Informer.
func (i Informer) Facts(ctx context.Context) (device.Facts, error) {
	f := device.Facts{OS: i.OS}
	name, err := os.Hostname()
	if err != nil {
		return f, err
	}
	f.HostName = name
	if info, err := host.InfoWithContext(ctx); err == nil {
		f.OSName, f.OSVersion, f.Kernel, f.Arch = strings.TrimSpace(info.Platform), strings.TrimSpace(info.PlatformVersion),
			info.KernelVersion, info.KernelArch
		f.BootedAt = time.Unix(int64(info.BootTime), 0)
		f.Virtual = info.VirtualizationRole == "guest"
	}
	if cpus, err := cpu.InfoWithContext(ctx); err == nil && len(cpus) > 0 {
		f.CPUModel = strings.TrimSpace(cpus[0].ModelName)
	}
	if n, err := cpu.CountsWithContext(ctx, true); err == nil {
		f.Cores = n
	}
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		f.MemoryBytes = int64(m.Total)
	}
	f.TimeZone = time.Now().Format("MST -07:00")
	f.Addresses = addresses()
	if i.More != nil {
		i.More(&f)
	}
	return f, nil
}

// addresses are those that others reach the computer by; loopback and link-local ones only when
// there are no others.
func addresses() []string {
	var global, local []string
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, a := range all {
		n, ok := a.(*net.IPNet)
		switch {
		case !ok:
		case n.IP.IsGlobalUnicast():
			global = append(global, n.IP.String())
		default:
			local = append(local, n.IP.String())
		}
	}
	if len(global) == 0 {
		return local
	}
	return global
}

// Meter implements host.Meter.
type Meter struct {
	// People lists who is signed in; nil where the system's list is good enough.
	People func(ctx context.Context) []device.SignedIn

	// More adds what only the system's own folder can read.
	More func(ctx context.Context, v *device.Vitals)

	last    time.Time
	times   cpu.TimesStat
	traffic psnet.IOCountersStat
	disks   map[string]disk.IOCountersStat
	busiest Busiest
}

// Another implements host.Meter.
func (m *Meter) Another() agenthost.Meter { return &Meter{People: m.People, More: m.More} }

// firstPoll is how long the first reading's rates are taken over.
const firstPoll = 200 * time.Millisecond

// Vitals implements host.Meter.
func (m *Meter) Vitals(ctx context.Context) (device.Vitals, error) {
	if m.last.IsZero() {
		if err := m.mark(ctx); err != nil {
			return device.Vitals{}, err
		}
		select {
		case <-time.After(firstPoll):
		case <-ctx.Done():
			return device.Vitals{}, ctx.Err()
		}
	}
	before := *m
	if err := m.mark(ctx); err != nil {
		return device.Vitals{}, err
	}
	mounted, devices := disks(ctx)
	v := device.Vitals{At: m.last, Disks: mounted, Temperatures: temperatures(ctx), People: []device.SignedIn{}}
	total, idle := all(m.times)-all(before.times), m.times.Idle+m.times.Iowait-before.times.Idle-before.times.Iowait
	if total > 0 {
		v.CPU = percent(total-idle, total)
	}
	seconds := m.last.Sub(before.last).Seconds()
	if seconds > 0 {
		v.Receive = rate(before.traffic.BytesRecv, m.traffic.BytesRecv, seconds)
		v.Transmit = rate(before.traffic.BytesSent, m.traffic.BytesSent, seconds)
		v.NetworkErrors = rate(faults(before.traffic), faults(m.traffic), seconds)
	}
	v.Busiest = m.busiest.Poll(ctx, seconds)
	for i := range v.Disks {
		v.Disks[i].LatencyMS = m.latency(before.disks, v.Disks[i].Mount, devices)
	}
	if l, err := load.AvgWithContext(ctx); err == nil {
		v.Load1 = l.Load1
	}
	if r, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		v.MemoryBytes, v.MemoryUsedBytes = int64(r.Total), int64(r.Total-r.Available)
		v.Memory = percent(float64(r.Total-r.Available), float64(r.Total))
	}
	if s, err := mem.SwapMemoryWithContext(ctx); err == nil && s.Total > 0 {
		v.Swap = percent(float64(s.Used), float64(s.Total))
	}
	if up, err := host.UptimeWithContext(ctx); err == nil {
		v.UptimeSeconds = int64(up)
	}
	if m.People != nil {
		v.People = m.People(ctx)
	}
	if m.More != nil {
		m.More(ctx, &v)
	}
	return v, nil
}

func (m *Meter) mark(ctx context.Context) error {
	times, err := cpu.TimesWithContext(ctx, false)
	if err != nil {
		return err
	}
	m.last, m.times = time.Now(), times[0]
	if all, err := psnet.IOCountersWithContext(ctx, true); err == nil {
		m.traffic = psnet.IOCountersStat{}
		for _, c := range all {
			if i, err := net.InterfaceByName(c.Name); err == nil && i.Flags&net.FlagLoopback == 0 {
				m.traffic.BytesRecv += c.BytesRecv
				m.traffic.BytesSent += c.BytesSent
				m.traffic.Errin, m.traffic.Errout = m.traffic.Errin+c.Errin, m.traffic.Errout+c.Errout
				m.traffic.Dropin, m.traffic.Dropout = m.traffic.Dropin+c.Dropin, m.traffic.Dropout+c.Dropout
			}
		}
	}
	m.disks, _ = disk.IOCountersWithContext(ctx) // none where they cannot be read
	return nil
}

// latency is how long a read or write of a mounted disk took since before, in milliseconds; nil
// where there was none, or where it cannot be told.
func (m *Meter) latency(before map[string]disk.IOCountersStat, mount string, devices map[string]string) *float64 {
	name := strings.TrimPrefix(devices[mount], "/dev/")
	a, ok := before[name]
	b, still := m.disks[name]
	done := b.ReadCount + b.WriteCount - a.ReadCount - a.WriteCount
	spent := b.ReadTime + b.WriteTime - a.ReadTime - a.WriteTime
	if !ok || !still || done == 0 || b.ReadCount < a.ReadCount || b.WriteCount < a.WriteCount || b.ReadTime+b.WriteTime < a.ReadTime+
		a.WriteTime {
		return nil
	}
	ms := float64(spent) / float64(done)
	return &ms
}

// faults counts the packets that were lost or broken.
func faults(t psnet.IOCountersStat) uint64 { return t.Errin + t.Errout + t.Dropin + t.Dropout }

// all is the time of every kind; a guest's is part of its user's (proc(5)).
func all(t cpu.TimesStat) float64 {
	return t.User + t.System + t.Idle + t.Nice + t.Iowait + t.Irq + t.Softirq + t.Steal
}

func percent(part, whole float64) float64 {
	if whole <= 0 {
		return 0
	}
	return min(max(100*part/whole, 0), 100)
}

// rate passes over a counter that began anew.
func rate(before, now uint64, seconds float64) float64 {
	if now < before {
		return 0
	}
	return float64(now-before) / seconds
}

// disks lists the mounted file systems, and the device of each mount.
func disks(ctx context.Context) (list []device.Disk, devices map[string]string) {
	list, devices = []device.Disk{}, map[string]string{}
	parts, err := disk.PartitionsWithContext(ctx, false)
	if err != nil {
		return list, devices
	}
	seen := map[string]bool{}
	for _, p := range parts {
		if seen[p.Device] || p.Fstype == "squashfs" || p.Fstype == "iso9660" {
			continue
		}
		if u, err := disk.UsageWithContext(ctx, p.Mountpoint); err == nil && u.Total > 0 {
			seen[p.Device] = true
			// What is kept for root alone counts as used: no one else can fill it.
			list = append(list, device.Disk{Mount: p.Mountpoint, TotalBytes: int64(u.Used + u.Free), UsedBytes: int64(u.Used)})
			devices[p.Mountpoint] = p.Device
		}
	}
	return list, devices
}

func temperatures(ctx context.Context) []device.Temperature {
	list := []device.Temperature{}
	all, _ := sensors.TemperaturesWithContext(ctx) // it may return readings and warnings together
	for _, t := range all {
		if t.Temperature != 0 {
			list = append(list, device.Temperature{Sensor: t.SensorKey, Celsius: t.Temperature})
		}
	}
	return list
}
