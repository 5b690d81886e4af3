package inventory

import (
	"encoding/json"
	"testing"
)

// FuzzApply reads differences that a device sends: what they lead to is bounded, and as they say.
func FuzzApply(f *testing.F) {
	base := Of([]Item{{Section: Software, Key: "a", Name: "A", Fields: map[string]string{"version": "1"}}})
	seed, _ := json.Marshal(Compare(base, Of([]Item{{Section: Software, Key: "b", Name: "B"}})))
	f.Add(seed)
	f.Add([]byte(`{"base":"","digest":"","put":[{"section":"software","key":"\u0000"}],"gone":[{"section":"x"}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var d Delta
		if json.Unmarshal(text, &d) != nil {
			return
		}
		after, err := base.Apply(d)
		if err != nil {
			return
		}
		if after.Digest() != d.Digest || len(after) > MaxItems {
			t.Errorf("%d items, %s", len(after), after.Digest())
		}
		for _, c := range Changes(base, after) {
			if c.Signature() == "" || c.Summary == "" {
				t.Errorf("%+v", c)
			}
		}
	})
}
