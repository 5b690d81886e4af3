package versions

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
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

// What each family of packages says of its own versions, from the oldest to the newest; those of one line are equal.
func TestCompare(t *testing.T) {
	for kind, rising := range map[string][][]string{
		"gem": {{"0.9"}, {"1.0.0.a"}, {"1.0.0.beta2"}, {"1.0.0.rc1"}, {"1.0.0", "1.0", "1"}, {"1.0.1"}, {"1.2.0.pre"}, {"1.2"}, {"1.10"},
			{"10.0.1"}},
		"maven": {{"1-alpha-1", "1.0-alpha1"}, {"1.0-beta-2"}, {"1.0-milestone-1", "1.0-M1"}, {"1.0-rc-1", "1.0-CR1"}, {"1.0-SNAPSHOT"},
			{"1.0", "1", "1.0.Final", "1.0-GA", "1.0.0"}, {"1.0-sp1"}, {"1.0-xyz"}, {"1.0-1"}, {"1.0.1"}, {"1.9"}, {"1.10"}},
		"nuget": {{"0.9"}, {"1.0.0-alpha"}, {"1.0.0-ALPHA.1", "1.0.0-alpha.1"}, {"1.0.0-alpha.2"}, {"1.0.0-alpha.10"}, {"1.0.0-beta"},
			{"1.0.0-RC.1", "1.0-rc.1"}, {"1.0.0", "1", "1.0", "1.0.0.0", "1.0.0+build", "01.0"}, {"1.0.0.1"}, {"1.0.1-x"}, {"1.0.1"},
			{"1.10"}, {"12.0.3"}},
		"npm":    {{"1.0.0-alpha"}, {"1.0.0-alpha.1"}, {"1.0.0-beta"}, {"1.0.0"}, {"1.0.1"}, {"1.2.0"}, {"1.10.0"}},
		"golang": {{"v0.0.0-20260101000000-abcdef012345"}, {"v1.0.0-rc.1"}, {"v1.0.0"}, {"v1.9.0"}, {"v1.10.0"}},
		"pypi": {{"1.0.dev1"}, {"1.0a1"}, {"1.0b2"}, {"1.0rc1", "1.0-rc.1", "1.0c1"}, {"1.0", "1.0.0"}, {"1.0.post1"}, {"1.1"},
			{"1!0.1"}},
		"apk":  {{"1.0_alpha1"}, {"1.0_rc1"}, {"1.0"}, {"1.0-r1"}, {"1.0_p1"}, {"1.1"}, {"1.10"}},
		"rpm":  {{"1.0~rc1"}, {"1.0"}, {"1.0^git1"}, {"1.0.1"}, {"1.9-1"}, {"1.10-1"}, {"1:0.1"}},
		"deb":  {{"1.0~rc1"}, {"1.0"}, {"1.0-1"}, {"1.9"}, {"1.10"}, {"1:0.1"}},
		"else": {{"1.9"}, {"1.10"}, {"2"}},
	} {
		for i, one := range rising {
			for j, other := range rising {
				for _, a := range one {
					for _, b := range other {
						if got := Compare(kind, a, b); got != sign(i-j) {
							t.Errorf("%s: %s and %s: %d, and not %d", kind, a, b, got, sign(i-j))
						}
					}
				}
			}
		}
	}
	long := strings.Repeat("1.", 200)
	for _, kind := range []string{"gem", "maven", "nuget", "npm", "pypi", "apk", "rpm"} {
		for _, odd := range [][2]string{{"no version", "1.0"}, {"", "1"}, {long + "1", long + "2"}, {"ä", "ö"}} {
			if Compare(kind, odd[0], odd[1]) != -Compare(kind, odd[1], odd[0]) {
				t.Errorf("%s: %.20q and %.20q are not ordered", kind, odd[0], odd[1])
			}
		}
	}
}

// pairs are random versions, made of what versions are made of.
func pairs(t *testing.T, n int, pieces []string) (all [][2]string) {
	t.Helper()
	seed := uint64(os.Getpid())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 3))
	word := func() string {
		s := strconv.Itoa(r.IntN(3))
		for range r.IntN(5) {
			s += pieces[r.IntN(len(pieces))]
		}
		return s
	}
	for range n {
		all = append(all, [2]string{word(), word()})
	}
	return all
}

// agrees holds what Compare says of pairs against what a program says of them: one number a line, or a word where it
// takes one of the two for no version.
func agrees(t *testing.T, kind string, all [][2]string, cmd *exec.Cmd) {
	t.Helper()
	var in strings.Builder
	for _, p := range all {
		in.WriteString(p[0] + " " + p[1] + "\n")
	}
	cmd.Stdin = strings.NewReader(in.String())
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v", cmd, err)
	}
	said := strings.Fields(string(out))
	if len(said) != len(all) {
		t.Fatalf("%d answers to %d pairs", len(said), len(all))
	}
	held := 0
	for i, p := range all {
		want, err := strconv.Atoi(said[i])
		if err != nil {
			continue
		}
		held++
		if got := Compare(kind, p[0], p[1]); got != want {
			t.Errorf("%s %s: %d, and not %d", p[0], p[1], got, want)
		}
	}
	if held < len(all)/4 {
		t.Errorf("only %d of %d pairs are versions", held, len(all))
	}
}

const manyPairs = 11_000

// Debian's own program orders thousands of versions as this does.
func TestDebianAsDpkg(t *testing.T) {
	if exec.Command("perl", "-MDpkg::Version", "-e", "1").Run() != nil {
		t.Skip("Dpkg::Version is missing: install dpkg-dev")
	}
	all := pairs(t, manyPairs, []string{".", "0", "1", "2", "10", "a", "b", "~", "+", "-", ".1", "~rc1", "-1", "+deb12u1"})
	agrees(t, "deb", all, exec.Command("perl", "-MDpkg::Version", "-e", `while (<>) { my ($a, $b) = split;
		my ($x, $y) = (Dpkg::Version->new($a), Dpkg::Version->new($b));
		print(($x->is_valid && $y->is_valid ? $x <=> $y : "none"), "\n"); }`))
}

// So does RPM.
func TestCompareAsRPM(t *testing.T) {
	if _, err := exec.LookPath("rpm"); err != nil {
		t.Skip("rpm is missing")
	}
	all := pairs(t, manyPairs, []string{".", "0", "1", "2", "10", "a", "b", "~", "^", ".1", "~rc1", ".el9", "_"})
	agrees(t, "rpm", all, exec.Command("rpm", "--eval", `%{lua:
		for line in io.lines() do local a, b = line:match("(%S+) (%S+)"); io.write(rpm.vercmp(a, b), "\n") end}`))
}

// And so does Python's own library of versions.
func TestCompareAsPython(t *testing.T) {
	if exec.Command("python3", "-c", "import packaging.version").Run() != nil {
		t.Skip("python3-packaging is missing")
	}
	all := pairs(t, manyPairs, []string{".0", ".1", ".2", ".10", "a1", "b2", "rc1", ".post1", ".dev1", "-1", "0", "1"})
	agrees(t, "pypi", all, exec.Command("python3", "-c", `import sys
from packaging.version import Version, InvalidVersion
for line in sys.stdin:
    a, b = line.split()
    try: x, y = Version(a), Version(b); print((x > y) - (x < y))
    except InvalidVersion: print("none")`))
}
