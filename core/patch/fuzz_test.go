package patch

import (
	"encoding/json"
	"testing"
	"time"
)

// FuzzRollout reads rollouts as people send them: what is taken can be written, and begins with a move.
func FuzzRollout(f *testing.F) {
	f.Add([]byte(`{"name":"December","rings":[{"percent":10},{"percent":100}],"restart":"needed"}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var r Rollout
		if json.Unmarshal(text, &r) != nil || r.Validate() != nil {
			return
		}
		if _, err := json.Marshal(r); err != nil {
			t.Error(err)
		}
		s := State{Phase: Patching, Rings: make([]RingState, len(r.Rings))}
		r.Next(&s, Runs{}, time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC))
	})
}
