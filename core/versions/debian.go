package versions

import "strings"

// Debian orders versions as Debian does (Debian Policy 5.6.12, deb-version(7)), which also
// orders dotted numbers as people expect: -1 when a is older than b, 0 when they are equal, 1 when it
// is newer.
func Debian(a, b string) int {
	ea, a := epoch(a)
	eb, b := epoch(b)
	if c := compare(ea, eb); c != 0 {
		return c
	}
	ua, ra := revision(a)
	ub, rb := revision(b)
	if c := compare(ua, ub); c != 0 {
		return c
	}
	return compare(ra, rb)
}

func epoch(v string) (epoch, rest string) {
	if e, r, ok := strings.Cut(v, ":"); ok {
		return e, r
	}
	return "0", v
}

func revision(v string) (upstream, revision string) {
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		return v[:i], v[i+1:]
	}
	return v, "0"
}

// compare goes through both by turns: what is no digit, then a number.
func compare(a, b string) int {
	for a != "" || b != "" {
		for {
			x, y := order(a), order(b)
			if x != y {
				return sign(x - y)
			}
			if x == 0 {
				break // both at a digit, or at their end
			}
			a, b = a[1:], b[1:]
		}
		var x, y string
		x, a = number(a)
		y, b = number(b)
		if len(x) != len(y) {
			return sign(len(x) - len(y))
		}
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
	}
	return 0
}

// order is the weight of the first character that is no digit: ~ before the end, letters before others.
func order(s string) int {
	switch {
	case s == "" || (s[0] >= '0' && s[0] <= '9'):
		return 0
	case s[0] == '~':
		return -1
	case s[0] >= 'A' && s[0] <= 'Z' || s[0] >= 'a' && s[0] <= 'z':
		return int(s[0])
	}
	return int(s[0]) + 256
}

// number takes the digits at the beginning, without leading zeros.
func number(s string) (digits, rest string) {
	i := 0
	for i < len(s) && s[i] >= '0' && s[i] <= '9' {
		i++
	}
	return strings.TrimLeft(s[:i], "0"), s[i:]
}

func sign(n int) int { return min(max(n, -1), 1) }
