//go:build linux

package linux

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/update"
	"moorwatch.example/core/versions"
	"moorwatch.example/core/work"
)

// updates are those of apt (apt-get(8), dpkg(1)).
type updates struct{ software }

// updatesOf is the source of updates of this system; nil where it has none that is known.
func updatesOf() host.Updates {
	if _, err := exec.LookPath("apt-get"); err == nil {
		return updates{}
	}
	if tool := rpmTool(); tool != "" {
		return RPMUpdates{Tool: tool}
	}
	return nil
}

const aptSource = "apt"

// turn has one at a time use apt: its lists are not whole while they are read anew.
var turn = make(chan struct{}, 1)

func take(ctx context.Context) (release func(), err error) {
	select {
	case turn <- struct{}{}:
		return func() { <-turn }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// Missing implements host.Updates.
func (u updates) Missing(ctx context.Context, fresh bool) ([]update.Update, error) {
	release, err := take(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	var problem error
	if fresh {
		var err error
		if problem, err = u.ask(ctx); err != nil {
			return nil, err
		}
	}
	var plan, held bytes.Buffer
	if exit, err := u.run(ctx, &plan, "apt-get", "-s", "-q", "-o", "Debug::NoLocking=1", "--with-new-pkgs", "upgrade"); err != nil ||
		exit != 0 {
		return nil, errors.Join(problem, err, fmt.Errorf("apt cannot plan an upgrade: %s", AptErrors(plan.Bytes())))
	}
	if _, err := u.run(ctx, &held, "apt-mark", "showhold"); err != nil {
		return nil, err
	}
	all, back := AptPlan(plan.Bytes())
	if all == nil {
		all = []update.Update{}
	}
	// What apt itself would not install is asked about one by one.
	if len(back) > 0 {
		var policy bytes.Buffer
		if _, err := u.run(ctx, &policy, append([]string{"apt-cache", "policy"}, back...)...); err != nil {
			return nil, err
		}
		holds := strings.Fields(held.String())
		for _, one := range AptPolicy(policy.Bytes()) {
			one.Blocked = "What it needs cannot be installed, or would remove something."
			if slices.Contains(holds, one.Name) {
				one.Blocked = "It is held at the device."
			}
			all = append(all, one)
		}
	}
	if len(all) > 0 {
		argv := []string{"apt-cache", "show", "--no-all-versions"}
		for _, one := range all {
			argv = append(argv, one.Name+"="+one.To)
		}
		var show bytes.Buffer
		if _, err := u.run(ctx, &show, argv...); err != nil {
			return nil, err
		}
		AptShow(show.Bytes(), all)
	}
	return all, problem
}

// Times of asking: apt waits for the lock of dpkg, and not for that of its lists.
const (
	lockedFor  = 2 * time.Minute
	lockedPoll = 2 * time.Second
)

// ask reads the sources anew, waiting for others that do. problem is what apt said.
func (u updates) ask(ctx context.Context) (problem, err error) {
	for began := time.Now(); ; {
		var out bytes.Buffer
		exit, err := u.run(ctx, &out, "apt-get", "-q", "-o", "APT::Update::Error-Mode=any", "update")
		if err != nil || exit == 0 {
			return nil, err
		}
		said := AptErrors(out.Bytes())
		if !strings.Contains(said, "Could not get lock") || time.Since(began) > lockedFor {
			return fmt.Errorf("apt cannot read its sources: %s", said), nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lockedPoll):
		}
	}
}

// AptErrors is what apt and dpkg said went wrong: their lines that tell of errors, and otherwise the last one.
func AptErrors(out []byte) string {
	var said []string
	last, goes := "", false
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSpace(line)
		switch rest, ok := strings.CutPrefix(line, "E: "); {
		case goes: // what dpkg says of a package stands on the next line
			said[len(said)-1] += " " + line
		case strings.HasPrefix(line, "dpkg: error processing "):
			said = append(said, line)
		case ok && !(strings.HasPrefix(rest, "Sub-process") && len(said) > 0):
			said = append(said, rest)
		}
		if rest, ok := strings.CutPrefix(line, "W: "); ok && len(said) == 0 {
			said = append(said, rest)
		}
		if goes = strings.HasPrefix(line, "dpkg: error processing "); line != "" {
			last = line
		}
	}
	if len(said) == 0 {
		said = []string{last}
	}
	return strings.Join(said[:min(len(said), 3)], " ")
}

// planned is a line of a simulated upgrade: Inst NAME [OLD] (NEW ORIGINS [ARCHITECTURE]) ...
var planned = regexp.MustCompile(`^Inst (\S+) \[([^\]]+)\] \((\S+) (.*?)(?: \[[^\]]+\])?\)`)

// AptPlan reads what apt-get --simulate upgrade prints: what would be upgraded, and the names of what is kept
// back.
func AptPlan(out []byte) (all []update.Update, back []string) {
	kept := false
	for line := range strings.Lines(string(out)) {
		line = strings.TrimRight(line, "\r\n")
		switch {
		case strings.HasPrefix(line, "The following packages have been kept back:"):
			kept = true
			continue
		case kept && strings.HasPrefix(line, "  "):
			back = append(back, strings.Fields(line)...)
			continue
		}
		kept = false
		if m := planned.FindStringSubmatch(line); m != nil {
			one := update.Update{Source: aptSource, Name: m[1], From: m[2], To: m[3], Class: update.Other}
			if strings.Contains(strings.ToLower(m[4]), "security") {
				one.Class = update.Security
			}
			one.Restart = restartOf(one.Name)
			all = append(all, one)
		}
	}
	return all, back
}

// restartOf is what an update of a package asks for, as far as its name tells.
func restartOf(name string) string {
	switch {
	case strings.HasPrefix(name, "linux-image"), name == "libc6", name == "systemd", name == "dbus":
		return update.RestartDevice
	case strings.HasPrefix(name, "lib"):
		return update.RestartService
	}
	return ""
}

// AptPolicy reads what apt-cache policy prints: what is installed in a version older than the candidate.
func AptPolicy(out []byte) (all []update.Update) {
	var one update.Update
	end := func() {
		if one.Name != "" && one.From != "" && one.From != "(none)" && one.To != "(none)" && versions.Debian(one.From, one.To) < 0 {
			one.Restart = restartOf(one.Name)
			all = append(all, one)
		}
		one = update.Update{Source: aptSource, Class: update.Other}
	}
	candidate := false
	for line := range strings.Lines(string(out)) {
		text := strings.TrimSpace(line)
		key, value, _ := strings.Cut(text, ": ")
		switch {
		case !strings.HasPrefix(line, " ") && strings.HasSuffix(text, ":"):
			end()
			one.Name = strings.TrimSuffix(text, ":")
		case key == "Installed":
			one.From = value
		case key == "Candidate":
			one.To = value
		case strings.HasPrefix(line, "     ") && !strings.HasPrefix(line, "        "):
			fields := strings.Fields(text)
			candidate = len(fields) > 0 && fields[0] == one.To
		case candidate && strings.Contains(strings.ToLower(text), "security"):
			one.Class = update.Security
		}
	}
	end()
	return all
}

// AptShow fills in, of updates, what apt-cache show prints: size, vendor and title.
func AptShow(out []byte, all []update.Update) {
	at := map[string]*update.Update{}
	for i := range all {
		at[all[i].Name+"="+all[i].To] = &all[i]
	}
	for _, paragraph := range strings.Split(string(out), "\n\n") {
		fields := map[string]string{}
		for line := range strings.Lines(paragraph) {
			if key, value, ok := strings.Cut(strings.TrimSpace(line), ": "); ok && !strings.HasPrefix(line, " ") {
				fields[key] = value
			}
		}
		u := at[fields["Package"]+"="+fields["Version"]]
		if u == nil {
			continue
		}
		u.Size, _ = strconv.ParseInt(fields["Size"], 10, 64)
		u.Vendor, _, _ = strings.Cut(fields["Maintainer"], " <")
		for _, key := range []string{"Description-en", "Description"} {
			if u.Title == "" {
				u.Title = fields[key]
			}
		}
	}
}

// states are what dpkg has of all packages: their state and version, by name.
func (u updates) states(ctx context.Context) (map[string][2]string, error) {
	var out bytes.Buffer
	if _, err := u.run(ctx, &out, "dpkg-query", "-W", "-f", "${db:Status-Status} ${Package} ${Version}\n"); err != nil {
		return nil, err
	}
	all := map[string][2]string{}
	for line := range strings.Lines(out.String()) {
		if f := strings.Fields(line); len(f) == 3 {
			all[f[1]] = [2]string{f[0], f[2]}
		}
	}
	return all, nil
}

// mine are those of the versions that can be installed, by what dpkg has: installed in another version, of
// which the one that is wanted is newer, or older where back is meant.
func (u updates) mine(have map[string][2]string, all []work.Version, back bool, log io.Writer) (argv []string) {
	for _, v := range all {
		state, is := have[v.Name][0], have[v.Name][1]
		if v.Source != aptSource || state != "installed" || strings.HasPrefix(v.Name, "-") {
			continue
		}
		if c := versions.Debian(is, v.Version); c < 0 && !back || c > 0 && back {
			argv = append(argv, v.Name+"="+v.Version)
			if log != nil {
				fmt.Fprintf(log, "%s %s → %s\n", v.Name, is, v.Version)
			}
		}
	}
	slices.Sort(argv)
	return argv
}

// mend finishes what an interrupted run of dpkg left (dpkg(1), --configure).
func (u updates) mend(ctx context.Context, log io.Writer) error {
	left, _ := filepath.Glob("/var/lib/dpkg/updates/[0-9]*")
	var out bytes.Buffer
	if _, err := u.run(ctx, &out, "dpkg", "--audit"); err != nil {
		return err
	}
	if len(left) == 0 && out.Len() == 0 {
		return nil
	}
	fmt.Fprintln(log, "An earlier installation was interrupted; it is brought to its end first.")
	if exit, err := u.run(ctx, log, "dpkg", "--force-confdef", "--force-confold", "--configure", "-a"); err != nil || exit == 0 {
		return err
	}
	return u.apt(ctx, log, []string{"--fix-broken", "install"})
}

// Fetch implements host.Updates.
func (u updates) Fetch(ctx context.Context, all []work.Version, log io.Writer) error {
	release, err := take(ctx)
	if err != nil {
		return err
	}
	defer release()
	have, err := u.states(ctx)
	if err != nil {
		return err
	}
	argv := u.mine(have, all, false, nil)
	if len(argv) == 0 {
		return nil
	}
	return u.apt(ctx, log, append([]string{"--only-upgrade", "--download-only", "install"}, argv...))
}

// Install implements host.Updates.
func (u updates) Install(ctx context.Context, all []work.Version, log io.Writer) error {
	release, err := take(ctx)
	if err != nil {
		return err
	}
	defer release()
	if err := u.mend(ctx, log); err != nil {
		return err
	}
	before, err := u.states(ctx)
	if err != nil {
		return err
	}
	argv := u.mine(before, all, false, log)
	if len(argv) == 0 {
		fmt.Fprintln(log, "Nothing of these is missing here.")
		return nil
	}
	err = u.apt(ctx, log, append([]string{"--only-upgrade", "install"}, argv...))
	if err != nil && ctx.Err() == nil {
		err = errors.Join(err, u.restore(ctx, before, log))
	}
	return err
}

// restore puts packages back that an installation left neither here nor there, so that they are not in the way
// of all that follows.
func (u updates) restore(ctx context.Context, before map[string][2]string, log io.Writer) error {
	now, err := u.states(ctx)
	if err != nil {
		return err
	}
	var argv []string
	for name, was := range before {
		if is := now[name][0]; was[0] == "installed" && is != "installed" && is != "" {
			argv = append(argv, name+"="+was[1])
		}
	}
	if len(argv) == 0 {
		return nil
	}
	slices.Sort(argv)
	fmt.Fprintf(log, "What could not be installed is put back: %s\n", strings.Join(argv, " "))
	return u.apt(ctx, log, append([]string{"--allow-downgrades", "install"}, argv...))
}

// Back implements host.Updates.
func (u updates) Back(ctx context.Context, all []work.Version, log io.Writer) error {
	release, err := take(ctx)
	if err != nil {
		return err
	}
	defer release()
	if err := u.mend(ctx, log); err != nil {
		return err
	}
	have, err := u.states(ctx)
	if err != nil {
		return err
	}
	argv := u.mine(have, all, true, log)
	if len(argv) == 0 {
		return nil
	}
	return u.apt(ctx, log, append([]string{"--allow-downgrades", "install"}, argv...))
}

// apt runs apt-get, and says of a failure what it said.
func (u updates) apt(ctx context.Context, log io.Writer, argv []string) error {
	var said bytes.Buffer
	exit, err := u.run(ctx, io.MultiWriter(log, &said), append(append([]string{"apt-get"}, aptOptions...), argv...)...)
	if err == nil && exit != 0 {
		err = errors.New(AptErrors(said.Bytes()))
	}
	return err
}

// Restart implements host.Updates.
func (updates) Restart(context.Context) (bool, error) {
	for _, path := range []string{"/run/reboot-required", "/var/run/reboot-required"} {
		if _, err := os.Stat(path); err == nil {
			return true, nil
		}
	}
	return false, nil
}

// kept are services that are not restarted by themselves: it would end sessions, or the run itself.
var kept = regexp.MustCompile(`^(dbus|systemd-logind|user@|getty|serial-getty|moor-agent|.*display-manager|gdm|lightdm)`)

// Refresh implements host.Updates. A service uses what was replaced where it has a file mapped, below /usr,
// /lib or /opt, that was deleted (proc(5), maps).
func (u updates) Refresh(ctx context.Context, log io.Writer) error {
	processes, err := filepath.Glob("/proc/[0-9]*")
	if err != nil || !booted() {
		return err
	}
	var units []string
	for _, p := range processes {
		if unit := unitOf(p); unit != "" && !slices.Contains(units, unit) && !kept.MatchString(unit) && replaced(p) {
			units = append(units, unit)
		}
	}
	slices.Sort(units)
	var bad []error
	for _, unit := range units {
		fmt.Fprintf(log, "%s uses files that were replaced, and is restarted.\n", unit)
		before, err := services{}.Service(ctx, link.Service{Name: unit})
		if err == nil {
			_, err = services{}.Do(ctx, link.ServiceAction{Action: link.ServiceRestart, Name: unit, Stops: before.NeededBy, Seconds: 60})
		}
		if err != nil {
			bad = append(bad, fmt.Errorf("%s: %w", unit, err))
		}
	}
	return errors.Join(bad...)
}

// unitOf is the service that a process belongs to, by its control group (cgroups(7)).
func unitOf(process string) string {
	text, err := os.ReadFile(process + "/cgroup")
	if err != nil {
		return ""
	}
	path := strings.TrimSpace(string(text[bytes.LastIndexByte(text, ':')+1:]))
	if !strings.HasPrefix(path, "/system.slice/") {
		return ""
	}
	if name := strings.Split(path, "/")[2]; strings.HasSuffix(name, ".service") {
		return name
	}
	return ""
}

func replaced(process string) bool {
	f, err := os.Open(process + "/maps")
	if err != nil {
		return false
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		line, gone := strings.CutSuffix(s.Text(), " (deleted)")
		if _, path, ok := strings.Cut(line, "/"); gone && ok &&
			(strings.HasPrefix(path, "usr/") || strings.HasPrefix(path, "lib") || strings.HasPrefix(path, "opt/")) {
			return true
		}
	}
	return false
}
