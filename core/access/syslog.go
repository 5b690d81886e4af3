package access

import (
	"fmt"
	"strings"
	"time"
)

// auditFacility is the syslog facility "log audit" (RFC 5424, 6.2.1), and its severities are notice
// for what was done and warning for what was refused.
const (
	auditFacility   = 13
	severityWarning = 4
	severityNotice  = 5
)

// Syslog writes an entry as a message of RFC 5424 from a host. Its fields stand in structured data;
// 32473 is the enterprise number that IANA keeps for examples.
func (e Entry) Syslog(host string) string {
	severity := severityNotice
	if strings.HasPrefix(e.Result, "refused") || strings.HasSuffix(e.Action, ".refuse") {
		severity = severityWarning
	}
	param := strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`, "\n", " ", "\r", " ")
	data := ""
	for _, f := range [...]struct{ name, value string }{{"seq", fmt.Sprint(e.Seq)}, {"actor", e.Actor}, {"via", e.Via},
		{"address", e.Address}, {"device", e.Device},
		{"deviceName", e.DeviceName}, {"detail", e.Detail}, {"result", e.Result}, {"actorId", e.ActorID}, {"viaId", e.ViaID},
		{"hash", fmt.Sprintf("%x", e.Hash)}, {"key", e.KeyID}, {"signature", fmt.Sprintf("%x", e.Signature)}} {
		if f.value != "" {
			data += fmt.Sprintf(` %s="%s"`, f.name, param.Replace(strings.ToValidUTF8(f.value, "�")))
		}
	}
	return fmt.Sprintf("<%d>1 %s %s moorwatch - %s [audit@32473%s] %s", auditFacility*8+severity, e.At.UTC().Format(time.RFC3339Nano),
		word(host), word(e.Action), data,
		param.Replace(strings.TrimSpace(e.Action+" "+e.DeviceName)))
}

// word is a header field, which holds printable ASCII alone and is no longer than 32 characters here.
func word(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < 33 || r > 126 {
			return -1
		}
		return r
	}, s)
	if s == "" {
		return "-"
	}
	return s[:min(len(s), 32)]
}
