package windows

import (
	"io"
	"unicode/utf8"
)

// typed is a line that is typed to a program between pipes: it is shown, can be corrected, and is
// sent when it is entered.
type typed struct {
	to   io.WriteCloser
	echo io.Writer
	line []byte
}

// Keys of a line.
const (
	backspace = 0x08
	rubout    = 0x7f
	interrupt = 0x03
	fileEnd   = 0x1a // Ctrl+Z
	escape    = 0x1b
)

// Write takes what was typed.
func (t *typed) Write(p []byte) (int, error) {
	for i := 0; i < len(p); i++ {
		var err error
		switch b := p[i]; {
		case b == '\r' || b == '\n':
			if b == '\n' && i > 0 && p[i-1] == '\r' {
				continue
			}
			t.say("\r\n")
			_, err = t.to.Write(append(t.line, '\r', '\n'))
			t.line = t.line[:0]
		case b == backspace || b == rubout:
			if len(t.line) > 0 {
				_, n := utf8.DecodeLastRune(t.line)
				t.line = t.line[:len(t.line)-n]
				t.say("\b \b")
			}
		case b == interrupt:
			t.line = t.line[:0]
			t.say("^C\r\n")
		case b == fileEnd:
			err = t.to.Close()
		case b == escape: // keys that move about do nothing here
			for i+1 < len(p) && !(p[i+1] >= '@' && p[i+1] <= '~' && p[i+1] != '[' && p[i+1] != 'O') {
				i++
			}
			i++
		default:
			t.line = append(t.line, b)
			t.say(string([]byte{b}))
		}
		if err != nil {
			return i, err
		}
	}
	return len(p), nil
}

func (t *typed) say(text string) { io.WriteString(t.echo, text) }

// Close implements io.Closer.
func (t *typed) Close() error { return t.to.Close() }
