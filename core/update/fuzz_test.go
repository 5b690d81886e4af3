package update

import (
	"encoding/json"
	"testing"
)

// FuzzClean reads the updates that a device says it is offered.
func FuzzClean(f *testing.F) {
	f.Add([]byte(`[{"source":"packages","name":"bash","from":"1","to":"2","severity":"critical"}]`))
	f.Add([]byte(`[{"source":"\u001b[2J","name":"","size":-1}]`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var all []Update
		if json.Unmarshal(text, &all) != nil {
			return
		}
		once := Clean(all)
		if len(once) > len(all) {
			t.Errorf("%d updates became %d", len(all), len(once))
		}
		a, _ := json.Marshal(once)
		b, _ := json.Marshal(Clean(once))
		if string(a) != string(b) {
			t.Errorf("cleaned again it is another: %s, %s", a, b)
		}
	})
}
