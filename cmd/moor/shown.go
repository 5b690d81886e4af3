package main

import (
	"io"
	"os"
	"unicode/utf8"

	"golang.org/x/term"
)

// shown is a file to which output of devices is written. Where it is a terminal nothing in the output steers it: a
// hostile device could have it type, hide, or report what stands on it. To a file or a program all of it goes.
func shown(f *os.File) io.Writer {
	if !term.IsTerminal(int(f.Fd())) {
		return f
	}
	return &harmless{to: f}
}

// harmless writes text without what steers a terminal: of control characters (ECMA-48, C0 and C1) the tab and the ends
// of lines alone pass.
type harmless struct {
	to   io.Writer
	half []byte // of a character whose rest is still to come
}

func (h *harmless) Write(p []byte) (int, error) {
	text := append(h.half, p...)
	h.half = nil
	out := make([]byte, 0, len(text))
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && n == 1 && !utf8.FullRune(text):
			h.half = append([]byte(nil), text...)
			text = nil
			continue
		case r == '\n' || r == '\t' || r == '\r', r >= 0x20 && r != 0x7f && (r < 0x80 || r > 0x9f) && !(r == utf8.RuneError && n == 1):
			out = append(out, text[:n]...)
		default:
			out = append(out, "\uFFFD"...)
		}
		text = text[n:]
	}
	if _, err := h.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}
