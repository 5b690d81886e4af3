package work

import (
	"encoding/json"
	"testing"
)

// FuzzValidate reads steps as people send them.
func FuzzValidate(f *testing.F) {
	f.Add([]byte(`[{"do":"script","interpreter":"sh","body":"true"}]`))
	f.Add([]byte(`[{"do":"file","path":"../../etc/passwd"}]`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var steps []Step
		if json.Unmarshal(text, &steps) != nil || Validate(steps, nil) != nil {
			return
		}
		c := Progress{}
		if m, ok := c.Next(steps); !ok && len(steps) > 0 {
			t.Errorf("%s begins with nothing: %+v", text, m)
		}
	})
}
