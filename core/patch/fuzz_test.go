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
		at := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
		for i := range 3 * len(r.Rings) {
			if s.At < len(s.Rings) {
				s.Rings[s.At].Devices = len(text) % (i + 2)
				if i%3 > 0 {
					s.Rings[s.At].Job = "job"
				}
			}
			was := said(s)
			do, changed := r.Next(&s, Runs{All: 4, Over: len(text) % 5, Away: i % 2}, at)
			if changed != (said(s) != was) {
				t.Errorf("%s: changed is %v: from %s to %s", do, changed, was, said(s))
			}
			if do == DoJudge {
				r.Judged(&s, Verdict{Go: i%4 > 0})
			}
			at = at.Add(time.Hour)
		}
	})
}
