package portable

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"

	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
)

// Lister lists what every system can tell; the system's own folder adds to it with More.
type Lister struct {
	Informer Informer
	More     func(ctx context.Context, add func(section, key, name string, fields ...string))
}

// Items implements host.Lister.
func (l Lister) Items(ctx context.Context) ([]inventory.Item, error) {
	var items []inventory.Item
	add := func(section, key, name string, fields ...string) {
		i := inventory.Item{Section: section, Key: key, Name: name, Fields: map[string]string{}}
		for n := 0; n+1 < len(fields); n += 2 {
			if fields[n+1] != "" {
				i.Fields[fields[n]] = fields[n+1]
			}
		}
		items = append(items, i)
	}
	f, err := l.Informer.Facts(ctx)
	if err != nil {
		return nil, err
	}
	add("system", "system", f.OSName, "version", f.OSVersion, "kernel", f.Kernel, "architecture", f.Arch, "time_zone", f.TimeZone)
	add("hardware", "computer", strings.TrimSpace(f.Vendor+" "+f.Model), "serial", f.Serial)
	add("hardware", "processor", f.CPUModel, "cores", fmt.Sprint(f.Cores))
	add("hardware", "memory", fmt.Sprintf("%.1f GiB memory", float64(f.MemoryBytes)/(1<<30)))
	adapters(add)
	ports(ctx, add)
	if l.More != nil {
		l.More(ctx, add)
	}
	return items, ctx.Err()
}

func adapters(add func(section, key, name string, fields ...string)) {
	all, err := net.Interfaces()
	if err != nil {
		return
	}
	for _, i := range all {
		if i.Flags&net.FlagLoopback != 0 || len(i.HardwareAddr) == 0 {
			continue
		}
		add("adapters", i.HardwareAddr.String()+" "+i.Name, i.Name, "hardware_address", i.HardwareAddr.String())
		var list []string
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
				list = append(list, n.String())
			}
		}
		slices.Sort(list)
		if len(list) > 0 {
			add("network", "addresses "+i.Name, "Addresses of "+i.Name, "addresses", strings.Join(list, ", "))
		}
	}
}

// firstPassing is where ports begin that programs are given for a while (RFC 6335, 6): what listens
// there comes and goes.
const firstPassing = 32768

func ports(ctx context.Context, add func(section, key, name string, fields ...string)) {
	all, err := psnet.ConnectionsWithContext(ctx, "tcp")
	if err != nil {
		return
	}
	names := map[int32]string{}
	for _, c := range all {
		if c.Status != "LISTEN" || c.Laddr.Port >= firstPassing {
			continue
		}
		name, ok := names[c.Pid]
		if !ok && c.Pid > 0 {
			if p, err := process.NewProcessWithContext(ctx, c.Pid); err == nil {
				name, _ = p.NameWithContext(ctx)
			}
			names[c.Pid] = name
		}
		where := "all addresses"
		if ip := net.ParseIP(c.Laddr.IP); ip != nil && !ip.IsUnspecified() {
			where = c.Laddr.IP
		}
		add("ports", fmt.Sprintf("tcp %d %s", c.Laddr.Port, where), fmt.Sprintf("TCP %d", c.Laddr.Port), "process", name, "address", where)
	}
}

// Busiest finds the process that used most CPU between two looks.
type Busiest struct {
	times map[int32]float64
}

// Poll returns the process that used most since the last poll over so many seconds; nil at the
// first, and where none used as much as a hundredth of the processors.
func (b *Busiest) Poll(ctx context.Context, seconds float64) *device.Process {
	all, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return nil
	}
	now := make(map[int32]float64, len(all))
	var most *process.Process
	used := 0.01 * seconds * cores()
	for _, p := range all {
		t, err := p.TimesWithContext(ctx)
		if err != nil {
			continue
		}
		now[p.Pid] = t.User + t.System
		if before, ok := b.times[p.Pid]; ok && now[p.Pid]-before > used {
			most, used = p, now[p.Pid]-before
		}
	}
	b.times = now
	if most == nil || seconds <= 0 {
		return nil
	}
	name, err := most.NameWithContext(ctx)
	if err != nil {
		return nil
	}
	found := &device.Process{Name: name, PID: int(most.Pid), CPU: min(100*used/seconds/cores(), 100)}
	if m, err := most.MemoryInfoWithContext(ctx); err == nil {
		found.MemoryBytes = int64(m.RSS)
	}
	return found
}
