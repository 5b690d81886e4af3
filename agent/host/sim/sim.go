// Package sim is the host of simulated devices, for the sample fleet, the tests and the
// benchmarks: Windows, macOS and Linux personalities whose readings follow from a seed and the
// time alone, so that the past can be told as well as the present. The agent around it, its link
// and its disk are real; only what stands behind package host is made up.
package sim

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/core/device"
)

// Kind is what a simulated device is used for.
type Kind string

// The kinds of device in the sample world.
const (
	Desk    Kind = "desk"    // Windows PC that several people use by day
	Laptop  Kind = "laptop"  // Windows, one person
	Mac     Kind = "mac"     // macOS, one person
	Imaging Kind = "imaging" // Windows workstation with large files
	Server  Kind = "server"  // Linux
	Kiosk   Kind = "kiosk"   // Linux, nobody signed in
	Board   Kind = "board"   // small Linux board
	Station Kind = "station" // fanless Linux weather station with sensors
)

// Device describes one simulated device.
type Device struct {
	Name    string
	Kind    Kind
	Seed    uint64
	Address string
	People  []string // who uses it
	// FullAt, when set, is when its data disk will be full at the rate of its past week.
	FullAt time.Time
	// HotAt, when set, makes a station overheat each day at that hour.
	HotAt time.Time
	// Driver, when set, is when its printer driver was updated to one that slows log-on.
	Driver time.Time
	// Stuck, when set, is since when its copying of records hangs.
	Stuck time.Time
	// Stops, when set, is when the program that it is for stops by itself.
	Stops time.Time
	// Busy, from 0 to 1, keeps its memory that much fuller than its kind.
	Busy float64

	// Dir is the folder of this machine that stands for its disks; without one it has no files.
	Dir string `json:"-"`
	// Away, when set, takes the device off the network for the time of a restart, or for good.
	Away func(off bool) `json:"-"`
}

// nature is what devices of a kind have in common.
type nature struct {
	os, osName, osVersion, kernel, arch, vendor, model, cpu string
	cores                                                   int
	memory                                                  int64
	disks                                                   []device.Disk // used is where the week begins
	idle, work                                              float64       // CPU, percent
	memoryIdle, memoryWork                                  float64       // percent
	traffic                                                 float64       // bytes a second at work
	round                                                   bool          // works at night too
	sensors                                                 []string
	warmth                                                  float64 // °C when idle
}

const (
	gb  = 1_000_000_000
	gib = 1 << 30
)

var natures = map[Kind]nature{
	Desk: {os: device.Windows, osName: "Windows 11 Pro", osVersion: "24H2", kernel: "10.0.26100", arch: "x86_64", vendor: "Fennick",
		model: "Fennick D3", cpu: "4-core desktop processor",
		cores: 4, memory: 8 * gib, disks: []device.Disk{{Mount: "C:", TotalBytes: 255 * gb, UsedBytes: 118 * gb}}, idle: 3, work: 28,
		memoryIdle: 38, memoryWork: 64, traffic: 240e3},
	Laptop: {os: device.Windows, osName: "Windows 11 Pro", osVersion: "24H2", kernel: "10.0.26100", arch: "x86_64", vendor: "Fennick",
		model: "Fennick L14", cpu: "8-core mobile processor",
		cores: 8, memory: 16 * gib, disks: []device.Disk{{Mount: "C:", TotalBytes: 511 * gb, UsedBytes: 203 * gb}}, idle: 4, work: 24,
		memoryIdle: 35, memoryWork: 58, traffic: 320e3, sensors: []string{"package"}, warmth: 44},
	Mac: {os: device.MacOS, osName: "macOS", osVersion: "15.6", kernel: "24.6.0", arch: "arm64", model: "Desktop, 24 inch",
		cpu:   "8-core arm64 processor",
		cores: 8, memory: 16 * gib, disks: []device.Disk{{Mount: "/", TotalBytes: 494 * gb, UsedBytes: 187 * gb}}, idle: 2, work: 19,
		memoryIdle: 48, memoryWork: 67, traffic: 280e3, sensors: []string{"cpu"}, warmth: 39},
	Imaging: {os: device.Windows, osName: "Windows 10 IoT Enterprise", osVersion: "LTSC 2021", kernel: "10.0.19044", arch: "x86_64",
		vendor: "Harrow", model: "Harrow W700", cpu: "12-core workstation processor",
		cores: 12, memory: 64 * gib, disks: []device.Disk{{Mount: "C:", TotalBytes: 511 * gb, UsedBytes: 148 * gb},
			{Mount: "D:", TotalBytes: 4000 * gb, UsedBytes: 2610 * gb}},
		idle: 2, work: 46, memoryIdle: 22, memoryWork: 51, traffic: 4e6, sensors: []string{"package", "gpu"}, warmth: 41},
	Server: {os: device.Linux, osName: "Debian GNU/Linux", osVersion: "12", kernel: "6.1.0-31-amd64", arch: "x86_64", vendor: "Harrow",
		model: "Harrow R210", cpu: "8-core server processor",
		cores: 8, memory: 32 * gib, disks: []device.Disk{{Mount: "/", TotalBytes: 118 * gb, UsedBytes: 27 * gb},
			{Mount: "/srv", TotalBytes: 1900 * gb, UsedBytes: 820 * gb}},
		idle: 9, work: 37, memoryIdle: 41, memoryWork: 55, traffic: 2.2e6, round: true, sensors: []string{"package"}, warmth: 47},
	Kiosk: {os: device.Linux, osName: "Debian GNU/Linux", osVersion: "12", kernel: "6.1.0-31-amd64", arch: "x86_64", vendor: "Tarn Boards",
		model: "Kiosk 10", cpu: "4-core low-power processor",
		cores: 4, memory: 4 * gib, disks: []device.Disk{{Mount: "/", TotalBytes: 31 * gb, UsedBytes: 9 * gb}}, idle: 6, work: 22,
		memoryIdle: 44, memoryWork: 58, traffic: 60e3, sensors: []string{"soc"}, warmth: 48},
	Board: {os: device.Linux, osName: "Debian GNU/Linux", osVersion: "12", kernel: "6.6.51-v8", arch: "arm64", vendor: "Tarn Boards",
		model: "Board 4", cpu: "4-core arm64 processor",
		cores: 4, memory: 2 * gib, disks: []device.Disk{{Mount: "/", TotalBytes: 29 * gb, UsedBytes: 8 * gb}}, idle: 7, work: 16,
		memoryIdle: 39, memoryWork: 47, traffic: 18e3, sensors: []string{"soc"}, warmth: 46},
	Station: {os: device.Linux, osName: "Debian GNU/Linux", osVersion: "12", kernel: "6.6.51-v8", arch: "arm64", vendor: "Tarn Boards",
		model: "Station 2", cpu: "4-core arm64 processor",
		cores: 4, memory: 2 * gib, disks: []device.Disk{{Mount: "/", TotalBytes: 29 * gb, UsedBytes: 11 * gb}}, idle: 11, work: 15,
		memoryIdle: 42, memoryWork: 46, traffic: 9e3, round: true, sensors: []string{"soc", "housing"}, warmth: 38},
}

// Host returns a host that pretends to be d, by the clock now.
func (d Device) Host(now func() time.Time) host.Host {
	s := &simulated{Device: d, now: now}
	h := host.Host{Informer: s, Meter: s, Runner: s, Terminals: s, Lister: s, Queries: true, Prober: s, Asker: s,
		Processes: simProcesses{s}, Services: simServices{s}, Events: simEvents{s},
		Network: simNetwork{s}, Power: simPower{s}, People: simPeople{s}, Screens: simScreens{s}, Software: simSoftware{s},
		Updates: simUpdates{s}}
	var files *disk
	if d.Dir != "" {
		files = &disk{simulated: s}
		h.Disk = files
	}
	if settings := s.settings(files); settings != nil {
		h.Settings = settings
	}
	return h
}

type simulated struct {
	Device
	now func() time.Time

	once  sync.Once
	state atomic.Pointer[state]
}

// Facts implements host.Informer.
func (s *simulated) Facts(context.Context) (device.Facts, error) {
	n := natures[s.Kind]
	now := s.now()
	booted := now.Add(-s.uptime(now))
	if t := s.state.Load(); t != nil {
		t.mu.Lock()
		if t.restarted.After(booted) {
			booted = t.restarted
		}
		t.mu.Unlock()
	}
	return device.Facts{HostName: s.Name, OS: n.os, OSName: n.osName, OSVersion: n.osVersion, Kernel: n.kernel, Arch: n.arch,
		Vendor: n.vendor,
		Model:  n.model, Serial: s.serial(), CPUModel: n.cpu, Cores: n.cores, MemoryBytes: n.memory, TimeZone: "Europe/London",
		BootedAt: booted.Truncate(time.Second), Addresses: []string{s.Address},
		Hardware: []string{device.HardwareName(device.HardwareSerial, n.model+"/"+s.serial())}}, nil
}

func (s *simulated) serial() string {
	r := rand.New(rand.NewPCG(s.Seed, 7))
	const letters = "ABCDEFGHJKLMNPQRSTUVWXYZ0123456789"
	b := []byte("CS-")
	for range 8 {
		b = append(b, letters[r.IntN(len(letters))])
	}
	return string(b)
}

// Another implements host.Meter.
func (s *simulated) Another() host.Meter { return s }

// Vitals implements host.Meter.
func (s *simulated) Vitals(context.Context) (device.Vitals, error) {
	v := s.At(s.now())
	if t := s.state.Load(); t != nil {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.crash != nil && v.At.Sub(t.crash.At) < device.CrashesOver {
			*v.Crashes++
			v.Crash = t.crash
		}
	}
	return v, nil
}

// At is what d reads at a time, past or present.
func (d Device) At(t time.Time) device.Vitals {
	n := natures[d.Kind]
	work := d.activity(t, n)
	wave := func(stream uint64, period time.Duration) float64 { return smooth(d.Seed+stream<<32, t, period) }
	own := wave(1, 90*24*time.Hour)*0.4 + 0.8 // devices of a kind differ
	cpu := n.idle*own + (n.work-n.idle)*work*own + 9*work*(wave(2, 4*time.Minute)-0.5) + 3*(wave(3, 40*time.Second)-0.5)
	if spike := wave(4, 17*time.Minute); spike > 0.93 {
		cpu += (spike - 0.93) * 800
	}
	cpu = clamp(cpu, 0.3, 99.6)
	memory := n.memoryIdle + (n.memoryWork-n.memoryIdle)*work + 5*(wave(5, 25*time.Minute)-0.5) + 6*(own-1)
	memory = clamp(memory+d.Busy*(99-memory), 4, 98.8)
	v := device.Vitals{At: t, CPU: cpu, Load1: cpu / 100 * float64(n.cores) * (0.9 + 0.4*wave(6, time.Minute)), Memory: memory,
		MemoryBytes: n.memory, MemoryUsedBytes: int64(memory / 100 * float64(n.memory)), Swap: clamp((memory-70)*1.2, 0, 90),
		Receive: n.traffic * (0.03 + work*wave(7, 2*time.Minute)), Transmit: n.traffic * 0.3 * (0.03 + work*wave(8, 2*time.Minute)),
		UptimeSeconds: int64(d.uptime(t).Seconds()), Disks: d.disks(t, n), Temperatures: []device.Temperature{}, People: d.people(t, work)}
	if n.os == device.Windows {
		v.Load1 = 0 // Windows has no load average
	}
	latency := 0.4 + 6*wave(9, 3*time.Minute)*work
	for i := range v.Disks {
		own := latency * float64(1+i)
		v.Disks[i].LatencyMS = &own
	}
	v.LogOn = d.logOn(t, n)
	start := math.Round(10*(21+16*hash(d.Seed+41, uint64(t.Add(-d.uptime(t)).Unix()/3600)))) / 10
	v.StartSeconds, v.Crashes = &start, new(float64)
	if at := t.Add(-time.Duration(t.UnixNano()-int64(d.Seed)) % (17 * time.Hour)); hash(d.Seed+42, uint64(at.Unix()/3600)) > 0.97 &&
		t.Sub(at) > 0 {
		*v.Crashes, v.Crash = 1, &device.Crash{Program: "update-notifier", At: at}
	}
	if n.os == device.Windows || n.os == device.MacOS {
		failed := math.Floor(2.2 * wave(12, 7*time.Minute) * work)
		v.FailedLogOns = &failed
	}
	if d.Kind == Station {
		v.Sensors = append(v.Sensors, device.Sensor{Kind: device.SensorVoltage, Name: "supply",
			Value: math.Round((12.1+0.9*sun(t)+0.2*wave(13, time.Hour))*100) / 100})
	}
	if d.Kind == Server || d.Kind == Imaging {
		v.Sensors = append(v.Sensors, device.Sensor{Kind: device.SensorFan, Name: "rear",
			Value: math.Round(900 + 14*cpu + 40*wave(14, 5*time.Minute))})
	}
	if d.Kind == Laptop {
		v.Sensors = append(v.Sensors, device.Sensor{Kind: device.SensorBattery, Name: "internal",
			Value: math.Round(55 + 45*wave(15, 5*time.Hour))})
	}
	for i, sensor := range n.sensors {
		c := n.warmth + 0.32*cpu - 4*float64(i) + 3*(wave(uint64(10+i), 20*time.Minute)-0.5)
		if d.Kind == Station || d.Kind == Board {
			c += 9 * sun(t)
		}
		if !d.HotAt.IsZero() {
			c += 42 * max(0, math.Cos(t.Sub(d.HotAt).Hours()/24*2*math.Pi)-0.4) / 0.6
		}
		v.Temperatures = append(v.Temperatures, device.Temperature{Sensor: sensor, Celsius: math.Round(c*10) / 10})
	}
	return v
}

// sun is 1 at noon and 0 from dusk to dawn.
func sun(t time.Time) float64 {
	h := float64(t.UTC().Hour()) + float64(t.Minute())/60
	return max(0, math.Cos((h-12.5)/12*math.Pi*1.6)) * boolean(h > 5 && h < 20)
}

func boolean(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// nights is how many devices there are to each at which somebody works by night, so that somebody is there at any hour.
const nights = 4

// activity is how much a device is used, 0 to 1: by day, less at the ends of the week.
func (d Device) activity(t time.Time, n nature) float64 {
	if n.round {
		return 0.45 + 0.4*sun(t)
	}
	if d.Seed%nights == 0 { // somebody works there by night
		t = t.Add(12 * time.Hour)
	}
	h := float64(t.UTC().Hour()) + float64(t.Minute())/60 + 0.8*(smooth(d.Seed, t, 24*time.Hour)-0.5)
	day := clamp((h-8)*1.5, 0, 1) * clamp((18-h)*1.5, 0, 1)
	if wd := t.Weekday(); wd == time.Sunday || (wd == time.Saturday && h > 13) {
		day *= 0.25
	}
	return day * (0.55 + 0.45*smooth(d.Seed+99, t, 50*time.Minute))
}

func (d Device) people(t time.Time, work float64) []device.SignedIn {
	if len(d.People) == 0 || work < 0.12 {
		return []device.SignedIn{}
	}
	who := d.People[int(smooth(d.Seed+55, t, 5*time.Hour)*float64(len(d.People)))%len(d.People)]
	idle := int64(math.Pow(smooth(d.Seed+56, t, 11*time.Minute), 3) * 1500)
	return []device.SignedIn{{Name: who, Where: "console", IdleSeconds: idle}}
}

func (d Device) disks(t time.Time, n nature) []device.Disk {
	list := make([]device.Disk, len(n.disks))
	share := 0.75 + 0.55*smooth(d.Seed+70, time.Unix(0, 0), time.Hour)
	for i, disk := range n.disks {
		used := float64(disk.UsedBytes)*share + 0.004*float64(disk.TotalBytes)*smooth(d.Seed+71+uint64(i), t, 9*time.Hour)
		if i == len(n.disks)-1 && !d.FullAt.IsZero() {
			const week = 7 * 24 * time.Hour // at this rate a quarter of the disk fills in two weeks
			left := d.FullAt.Sub(t).Hours() / (2 * week).Hours() * 0.25
			used = float64(disk.TotalBytes) * (1 - max(left, 0.003))
		}
		list[i] = device.Disk{Mount: disk.Mount, TotalBytes: disk.TotalBytes, UsedBytes: int64(min(used, float64(disk.TotalBytes)))}
	}
	return list
}

// uptime: every device restarts at some hour of the night every so many days of its own.
func (d Device) uptime(t time.Time) time.Duration {
	every := time.Duration(3+d.Seed%26) * 24 * time.Hour
	offset := time.Duration(d.Seed%uint64(every/time.Second)) * time.Second
	return t.Add(offset).Sub(t.Add(offset).Truncate(every)) + time.Minute
}

// smooth is noise from 0 to 1 that changes over about a period and follows from seed and time.
func smooth(seed uint64, t time.Time, period time.Duration) float64 {
	x := float64(t.UnixNano()) / float64(period)
	i := math.Floor(x)
	f := x - i
	f = f * f * (3 - 2*f)
	return hash(seed, uint64(int64(i)))*(1-f) + hash(seed, uint64(int64(i)+1))*f
}

// hash is a number from 0 to 1 made from two (the finaliser of SplitMix64).
func hash(a, b uint64) float64 {
	z := a*0x9e3779b97f4a7c15 + b*0xbf58476d1ce4e5b9 + 0x94d049bb133111eb
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return float64((z^z>>31)>>11) / (1 << 53)
}

func clamp(v, least, most float64) float64 { return min(max(v, least), most) }

// bytes writes a size as the simulated tools print it.
func bytes(n int64) string { return fmt.Sprintf("%.1fG", float64(n)/gb) }
