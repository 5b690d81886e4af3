//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/update"
	"moorwatch.example/core/versions"
	"moorwatch.example/core/work"
)

// RPMUpdates are the updates of a distribution of RPM packages, through dnf (dnf(8)) or zypper (zypper(8)).
type RPMUpdates struct {
	updates          // what is the same for all of Linux
	Tool    string   // dnf or zypper
	Options []string // of the tool and of rpm before all others; a test installs into a folder by them
	RPM     []string
}

// ask runs a program whose output is read, apart from what it complains of.
func (u RPMUpdates) ask(ctx context.Context, out io.Writer, argv ...string) (exit int, said string, err error) {
	var complaint bytes.Buffer
	exit, err = unix.Runner{}.Run(ctx, link.Command{Argv: argv, Env: []string{"LC_ALL=C.UTF-8"}}, out, &complaint)
	return exit, strings.TrimSpace(complaint.String()), err
}

func (u RPMUpdates) tool(argv ...string) []string {
	usual := []string{"dnf", "-q", "-y"}
	if u.Tool == "zypper" {
		usual = []string{"zypper", "--non-interactive"}
	}
	return slices.Concat(usual, u.Options, argv)
}

// have is what rpm has of all packages, by their name; of kernels and others that stand beside each other the newest.
func (u RPMUpdates) have(ctx context.Context) (map[string]string, error) {
	var out bytes.Buffer
	if exit, said, err := u.ask(ctx, &out, slices.Concat([]string{"rpm"}, u.RPM,
		[]string{"-qa", "--qf", `%{NAME}\t%{EVR}\n`})...); err != nil || exit != 0 {
		return nil, errors.Join(err, fmt.Errorf("rpm cannot tell what is installed: %s", said))
	}
	all := map[string]string{}
	for line := range strings.Lines(out.String()) {
		if name, evr, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok &&
			(all[name] == "" || versions.Compare("rpm", evr, all[name]) > 0) {
			all[name] = evr
		}
	}
	return all, nil
}

// Missing implements host.Updates.
func (u RPMUpdates) Missing(ctx context.Context, fresh bool) ([]update.Update, error) {
	release, err := take(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	var problem error
	if fresh {
		argv := u.tool("makecache", "--refresh")
		if u.Tool == "zypper" {
			argv = u.tool("refresh")
		}
		var out bytes.Buffer
		if exit, said, err := u.ask(ctx, &out, argv...); err != nil {
			return nil, err
		} else if exit != 0 {
			problem = fmt.Errorf("%s cannot read its sources: %s", u.Tool, lastLines(said+"\n"+out.String()))
		}
	}
	have, err := u.have(ctx)
	if err != nil {
		return nil, err
	}
	all, err := u.offered(ctx)
	if err != nil {
		return nil, errors.Join(problem, err)
	}
	all = slices.DeleteFunc(all, func(o update.Update) bool { return have[o.Name] == "" })
	for i := range all {
		o := &all[i]
		o.Source, o.From = u.Tool, have[o.Name]
		if o.Restart == "" {
			o.Restart = rpmRestart(o.Name)
		}
	}
	return all, problem
}

func (u RPMUpdates) offered(ctx context.Context) ([]update.Update, error) {
	var list, about bytes.Buffer
	read := func(out io.Writer, argv ...string) error {
		exit, said, err := u.ask(ctx, out, u.tool(argv...)...)
		if err == nil && exit != 0 {
			err = fmt.Errorf("%s cannot tell what is newer: %s", u.Tool, lastLines(said))
		}
		return err
	}
	if u.Tool == "zypper" {
		if err := read(&list, "--xmlout", "list-updates", "--all"); err != nil {
			return nil, err
		}
		if err := read(&about, "--xmlout", "list-patches"); err != nil {
			return nil, err
		}
		all, err := ZypperUpdates(list.Bytes())
		if err != nil {
			return nil, err
		}
		patches, err := ZypperPatches(about.Bytes())
		if err != nil || len(patches) == 0 {
			return all, err
		}
		argv := []string{"info", "-t", "patch"}
		for _, p := range patches {
			argv = append(argv, p.ID)
		}
		var info bytes.Buffer
		if err := read(&info, argv...); err != nil {
			return nil, err
		}
		ZypperInfo(info.Bytes(), patches, all)
		return all, nil
	}
	if err := read(&list, "repoquery", "--upgrades", "--latest-limit=1", "--qf",
		`%{name}\t%{evr}\t%{arch}\t%{size}\t%{vendor}\t%{summary}\n`); err != nil {
		return nil, err
	}
	if err := read(&about, "updateinfo", "list", "--updates"); err != nil {
		return nil, err
	}
	all := DNFUpdates(list.Bytes())
	DNFAdvisories(about.Bytes(), all)
	return all, nil
}

func lastLines(text string) string {
	lines := strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\r' })
	return strings.Join(lines[max(0, len(lines)-3):], " ")
}

// rpmRestart is what an update of a package asks for, as far as its name tells.
func rpmRestart(name string) string {
	switch {
	case strings.HasPrefix(name, "kernel"), name == "glibc", name == "systemd", name == "dbus", name == "dbus-broker":
		return update.RestartDevice
	case strings.HasPrefix(name, "lib"), strings.HasSuffix(name, "-libs"), strings.HasPrefix(name, "openssl"):
		return update.RestartService
	}
	return ""
}

// DNFUpdates reads what dnf repoquery --upgrades prints in the form above, a line each.
func DNFUpdates(out []byte) (all []update.Update) {
	for line := range strings.Lines(string(out)) {
		f := strings.Split(strings.TrimRight(line, "\r\n"), "\t")
		if len(f) < 6 || slices.ContainsFunc(all, func(o update.Update) bool { return o.Name == f[0] }) {
			continue // of several architectures one is enough: they are installed together
		}
		size, _ := strconv.ParseInt(f[3], 10, 64)
		vendor := f[4]
		if vendor == "(none)" {
			vendor = ""
		}
		all = append(all, update.Update{Name: f[0], To: f[1], Class: update.Other, Size: size, Vendor: vendor, Title: f[5]})
	}
	return all
}

// severities are those of advisories of RPM distributions, as ours.
var severities = map[string]update.Severity{"critical": "critical", "important": "high", "moderate": "medium", "low": "low"}

// DNFAdvisories fills in, of updates, what dnf updateinfo list prints: ID, TYPE or SEVERITY/Sec., and
// NAME-VERSION-RELEASE.ARCH.
func DNFAdvisories(out []byte, all []update.Update) {
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if len(f) != 3 {
			continue
		}
		full := f[2][:max(strings.LastIndexByte(f[2], '.'), 0)]
		for i := range all {
			o := &all[i]
			_, evr, epoch := strings.Cut(o.To, ":")
			if !epoch {
				evr = o.To
			}
			if full != o.Name+"-"+evr && full != o.Name+"-"+o.To {
				continue
			}
			severity, security := strings.CutSuffix(f[1], "/Sec.")
			if security || f[1] == "security" {
				o.Class = update.Security
				if s := severities[strings.ToLower(severity)]; s.Rank() > o.Severity.Rank() {
					o.Severity = s
				}
			} else if f[1] == "enhancement" && o.Class == update.Other {
				o.Class = update.Feature
			}
			if !slices.Contains(o.Advisories, f[0]) {
				o.Advisories = append(o.Advisories, f[0])
			}
		}
	}
}

// zypperList is what zypper --xmlout prints of updates and patches.
type zypperList struct {
	Updates []struct {
		Kind     string `xml:"kind,attr"`
		Name     string `xml:"name,attr"`
		Edition  string `xml:"edition,attr"`
		Status   string `xml:"status,attr"`
		Category string `xml:"category,attr"`
		Severity string `xml:"severity,attr"`
		Reboot   string `xml:"interactive,attr"`
		Summary  string `xml:"summary"`
		Issued   struct {
			Unix int64 `xml:"time_t,attr"`
		} `xml:"issue-date"`
		Issues []struct {
			ID string `xml:"id,attr"`
		} `xml:"issue-list>issue"`
	} `xml:"update-status>update-list>update"`
}

// ZypperUpdates reads what zypper --xmlout list-updates prints.
func ZypperUpdates(out []byte) (all []update.Update, err error) {
	var list zypperList
	if err := xml.Unmarshal(out, &list); err != nil {
		return nil, fmt.Errorf("what zypper tells cannot be read: %w", err)
	}
	for _, x := range list.Updates {
		if x.Kind == "package" {
			all = append(all, update.Update{Name: x.Name, To: x.Edition, Class: update.Other, Title: x.Summary})
		}
	}
	return all, nil
}

// ZypperPatch is what zypper tells of an advisory, which is about packages.
type ZypperPatch struct {
	ID       string
	Class    update.Class
	Severity update.Severity
	Released time.Time
	Restart  bool
	Names    []string // of CVE
}

// ZypperPatches reads what zypper --xmlout list-patches prints: those that are needed.
func ZypperPatches(out []byte) (all []ZypperPatch, err error) {
	var list zypperList
	if err := xml.Unmarshal(out, &list); err != nil {
		return nil, fmt.Errorf("what zypper tells cannot be read: %w", err)
	}
	for _, x := range list.Updates {
		if x.Kind != "patch" || x.Status != "" && x.Status != "needed" {
			continue
		}
		p := ZypperPatch{ID: x.Name, Class: map[string]update.Class{"security": update.Security, "optional": update.Feature,
			"feature": update.Feature}[x.Category], Severity: severities[x.Severity], Restart: x.Reboot == "reboot"}
		if x.Issued.Unix > 0 {
			p.Released = time.Unix(x.Issued.Unix, 0).UTC()
		}
		for _, i := range x.Issues {
			p.Names = append(p.Names, i.ID)
		}
		all = append(all, p)
	}
	return all, nil
}

// ZypperInfo fills in, of updates, what the patches are about that are the same: zypper info tells of each that it
// conflicts with packages older than NAME[.ARCH] < EDITION.
func ZypperInfo(out []byte, patches []ZypperPatch, all []update.Update) {
	var at *ZypperPatch
	conflicts := false
	for line := range strings.Lines(string(out)) {
		line = strings.TrimRight(line, "\r\n")
		key, value, keyed := strings.Cut(line, " : ")
		switch {
		case strings.HasPrefix(line, "Name ") && keyed:
			at = nil
			for i := range patches {
				if patches[i].ID == strings.TrimSpace(value) {
					at = &patches[i]
				}
			}
			conflicts = false
			continue
		case keyed && strings.TrimSpace(key) == "Conflicts":
			conflicts, line = true, value
		case !strings.HasPrefix(line, " "):
			conflicts = false
		}
		f := strings.Fields(line)
		if at == nil || !conflicts || len(f) < 3 || f[len(f)-2] != "<" {
			continue
		}
		for i := range all {
			o := &all[i]
			if name := f[len(f)-3]; name != o.Name && !strings.HasPrefix(name, o.Name+".") ||
				versions.Compare("rpm", o.To, f[len(f)-1]) < 0 {
				continue
			}
			if at.Class != "" {
				o.Class = at.Class
			}
			if at.Severity.Rank() > o.Severity.Rank() {
				o.Severity = at.Severity
			}
			if o.Released.IsZero() || at.Released.Before(o.Released) && !at.Released.IsZero() {
				o.Released = at.Released
			}
			if at.Restart {
				o.Restart = update.RestartDevice
			}
			o.Advisories = append(append(o.Advisories, at.ID), at.Names...)
		}
	}
}

// wanted are those of the versions that the device has in another one, older, or newer where back is meant.
func (u RPMUpdates) wanted(have map[string]string, all []work.Version, back bool, log io.Writer) (argv []string) {
	for _, v := range all {
		is := have[v.Name]
		if v.Source != u.Tool || is == "" || strings.HasPrefix(v.Name, "-") {
			continue
		}
		if c := versions.Compare("rpm", is, v.Version); c < 0 && !back || c > 0 && back {
			joint := "-"
			if u.Tool == "zypper" {
				joint = "="
			}
			argv = append(argv, v.Name+joint+v.Version)
			if log != nil {
				fmt.Fprintf(log, "%s %s → %s\n", v.Name, is, v.Version)
			}
		}
	}
	slices.Sort(argv)
	return argv
}

// change runs the tool on the versions that the device lacks.
func (u RPMUpdates) change(ctx context.Context, all []work.Version, back bool, log io.Writer, verb ...string) error {
	release, err := take(ctx)
	if err != nil {
		return err
	}
	defer release()
	have, err := u.have(ctx)
	if err != nil {
		return err
	}
	argv := u.wanted(have, all, back, log)
	if len(argv) == 0 {
		fmt.Fprintln(log, "Nothing of these is missing here.")
		return nil
	}
	var said bytes.Buffer
	both := io.MultiWriter(log, &said)
	exit, err := unix.Runner{}.Run(ctx, link.Command{Argv: append(u.tool(verb...), argv...), Env: []string{"LC_ALL=C.UTF-8"}}, both, both)
	if err == nil && exit != 0 && !(u.Tool == "zypper" && exit >= 100 && exit <= 103) { // which tell of updates and restarts
		err = fmt.Errorf("%s ended with %d: %s", u.Tool, exit, lastLines(said.String()))
	}
	return err
}

// Fetch implements host.Updates.
func (u RPMUpdates) Fetch(ctx context.Context, all []work.Version, log io.Writer) error {
	if u.Tool == "zypper" {
		return u.change(ctx, all, false, log, "install", "--download-only")
	}
	return u.change(ctx, all, false, log, "upgrade", "--downloadonly")
}

// Install implements host.Updates.
func (u RPMUpdates) Install(ctx context.Context, all []work.Version, log io.Writer) error {
	if u.Tool == "zypper" {
		return u.change(ctx, all, false, log, "install", "--no-recommends")
	}
	return u.change(ctx, all, false, log, "upgrade")
}

// Back implements host.Updates.
func (u RPMUpdates) Back(ctx context.Context, all []work.Version, log io.Writer) error {
	if u.Tool == "zypper" {
		return u.change(ctx, all, true, log, "install", "--oldpackage", "--no-recommends")
	}
	return u.change(ctx, all, true, log, "downgrade")
}

// Restart implements host.Updates: dnf needs-restarting -r ends with 1, zypper needs-rebooting with 102, where it is so.
func (u RPMUpdates) Restart(ctx context.Context) (bool, error) {
	argv, needs := u.tool("needs-restarting", "-r"), 1
	if u.Tool == "zypper" {
		argv, needs = u.tool("needs-rebooting"), 102
	}
	var out bytes.Buffer
	exit, said, err := u.ask(ctx, &out, argv...)
	if err != nil || strings.Contains(said, "No such command") { // it is a part of its own
		return u.updates.Restart(ctx)
	}
	return exit == needs, nil
}

// rpmTool is the tool of a distribution of RPM packages; "" for any other.
func rpmTool() string {
	for _, tool := range []string{"zypper", "dnf"} {
		if _, err := exec.LookPath(tool); err == nil {
			return tool
		}
	}
	return ""
}
