package windows

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	fw "moorwatch.example/agent/host/firmware"
	"moorwatch.example/core/update"
)

// source is how updates of Windows are named.
const source = "windows"

// Record is what the Windows Update Agent tells of an update (IUpdate and the interfaces that extend it).
type Record struct {
	Title      string
	ID         string // UpdateIdentity.UpdateID
	Revision   int32
	Severity   string // MsrcSeverity
	Size       int64  // MaxDownloadSize
	Changed    time.Time
	Categories []string
	Articles   []string // KBArticleIDs
	Weaknesses []string // CveIDs
	Restart    int32    // InstallationBehavior.RebootBehavior: 0 never, 1 always, 2 perhaps
	Hidden     bool
}

// Offer is the record as an update. Its version is the identity of the update with its revision, by which it is found
// again to be installed.
func (r Record) Offer() update.Update {
	u := update.Update{Source: source, Name: r.Title, Title: r.Title, To: r.ID + "." + strconv.Itoa(int(r.Revision)), Class: update.Other,
		Size: r.Size, Released: r.Changed}
	if len(r.Articles) > 0 {
		u.Name = "KB" + strings.Join(r.Articles, ", KB")
	}
	has := func(names ...string) bool {
		return slices.ContainsFunc(r.Categories, func(c string) bool { return slices.Contains(names, c) })
	}
	switch {
	case has("Security Updates") || r.Severity != "":
		u.Class = update.Security
	case has("Critical Updates"):
		u.Class = update.Critical
	case has("Definition Updates"):
		u.Class = update.Definition
	case has("Drivers"):
		u.Class = update.Driver
	case has("Feature Packs", "Upgrades", "Updates", "Update Rollups", "Service Packs"):
		u.Class = update.Feature
	}
	u.Severity = map[string]update.Severity{"Critical": "critical", "Important": "high", "Moderate": "medium", "Low": "low"}[r.Severity]
	if r.Restart > 0 {
		u.Restart = update.RestartDevice
	}
	if r.Hidden {
		u.Blocked = "It is hidden at the device."
	}
	u.Advisories = append(u.Advisories, r.Weaknesses...)
	return u
}

// Results of an installation (OperationResultCode).
var results = map[int32]string{2: "", 3: "it was installed, with errors", 4: "it failed", 5: "it was ended"}

// Outcome is why an installation did not go well; "" where it did.
func Outcome(code int32) string {
	if why, ok := results[code]; ok {
		return why
	}
	return "it did not come to its end"
}

// namesOf finds the serial number and the UUID in the firmware's table, "" where there is none.
func namesOf(table []byte) (serial, board string) {
	for s := range fw.All(table) {
		if s.Kind() == fw.System {
			return s.Text(7), s.UUID()
		}
	}
	return "", ""
}

// The kinds of entries of an access list, and what their masks allow (Access Mask Format, File
// Access Rights Constants).
const (
	aceAllows    = 0
	aceDenies    = 1
	aceInherits  = 0x10
	aceOnlyBelow = 0x08

	maskFull    = 0x1f01ff
	maskGeneric = 0x10000000
	maskWrite   = 0x000116 // write data, append, write attributes
	maskExecute = 0x000020
	maskRead    = 0x000001
	maskDelete  = 0x010000
)

// accessOf tells an entry of an access list in words.
func accessOf(name string, kind, flags byte, mask uint32) string {
	verb := map[byte]string{aceAllows: "may", aceDenies: "may not"}[kind]
	if verb == "" {
		return fmt.Sprintf("%s: an entry of kind %d", name, kind)
	}
	var what string
	switch {
	case mask&maskFull == maskFull || mask&maskGeneric != 0:
		what = "do everything"
	default:
		var words []string
		for _, w := range []struct {
			bits uint32
			word string
		}{{maskRead, "read"}, {maskWrite, "write"}, {maskExecute, "run"}, {maskDelete, "remove"}} {
			if mask&w.bits != 0 {
				words = append(words, w.word)
			}
		}
		if what = strings.Join(words, ", "); what == "" {
			what = fmt.Sprintf("do what the mask 0x%08x says", mask)
		}
	}
	text := fmt.Sprintf("%s %s %s", name, verb, what)
	if flags&aceOnlyBelow != 0 {
		text += ", below it alone"
	}
	if flags&aceInherits != 0 {
		text += " (from above)"
	}
	return text
}

// physical is what a disk says of itself.
type physical struct{ name, serial, revision string }

// diskOf reads a STORAGE_DEVICE_DESCRIPTOR.
func diskOf(b []byte) (d physical) {
	text := func(at int) string {
		if at+4 > len(b) {
			return ""
		}
		from := int(binary.LittleEndian.Uint32(b[at:]))
		if from <= 0 || from >= len(b) {
			return ""
		}
		s, _, _ := strings.Cut(string(b[from:]), "\x00")
		return strings.TrimSpace(s)
	}
	return physical{name: strings.TrimSpace(text(12) + " " + text(16)), revision: text(20), serial: text(24)}
}
