// Package versions is the order of versions, as each family of packages orders its own.
package versions

import (
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
	gem "github.com/aquasecurity/go-gem-version"
	pep440 "github.com/aquasecurity/go-pep440-version"
	apk "github.com/knqyf263/go-apk-version"
	rpm "github.com/knqyf263/go-rpm-version"
	maven "github.com/masahiro331/go-mvn-version"
)

// longest is how many bytes of a version are ordered by its type's own rules. None that is real has more, and some of
// the rules take longer than their input is long.
const longest = 256

// Compare orders two versions of packages of a type, as package URLs name types (ECMA-427): -1 when a is
// older than b, 0 when they are equal, 1 when it is newer. Types without an order of their own here, and
// versions that do not follow the order of their type, are ordered as dotted numbers are.
func Compare(kind, a, b string) int {
	if a == b {
		return 0
	}
	if len(a) > longest || len(b) > longest {
		return Debian(a, b)
	}
	switch kind {
	case "rpm":
		return rpm.NewVersion(a).Compare(rpm.NewVersion(b))
	case "apk":
		x, bad := apk.NewVersion(a)
		y, worse := apk.NewVersion(b)
		if bad == nil && worse == nil {
			switch { // the library takes 1.0 for older than 1.0_rc1; apk-tools do not
			case early(a, b):
				return -1
			case early(b, a):
				return 1
			}
			return x.Compare(y)
		}
	case "pypi":
		x, bad := pep440.Parse(a)
		y, worse := pep440.Parse(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
	case "gem":
		x, bad := gem.NewVersion(a)
		y, worse := gem.NewVersion(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
	case "maven":
		x, bad := maven.NewVersion(a)
		y, worse := maven.NewVersion(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
	case "nuget":
		if c, ok := nuget(a, b); ok {
			return c
		}
	case "npm", "cargo", "golang", "composer", "hex", "pub", "swift":
		x, bad := semver.NewVersion(a)
		y, worse := semver.NewVersion(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
		a, b = strings.TrimPrefix(a, "v"), strings.TrimPrefix(b, "v")
	}
	return Debian(a, b)
}

// early tells whether a version of Alpine is another's with a name of what comes before it, as 1.0_rc1 is of 1.0.
func early(a, of string) bool {
	rest, ok := strings.CutPrefix(a, of)
	return ok && slices.ContainsFunc([]string{"_alpha", "_beta", "_pre", "_rc"}, func(s string) bool { return strings.HasPrefix(rest, s) })
}
