package session

import (
	"encoding/json"
	"strings"
	"testing"

	"moorwatch.example/core/recording"
)

// FuzzKept reads what a device and a viewer send, as it is recorded: what was copied, and what the keys targets, is never in
// it.
func FuzzKept(f *testing.F) {
	f.Add([]byte(`{"clip":{"text":"heather"}}`), true)
	f.Add([]byte(`{"key":{"name":"heather","down":true},"text":"heather"}`), false)
	f.Add([]byte(`{"note":{"name":"Wren","text":"hello"}}`), true)
	f.Fuzz(func(t *testing.T, message []byte, fromDevice bool) {
		kind := byte(recording.EntryMark)
		if fromDevice {
			kind = recording.EntryEvent
		}
		e, _ := kept(recording.Entry{Kind: kind, Data: message})
		if e.Data == nil {
			return
		}
		if !json.Valid(e.Data) {
			t.Errorf("%q is recorded", e.Data)
		}
		var in, out struct {
			Clip *struct{ Text string }
			Text string
		}
		if json.Unmarshal(message, &in) != nil || json.Unmarshal(e.Data, &out) != nil {
			return
		}
		if out.Text != "" && !fromDevice || out.Clip != nil && out.Clip.Text != "" {
			t.Errorf("%s is recorded of %s", e.Data, strings.ToValidUTF8(string(message), "?"))
		}
	})
}
