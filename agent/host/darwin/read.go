package darwin

import (
	"regexp"
	"strconv"
	"strings"

	"moorwatch.example/core/update"
)

// source is how updates of macOS are named.
const source = "macos"

// Offer is an update as softwareupdate(8) offers it, with the label by which it is installed.
type Offer struct {
	update.Update
	Label string
}

var field = regexp.MustCompile(`(Title|Version|Size|Recommended|Action): ([^,]*)`)

// Offers reads what softwareupdate --list prints: a label a line, and after it its title, version, size and whether it
// asks for a restart.
func Offers(out []byte) (all []Offer) {
	label := ""
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSpace(line)
		if rest, ok := strings.CutPrefix(line, "* Label: "); ok {
			label = rest
			continue
		}
		fields := map[string]string{}
		for _, m := range field.FindAllStringSubmatch(line, -1) {
			fields[m[1]] = strings.TrimSpace(m[2])
		}
		if label == "" || fields["Title"] == "" || fields["Version"] == "" {
			continue
		}
		o := Offer{update.Update{Source: source, Name: fields["Title"], Title: fields["Title"], To: fields["Version"],
			Class: update.Feature}, label}
		if kib, err := strconv.ParseInt(strings.TrimRight(fields["Size"], "KiB"), 10, 64); err == nil {
			o.Size = kib << 10
		}
		lower := strings.ToLower(o.Title)
		switch {
		// which carry its security fixes
		case strings.Contains(lower, "security"), strings.HasPrefix(lower, "macos"), strings.HasPrefix(lower, "safari"):
			o.Class = update.Security
		case strings.Contains(lower, "xprotect"), strings.Contains(lower, "mrt"), strings.Contains(lower, "gatekeeper"):
			o.Class = update.Definition
		}
		if fields["Action"] == "restart" {
			o.Restart = update.RestartDevice
		}
		all = append(all, o)
		label = ""
	}
	return all
}
