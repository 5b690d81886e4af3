package windows

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/core/patch"
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
func (r Record) Offer() patch.Update {
	u := patch.Update{Source: source, Name: r.Title, Title: r.Title, To: r.ID + "." + strconv.Itoa(int(r.Revision)), Class: patch.Other, Size: r.Size, Released: r.Changed}
	if len(r.Articles) > 0 {
		u.Name = "KB" + strings.Join(r.Articles, ", KB")
	}
	has := func(names ...string) bool {
		return slices.ContainsFunc(r.Categories, func(c string) bool { return slices.Contains(names, c) })
	}
	switch {
	case has("Security Updates") || r.Severity != "":
		u.Class = patch.Security
	case has("Critical Updates"):
		u.Class = patch.Critical
	case has("Definition Updates"):
		u.Class = patch.Definition
	case has("Drivers"):
		u.Class = patch.Driver
	case has("Feature Packs", "Upgrades", "Updates", "Update Rollups", "Service Packs"):
		u.Class = patch.Feature
	}
	u.Severity = map[string]patch.Severity{"Critical": "critical", "Important": "high", "Moderate": "medium", "Low": "low"}[r.Severity]
	if r.Restart > 0 {
		u.Restart = patch.RestartDevice
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
