package windows

import (
	"fmt"
	"strings"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/eventlog"
)

// channelLevels are the levels of channels (winmeta.xml) that are as severe as one of
// core/eventlog.Severities: 1 critical, 2 error, 3 warning, 4 information, 5 verbose, 0 any.
var channelLevels = []string{"Level=1", "Level=1", "Level=1", "Level<=2 and Level>0", "Level<=3 and Level>0", "Level<=3 and Level>0",
	"Level<=4", "Level<=5"}

// channelFilter writes what is wanted as the XPath that channels are asked with.
func channelFilter(q link.EventQuery, past bool) string {
	var all []string
	if n := eventlog.Severity(q.Level); n >= 0 {
		all = append(all, "("+channelLevels[n]+")")
	}
	if q.Unit != "" && !strings.ContainsAny(q.Unit, `'"`) {
		all = append(all, "Provider[@Name='"+q.Unit+"']")
	}
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }
	if past && !q.Since.IsZero() {
		all = append(all, fmt.Sprintf("TimeCreated[@SystemTime>='%s']", at(q.Since)))
	}
	if past && !q.Until.IsZero() {
		all = append(all, fmt.Sprintf("TimeCreated[@SystemTime<='%s']", at(q.Until)))
	}
	if len(all) == 0 {
		return "*"
	}
	return "*[System[" + strings.Join(all, " and ") + "]]"
}
