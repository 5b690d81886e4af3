package versions

import (
	"regexp"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// release is a version of NuGet: one to four numbers, a name of what comes before it, and what it was built of.
var release = regexp.MustCompile(`^v?(\d+(?:\.\d+){0,3})(-[0-9a-z.-]+)?(\+[0-9a-z.-]+)?$`)

// nuget orders two versions as NuGet does: by up to four numbers, missing ones being 0, then as SemVer 2.0.0 orders
// names of what comes before, in which upper and lower case are the same. Source: NuGet documentation, package
// versioning. ok is false where one is no version.
func nuget(a, b string) (c int, ok bool) {
	x, y := release.FindStringSubmatch(strings.ToLower(a)), release.FindStringSubmatch(strings.ToLower(b))
	if x == nil || y == nil {
		return 0, false
	}
	m, n := strings.Split(x[1], "."), strings.Split(y[1], ".")
	for i := range 4 {
		one, other := "", ""
		if i < len(m) {
			one = strings.TrimLeft(m[i], "0")
		}
		if i < len(n) {
			other = strings.TrimLeft(n[i], "0")
		}
		if len(one) != len(other) {
			return sign(len(one) - len(other)), true
		}
		if c := strings.Compare(one, other); c != 0 {
			return c, true
		}
	}
	before, bad := semver.NewVersion("0.0.0" + x[2])
	other, worse := semver.NewVersion("0.0.0" + y[2])
	if bad != nil || worse != nil {
		return 0, false
	}
	return before.Compare(other), true
}
