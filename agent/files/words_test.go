package files

import (
	"bytes"
	"errors"
	"io/fs"
	"net/http"
	"testing"

	"moorwatch.example/contract/link"
)

func TestExplain(t *testing.T) {
	for why, errs := range said {
		for _, e := range errs {
			var told *link.Problem
			err := explain("shown", &fs.PathError{Op: "open", Path: "real", Err: e})
			if !errors.As(err, &told) || told.Reason != "shown: "+why+"." {
				t.Errorf("%v: %v", e, err)
				continue
			}
			if room := told.Status == http.StatusInsufficientStorage; room != (why == full) {
				t.Errorf("%v: status %d", e, told.Status)
			}
		}
	}
}

func FuzzText(f *testing.F) {
	for _, s := range []string{"", "plain\n", "\xef\xbb\xbfmark\r\n", "\xff\xfea\x00b\x00", "\xfe\xff\x00a\x00b", "\xff\xfe\x00\xd8",
		"caf\xe9", "a\x00b", "a\r\nb\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		text, encoding, ok := decode(raw)
		if !ok {
			return
		}
		if back, bad := encode(text, encoding); bad != 0 || !bytes.Equal(back, raw) {
			t.Errorf("%q as %s is %q", raw, encoding, back)
		}
	})
}
