package device

import (
	"math"
	"reflect"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"
)

func TestCleanName(t *testing.T) {
	for in, want := range map[string]string{
		"hay-desk-02":                       "hay-desk-02",
		"  two \t\n words ":                 "two words",
		"evil\x1b[2Jname":                   "evil[2Jname",
		"rtl\u202eeman\u200f":               "rtleman",
		`quo"te's <b>&amp;`:                 `quo"te's <b>&amp;`,
		"Bücherei-Ω":                        "Bücherei-Ω",
		"\xff\xfebad":                       "bad",
		"\u200b\u2066":                      "unnamed",
		strings.Repeat("x", 10_000):         strings.Repeat("x", MaxName),
		strings.Repeat("ab ", 10_000) + "c": strings.TrimSpace(strings.Repeat("ab ", 21)),
	} {
		if got := CleanName(in); got != want {
			t.Errorf("CleanName(%.40q) = %q, want %q", in, got, want)
		}
	}
}

func FuzzCleanName(f *testing.F) {
	f.Add("a\u202eb\x00 c")
	f.Fuzz(func(t *testing.T, in string) {
		got := CleanName(in)
		if !utf8.ValidString(got) || got == "" || utf8.RuneCountInString(got) > MaxName || CleanName(got) != got {
			t.Fatalf("CleanName(%q) = %q", in, got)
		}
		for _, r := range got {
			if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) {
				t.Fatalf("CleanName(%q) keeps %U", in, r)
			}
		}
	})
}

func TestVitalsCheck(t *testing.T) {
	good := Vitals{CPU: 12, Memory: 50, MemoryBytes: 8 << 30, Disks: []Disk{{Mount: "/", TotalBytes: 100, UsedBytes: 60}},
		Temperatures: []Temperature{{"soc", 41}},
		People:       []SignedIn{{"W\u202eren", "console", -7}}}
	got, err := good.Check()
	if err != nil || got.People[0].Name != "Wren" || got.People[0].IdleSeconds != -1 {
		t.Fatalf("a believable reading gives %+v, %v", got, err)
	}
	for name, spoil := range map[string]func(*Vitals){
		"cpu":            func(v *Vitals) { v.CPU = 1e9 },
		"memory":         func(v *Vitals) { v.Memory = math.NaN() },
		"receive":        func(v *Vitals) { v.Receive = math.Inf(1) },
		"uptime_seconds": func(v *Vitals) { v.UptimeSeconds = -1 },
		"disk":           func(v *Vitals) { v.Disks = []Disk{{Mount: "/", TotalBytes: 10, UsedBytes: 11}} },
		"disks":          func(v *Vitals) { v.Disks = make([]Disk, MaxEntries+1) },
		"sensor":         func(v *Vitals) { v.Temperatures = []Temperature{{"soc", 9999}} },
	} {
		bad := good
		spoil(&bad)
		if _, err := bad.Check(); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s out of range gives %v", name, err)
		}
	}
}

func TestFactsClean(t *testing.T) {
	got := Facts{HostName: "a\x07b", Serial: strings.Repeat("9", 999), Cores: -4, Addresses: make([]string, 5000),
		BootedAt: time.Date(-40, 1, 1, 0, 0, 0, 0, time.UTC)}.Clean()
	if got.HostName != "ab" || len(got.Serial) != MaxText || got.Cores != 0 || len(got.Addresses) != 0 || got.BootedAt.Year() != 1970 {
		t.Errorf("Clean gives %+v", got)
	}
}

func TestOnOurClock(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	year := 365 * 24 * time.Hour
	for name, c := range map[string]struct {
		taken, sent time.Duration // from now
		at, skew    time.Duration
	}{
		"right":              {-30 * time.Second, -time.Second, -30 * time.Second, -time.Second},
		"kept for a day":     {-24 * time.Hour, 0, -24 * time.Hour, 0},
		"a little ahead":     {20 * time.Second, 20 * time.Second, 0, 20 * time.Second},
		"a year ahead":       {year - time.Minute, year, -time.Minute, year},
		"a year behind":      {-year - time.Hour, -year, -time.Hour, -year},
		"from its future":    {time.Hour, 0, 0, 0},
		"older than is kept": {-99 * 24 * time.Hour, 0, -MaxAge, 0},
	} {
		at, skew := OnOurClock(now.Add(c.taken), now.Add(c.sent), now)
		if at != now.Add(c.at) || skew != c.skew {
			t.Errorf("%s: at %s, skew %s; want %s, %s", name, at.Sub(now), skew, c.at, c.skew)
		}
	}
}

func TestNearest(t *testing.T) {
	names := []string{"hay-desk-01", "hay-desk-02", "sal-xray", "tarn-ridge-3", "van-board"}
	for in, want := range map[string][]string{
		"hay-desk-1":  {"hay-desk-01", "hay-desk-02"},
		"SAL-XRAZ":    {"sal-xray"},
		"van-baord":   {"van-board"},
		"ridge":       {"tarn-ridge-3"},
		"no such one": {},
		"":            {},
	} {
		if got := Nearest(in, names, 5); !reflect.DeepEqual(got, want) {
			t.Errorf("Nearest(%q) = %q, want %q", in, got, want)
		}
	}
}
