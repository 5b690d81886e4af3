package versions

import (
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
)

func TestDebian(t *testing.T) {
	// From the oldest to the newest.
	for _, rising := range [][]string{
		{"0.9", "1.0~beta1", "1.0~rc1", "1.0", "1.0-1", "1.0-1.1", "1.0-2", "1.0.1", "1.2", "1.10", "1:0.1"},
		{"7.88.1-10+deb12u4", "7.88.1-10+deb12u5", "7.88.1-10+deb12u12"}, {"2.0a", "2.0b", "2.0+1"}, {"128.0.1", "128.0.10", "128.1"},
	} {
		for i := range rising {
			for j := range rising {
				if got := Debian(rising[i], rising[j]); got != sign(i-j) {
					t.Errorf("%s and %s: %d", rising[i], rising[j], got)
				}
			}
		}
	}
	if Debian("1.00", "1.0") != 0 || Debian("01", "1") != 0 {
		t.Error("leading zeros count")
	}
}

// What dpkg says of two versions is said here.
func FuzzDebian(f *testing.F) {
	f.Add("1.0~rc1", "1.0")
	f.Add("1:2-3", "2-3")
	f.Fuzz(func(t *testing.T, a, b string) {
		if Debian(a, b) != -Debian(b, a) || Debian(a, a) != 0 {
			t.Errorf("%q and %q are not ordered", a, b)
		}
	})
}

func TestDebianAsDpkg(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("there is no dpkg to compare with")
	}
	r := rand.New(rand.NewPCG(3, 3))
	word := func() string {
		var b strings.Builder
		b.WriteByte(byte('0' + r.IntN(3)))
		for range r.IntN(5) {
			b.WriteByte(".0123ab~+-"[r.IntN(10)])
		}
		return strings.TrimRight(b.String(), "-") + "0"
	}
	for range 20 {
		a, b := word(), word()
		for operator, wants := range map[string]bool{"lt": Debian(a, b) < 0, "eq": Debian(a, b) == 0} {
			if is := exec.Command("dpkg", "--compare-versions", a, operator, b).Run() == nil; is != wants {
				t.Errorf("%s %s %s: dpkg says %v", a, operator, b, is)
			}
		}
	}
}
