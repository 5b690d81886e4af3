package access

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestCommon(t *testing.T) {
	for _, password := range []string{
		"password", "Password2026!", "p4ssw0rd!!!!", "iloveyou1234", "123456789012", "abcdefghijkl", "qwertyuiopasdf", "aaaaaaaaaaaa",
		"abababababab",
		"passwordpassword", "1q2w3e4r5t6y", "Sunshine#2026", "football123456", "....dragon....", "987654321098", "qwertzuiop12",
	} {
		if !Common(password) {
			t.Errorf("%q is let pass", password)
		}
	}
	for _, password := range []string{
		"four quiet moor words", "heather-on-the-hill", "Kf7#pz!wQ2mT", "der Nebel steigt aus dem Moor", "grüne Wiesen, 12 Schafe",
		"correct battery peat staple", "wren 41 larkmoor",
	} {
		if Common(password) {
			t.Errorf("%q is refused", password)
		}
	}
	if n := len(common) / 4; n < 40_000 || len(common)%4 != 0 {
		t.Errorf("the list has %d entries", n)
	}
}

func TestCheckPassword(t *testing.T) {
	for password, want := range map[string]string{
		"elevenchars":              "at least 12",
		"Moor4Ever99":              "at least 12",
		"Password2026":             "guess",
		"ines@curlew.example":      "e-mail",
		"ines.ines.ines":           "e-mail",
		"curlew-curlew-1":          "e-mail",
		strings.Repeat("a b", 500): "longer than 1024",
		"four quiet moor words":    "",
		"zwölf zeichen":            "",
	} {
		err := CheckPassword(password, "ines@curlew.example")
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q: %v, want %q", password, err, want)
		}
	}
}

func FuzzCheckPassword(f *testing.F) {
	f.Add("Password2026!", "ines@curlew.example")
	f.Add("é\xffaaaaaaaaaaaaaa", "@")
	f.Fuzz(func(t *testing.T, password, email string) {
		if CheckPassword(password, email) == nil && (utf8.RuneCountInString(password) < MinPassword || len(password) > 1024) {
			t.Errorf("%q is taken", password)
		}
	})
}
