//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"moorwatch.example/core/device"
)

// Times of looking for crashes.
const (
	crashesEvery  = time.Minute
	crashesWithin = 20 * time.Second // that the journal may take
	sameCrash     = 5 * time.Second  // two notes of one crash lie at most so far apart
)

// crashes remembers the programs that crashed in the last day, so that the journal is read once.
var crashes struct {
	sync.Mutex
	checked time.Time
	all     []device.Crash
	start   float64 // seconds that the last start took; 0 while it is not over or not known
}

// unwell adds to vitals which programs crashed, and how long the last start took.
func unwell(ctx context.Context, v *device.Vitals) {
	if !booted() {
		return
	}
	now := time.Now()
	crashes.Lock()
	defer crashes.Unlock()
	if crashes.start == 0 {
		crashes.start = startSeconds(ctx)
	}
	if crashes.start > 0 {
		start := crashes.start
		v.StartSeconds = &start
	}
	if now.Sub(crashes.checked) > crashesEvery {
		since := now.Add(-device.CrashesOver)
		if crashes.checked.After(since) {
			since = crashes.checked.Add(-sameCrash)
		}
		ctx, cancel := context.WithTimeout(ctx, crashesWithin)
		found, err := readCrashes(ctx, since)
		cancel()
		if err != nil {
			return // the journal may not be read
		}
		crashes.checked = now
		crashes.all = MergeCrashes(append(crashes.all, found...))
	}
	crashes.all = slices.DeleteFunc(crashes.all, func(c device.Crash) bool { return now.Sub(c.At) > device.CrashesOver })
	n := float64(len(crashes.all))
	v.Crashes = &n
	if len(crashes.all) > 0 {
		last := crashes.all[len(crashes.all)-1]
		v.Crash = &last
	}
}

// startSeconds is how long it took from the start of the kernel until all was started that is started with it
// (org.freedesktop.systemd1(5), FinishTimestampMonotonic).
func startSeconds(ctx context.Context) float64 {
	out, err := exec.CommandContext(ctx, "systemctl", "show", "--property=FinishTimestampMonotonic", "--value").Output()
	if err != nil {
		return 0
	}
	micro, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
	if err != nil {
		return 0
	}
	return micro / 1e6
}

// Messages of systemd about processes that died (systemd.journal-fields(7); sd-messages.h).
const (
	coreDumped    = "fc2e22bc6ee647b6b90729ab34a250b1"
	processExited = "98e322203f7a4ed290d09fe03c09fe15"
)

// readCrashes asks the journal for crashes since a time: what systemd notes of them, and what the kernel does.
func readCrashes(ctx context.Context, since time.Time) ([]device.Crash, error) {
	from := fmt.Sprintf("--since=@%d", since.Unix())
	noted, err := exec.CommandContext(ctx, "journalctl", "-q", "--no-pager", "-n", "500", "-o", "json", from, "MESSAGE_ID="+coreDumped, "+",
		"MESSAGE_ID="+processExited).Output()
	if err != nil {
		return nil, err
	}
	// It ends with 1 where nothing is found.
	kernel, _ := exec.CommandContext(ctx, "journalctl", "-q", "--no-pager", "-n", "500", "-o", "json", from, "-k", "--grep",
		`segfault at|general protection fault|trap (invalid opcode|divide error)`).Output()
	return append(Crashes(noted), Crashes(kernel)...), nil
}

// fault is what the kernel writes of a program's fault: NAME[PID]: segfault at …; traps: NAME[PID] trap ….
var fault = regexp.MustCompile(`^(?:traps: )?([^\[\]]+)\[\d+\]:? (?:segfault|general protection|trap)`)

// fatal are the signals by which programs crash (signal(7)).
var fatal = []string{"SEGV", "ABRT", "BUS", "FPE", "ILL", "SYS", "11", "6", "7", "8", "4", "31"}

// Crashes reads entries of the journal, as JSON lines, that tell of programs that crashed.
func Crashes(out []byte) (all []device.Crash) {
	for line := range bytes.Lines(out) {
		var e struct {
			At      string `json:"__REALTIME_TIMESTAMP"`
			Message string `json:"MESSAGE"`
			ID      string `json:"MESSAGE_ID"`
			Dumped  string `json:"COREDUMP_COMM"`
			Command string `json:"COMMAND"`
			Unit    string `json:"UNIT"`
			Code    string `json:"EXIT_CODE"`
			Status  string `json:"EXIT_STATUS"`
		}
		if json.Unmarshal(line, &e) != nil { // a message that is no text is none of these
			continue
		}
		micro, err := strconv.ParseInt(e.At, 10, 64)
		if err != nil {
			continue
		}
		name := ""
		switch m := fault.FindStringSubmatch(e.Message); {
		case e.ID == coreDumped:
			name = e.Dumped
		case e.ID == processExited:
			if (e.Code == "dumped" || e.Code == "killed") && slices.Contains(fatal, strings.TrimPrefix(e.Status, "SIG")) {
				name = e.Command
				if name == "" {
					name = strings.TrimSuffix(e.Unit, ".service")
				}
			}
		case m != nil:
			name = m[1]
		}
		if name != "" {
			all = append(all, device.Crash{Program: name, At: time.UnixMicro(micro)})
		}
	}
	return all
}

// MergeCrashes puts crashes in the order of time. What is told of twice, of one program within seconds, is one.
func MergeCrashes(all []device.Crash) (out []device.Crash) {
	slices.SortStableFunc(all, func(a, b device.Crash) int { return a.At.Compare(b.At) })
	for _, c := range all {
		same := func(o device.Crash) bool {
			// a kernel's name of a program has 15 bytes
			return c.At.Sub(o.At) <= sameCrash && (strings.HasPrefix(c.Program, o.Program) || strings.HasPrefix(o.Program, c.Program))
		}
		if !slices.ContainsFunc(out, same) {
			out = append(out, c)
		}
	}
	return out
}
