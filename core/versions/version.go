// Package versions is the order of versions, as each family of packages orders its own.
package versions

import (
	"strings"

	"github.com/Masterminds/semver/v3"
	pep440 "github.com/aquasecurity/go-pep440-version"
	apk "github.com/knqyf263/go-apk-version"
	rpm "github.com/knqyf263/go-rpm-version"
)

// Compare orders two versions of packages of a type, as package URLs name types (ECMA-427): -1 when a is
// older than b, 0 when they are equal, 1 when it is newer. Types without an order of their own here, and
// versions that do not follow the order of their type, are ordered as dotted numbers are.
func Compare(kind, a, b string) int {
	if a == b {
		return 0
	}
	switch kind {
	case "rpm":
		return rpm.NewVersion(a).Compare(rpm.NewVersion(b))
	case "apk":
		x, bad := apk.NewVersion(a)
		y, worse := apk.NewVersion(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
	case "pypi":
		x, bad := pep440.Parse(a)
		y, worse := pep440.Parse(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
	case "npm", "cargo", "golang", "composer", "gem", "hex", "maven", "nuget", "pub", "swift":
		x, bad := semver.NewVersion(a)
		y, worse := semver.NewVersion(b)
		if bad == nil && worse == nil {
			return x.Compare(y)
		}
		a, b = strings.TrimPrefix(a, "v"), strings.TrimPrefix(b, "v")
	}
	return Debian(a, b)
}
