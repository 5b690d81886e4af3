package job

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
)

// FuzzOutcome reads how a run ended, as a device tells it: nothing is longer than it may be, and it has ended.
func FuzzOutcome(f *testing.F) {
	f.Add([]byte(`{"id":"x","state":"succeeded","head":"aGVhdGhlcg==","restarted":"2026-11-27T08:00:00Z"}`))
	f.Add([]byte(`{"state":"running","dropped":-5,"reason":"\u001b[2J","restarted":"99999-01-01T00:00:00Z"}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var r link.RunResult
		if json.Unmarshal(text, &r) != nil {
			return
		}
		o := outcomeOf(uuid.Nil, uuid.Nil, r)
		if !o.State.Over() || len(o.head) > link.RunHead || len(o.tail) > link.RunTail || o.dropped < 0 || !utf8.ValidString(o.Reason) {
			t.Errorf("%s becomes %+v", text, o)
		}
	})
}
