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
		c := Course{}
		for i := 0; ; i++ {
			if _, ok := c.Next(steps); !ok {
				break
			}
			if i > 10*len(steps)+10 {
				t.Fatalf("%s does not end", text)
			}
			break // what follows depends on what the steps did
		}
	})
}
