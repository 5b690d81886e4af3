package transfer

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Names on a device are bytes, and messages are text. A byte that is not part of valid UTF-8
// travels as one character of the last private-use plane, U+10FF00 plus the byte, and so do the
// bytes of such a character itself, so that every name has one text and every text one name.
const (
	escape    = 0x10FF00
	escapeEnd = escape + 0xFF
)

// Text writes a name as text.
func Text(name string) string {
	plain := true
	for i, r := range name {
		if r >= escape && r <= escapeEnd {
			plain = false
		} else if r == utf8.RuneError {
			_, n := utf8.DecodeRuneInString(name[i:])
			plain = plain && n > 1
		}
	}
	if plain {
		return name
	}
	var b strings.Builder
	for len(name) > 0 {
		r, n := utf8.DecodeRuneInString(name)
		if (r == utf8.RuneError && n == 1) || (r >= escape && r <= escapeEnd) {
			for _, c := range []byte(name[:n]) {
				b.WriteRune(escape + rune(c))
			}
		} else {
			b.WriteString(name[:n])
		}
		name = name[n:]
	}
	return b.String()
}

// Name reads what Text wrote.
func Name(text string) string {
	if !strings.ContainsFunc(text, escaped) {
		return text
	}
	b := make([]byte, 0, len(text))
	for _, r := range text {
		if escaped(r) {
			b = append(b, byte(r-escape))
		} else {
			b = utf8.AppendRune(b, r)
		}
	}
	return string(b)
}

func escaped(r rune) bool { return r >= escape && r <= escapeEnd }

// reserved are the names that Windows keeps for devices, with any extension (Microsoft, "Naming
// Files, Paths, and Namespaces").
var reserved = map[string]bool{"CON": true, "PRN": true, "AUX": true, "NUL": true}

func init() {
	for _, port := range []string{"COM", "LPT"} {
		for _, n := range "123456789¹²³" {
			reserved[port+string(n)] = true
		}
	}
}

// CheckName refuses what cannot be the name of a new file on a system, or would be taken for
// something else.
func CheckName(name string, windows bool) error {
	switch {
	case name == "" || name == "." || name == "..":
		return fmt.Errorf("%q is no name of a file", name)
	case len(name) > 255:
		return fmt.Errorf("the name is %d bytes long, and at most 255 are taken", len(name))
	case strings.ContainsAny(name, "/\x00"):
		return fmt.Errorf("%q: a name cannot hold a slash", name)
	case !windows:
		return nil
	}
	stem, _, _ := strings.Cut(strings.ToUpper(name), ".")
	switch {
	case reserved[strings.TrimRight(stem, " ")]:
		return fmt.Errorf("%s is the name of a device on Windows", name)
	case strings.ContainsAny(name, `<>:"\|?*`) || strings.ContainsFunc(name, func(r rune) bool { return r < 32 }):
		return fmt.Errorf(`%q: Windows takes no control character and none of <>:"/\|?* in a name`, name)
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " "):
		return fmt.Errorf("%q: Windows takes no dot or space at the end of a name", name)
	}
	return nil
}
