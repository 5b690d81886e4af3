package versions

import "testing"

// FuzzCompare orders versions of every kind, as devices and feeds write them: the order has two sides.
func FuzzCompare(f *testing.F) {
	for _, kind := range []string{"deb", "rpm", "npm", "golang", "pypi", "generic", "gem", "maven", "nuget", "apk", ""} {
		f.Add(kind, "1.0~rc1-2", "1:1.0+b1")
		f.Add(kind, "", "v2.0.0-alpha.1")
	}
	f.Fuzz(func(t *testing.T, kind, a, b string) {
		if x, y := Compare(kind, a, b), Compare(kind, b, a); x != -y {
			t.Errorf("%q %q against %q is %d, and %d the other way", kind, a, b, x, y)
		}
		if Compare(kind, a, a) != 0 {
			t.Errorf("%q is not itself", a)
		}
	})
}
