package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"os"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
)

// The encodings of texts.
const (
	utf8Plain = "utf-8"
	utf8Mark  = "utf-8-bom"
	utf16LE   = "utf-16le"
	utf16BE   = "utf-16be"
	latin1    = "iso-8859-1"
)

// ReadText reads a text to be edited.
func (f *Files) ReadText(_ context.Context, p link.FilePath) (link.TextFile, error) {
	file, info, err := f.open(p.Path)
	if err != nil {
		return link.TextFile{}, err
	}
	defer file.Close()
	raw, err := io.ReadAll(io.LimitReader(file, link.MaxText+1))
	if err != nil {
		return link.TextFile{}, explain(p.Path, err)
	}
	if len(raw) > link.MaxText {
		return link.TextFile{}, refuse(http.StatusRequestEntityTooLarge, "%s holds more than %d MiB: download it, or follow it.", p.Path,
			link.MaxText>>20)
	}
	text, encoding, ok := decode(raw)
	if !ok {
		return link.TextFile{}, refuse(http.StatusUnsupportedMediaType, "%s is no text: download it instead.", p.Path)
	}
	t := link.TextFile{Path: f.shown(file.Name()), Encoding: encoding, LineEnd: "lf", Version: version(raw), Modified: info.ModTime(),
		Bits: f.entry("", info).Bits}
	if n := strings.Count(text, "\r\n"); n > 0 && n == strings.Count(text, "\n") {
		t.LineEnd, text = "crlf", strings.ReplaceAll(text, "\r\n", "\n")
	}
	t.Text = text
	return t, nil
}

func version(raw []byte) string {
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// decode reads bytes as text; ok is false for what is none. ISO 8859-1 is the last guess, as every
// run of bytes can be read as that.
func decode(raw []byte) (text, encoding string, ok bool) {
	wide := func(order interface {
		binary.ByteOrder
		binary.AppendByteOrder
	}, encoding string) (string, string, bool) {
		units := make([]uint16, len(raw)/2-1)
		for i := range units {
			units[i] = order.Uint16(raw[2+2*i:])
		}
		text := string(utf16.Decode(units))
		back, _ := encode(text, encoding)
		return text, encoding, bytes.Equal(back, raw) // half a pair would be lost
	}
	switch {
	case bytes.HasPrefix(raw, []byte{0xef, 0xbb, 0xbf}) && utf8.Valid(raw[3:]):
		return string(raw[3:]), utf8Mark, true
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}) && len(raw)%2 == 0:
		return wide(binary.LittleEndian, utf16LE)
	case bytes.HasPrefix(raw, []byte{0xfe, 0xff}) && len(raw)%2 == 0:
		return wide(binary.BigEndian, utf16BE)
	case bytes.IndexByte(raw, 0) >= 0:
		return "", "", false
	case utf8.Valid(raw):
		return string(raw), utf8Plain, true
	}
	runes := make([]rune, len(raw))
	for i, b := range raw {
		runes[i] = rune(b)
	}
	return string(runes), latin1, true
}

// encode writes text as decode read it. bad is a character that the encoding lacks.
func encode(text, encoding string) (raw []byte, bad rune) {
	wide := func(order binary.AppendByteOrder) []byte {
		raw := order.AppendUint16(nil, 0xfeff)
		for _, u := range utf16.Encode([]rune(text)) {
			raw = order.AppendUint16(raw, u)
		}
		return raw
	}
	switch encoding {
	case utf8Mark:
		return append([]byte{0xef, 0xbb, 0xbf}, text...), 0
	case utf16LE:
		return wide(binary.LittleEndian), 0
	case utf16BE:
		return wide(binary.BigEndian), 0
	case latin1:
		for _, r := range text {
			if r > 0xff {
				return nil, r
			}
			raw = append(raw, byte(r))
		}
		return raw, 0
	}
	return []byte(text), 0
}

// WriteText writes a text back in the encoding and with the line ends that it had. It is refused
// when the file is not as it was read; a Version of "" makes a file that is not there yet.
func (f *Files) WriteText(_ context.Context, t link.TextFile) (link.TextFile, error) {
	real, err := f.real(t.Path)
	if err != nil {
		return t, err
	}
	if t.LineEnd == "crlf" {
		t.Text = strings.ReplaceAll(t.Text, "\n", "\r\n")
	}
	raw, bad := encode(t.Text, t.Encoding)
	if bad != 0 {
		return t, refuse(http.StatusUnprocessableEntity, "%q cannot be written in %s, which this file is in.", bad, t.Encoding)
	}
	if len(raw) > link.MaxText {
		return t, refuse(http.StatusRequestEntityTooLarge, "A text may hold %d MiB.", link.MaxText>>20)
	}
	d, name, err := place.Final(real) // a link stays one
	if err != nil {
		return t, explain(t.Path, err)
	}
	defer d.Close()
	at := spot{d, name}
	if err := f.mayTouch(at); err != nil {
		return t, err
	}
	if err := f.write(at, t, raw); err != nil {
		return t, explain(t.Path, err)
	}
	return f.ReadText(context.Background(), link.FilePath{Path: t.Path})
}

// write puts a text in the place of what was read, or of nothing.
func (f *Files) write(at spot, t link.TextFile, raw []byte) error {
	mode, keep := os.FileMode(0o644), os.FileInfo(nil)
	if t.Version == "" {
		if _, err := at.Stat(at.name); err == nil {
			return refuse(http.StatusConflict, "%s is there already.", t.Path)
		}
	} else {
		file, info, err := regular(at, t.Path)
		if err != nil {
			return err
		}
		now, err := io.ReadAll(io.LimitReader(file, link.MaxText+1))
		file.Close()
		if err != nil {
			return err
		}
		if version(now) != t.Version {
			return refuse(http.StatusConflict, "%s was changed meanwhile, at %s. What you wrote is not saved: read the file again, and "+
				"put your change into it.", t.Path, info.ModTime().Format("15:04:05"))
		}
		mode, keep = info.Mode(), info
	}
	fresh := spot{at.Dir, partName()}
	part, _, err := fresh.File(fresh.name, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer fresh.Remove(fresh.name)
	_, err = part.Write(raw)
	if err == nil {
		err = part.Chmod(mode.Perm())
	}
	if err = errors.Join(err, part.Sync(), part.Close()); err != nil {
		return err
	}
	if keep != nil {
		f.take(at, keep, fresh)
	}
	return place.Rename(fresh.Dir, fresh.name, at.Dir, at.name)
}
