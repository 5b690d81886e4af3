package main

import (
	"bytes"
	"strings"
	"testing"
	"unicode"
)

func TestHarmless(t *testing.T) {
	for text, want := range map[string]string{
		"plain\ttext\r\n":            "plain\ttext\r\n",
		"\x1b]0;title\x07\x1b[2Jred": "\uFFFD]0;title\uFFFD\uFFFD[2Jred",
		"caf\u00e9 \u65e5":           "caf\u00e9 \u65e5",
		"\u009b31m":                  "\uFFFD31m", // C1's control sequence introducer
		"bad \xff byte":              "bad \uFFFD byte",
	} {
		for size := 1; size <= len(text); size++ { // however it is cut
			var out bytes.Buffer
			h := &harmless{to: &out}
			for at := 0; at < len(text); at += size {
				if _, err := h.Write([]byte(text[at:min(at+size, len(text))])); err != nil {
					t.Fatal(err)
				}
			}
			if out.String() != want {
				t.Errorf("%q in pieces of %d is shown as %q", text, size, out.String())
			}
		}
	}
}

func FuzzHarmless(f *testing.F) {
	f.Add([]byte("a\x1b[0mb"), 1)
	f.Fuzz(func(t *testing.T, text []byte, size int) {
		var out bytes.Buffer
		h := &harmless{to: &out}
		for len(text) > 0 {
			n := min(max(size%64, 1), len(text))
			h.Write(text[:n])
			text = text[n:]
		}
		if i := strings.IndexFunc(out.String(), func(r rune) bool {
			return unicode.IsControl(r) && r != '\n' && r != '\t' &&
				r != '\r'
		}); i >= 0 {
			t.Errorf("%q steers a terminal", out.String())
		}
	})
}
