// Package firmware reads what hardware says of itself in forms that are the same on every system: the
// firmware's table of structures (SMBIOS 3.6) and the descriptions of monitors (VESA E-EDID 1.4).
package firmware

import (
	"bytes"
	"fmt"
	"iter"
	"strings"
)

// Structure is one of the firmware's table: its formatted part, and its texts.
type Structure struct {
	Bytes []byte
	texts []string
}

// Kinds of structures.
const (
	Firmware  = 0
	System    = 1
	Baseboard = 2
	Memory    = 17
)

// One reads a structure with its texts, and returns what follows it; ok is false where there is no whole one
// (SMBIOS 3.6, 6.1).
func One(table []byte) (s Structure, rest []byte, ok bool) {
	if len(table) < 4 || int(table[1]) < 4 || int(table[1]) > len(table) {
		return s, nil, false
	}
	s.Bytes, rest = table[:table[1]], table[table[1]:]
	end := bytes.Index(rest, []byte{0, 0})
	if end < 0 {
		return s, nil, false
	}
	s.texts = strings.Split(string(rest[:end]), "\x00")
	return s, rest[end+2:], true
}

// All are the structures of a table, as far as they are whole.
func All(table []byte) iter.Seq[Structure] {
	return func(yield func(Structure) bool) {
		for {
			s, rest, ok := One(table)
			if !ok || !yield(s) {
				return
			}
			table = rest
		}
	}
}

// Kind is the structure's.
func (s Structure) Kind() int { return int(s.Bytes[0]) }

// Text is the text whose number stands at a place, "" for none.
func (s Structure) Text(at int) string {
	if at < len(s.Bytes) && s.Bytes[at] > 0 && int(s.Bytes[at]) <= len(s.texts) {
		return strings.TrimSpace(s.texts[s.Bytes[at]-1])
	}
	return ""
}

// UUID is the computer's, of a System structure (7.2.1); "" for none. Its first three parts stand with
// their least byte first.
func (s Structure) UUID() string {
	if len(s.Bytes) < 24 {
		return ""
	}
	u := s.Bytes[8:24]
	return fmt.Sprintf("%x-%x-%x-%x-%x", []byte{u[3], u[2], u[1], u[0]}, []byte{u[5], u[4]}, []byte{u[7], u[6]}, u[8:10], u[10:])
}

// Adder adds an item of an inventory.
type Adder = func(section, key, name string, fields ...string)

// Module adds a memory module, of a Memory structure (7.18); an empty slot is none.
func (s Structure) Module(add Adder, n int) {
	b := s.Bytes
	if len(b) < 0x1b {
		return
	}
	size := int(b[0x0c]) | int(b[0x0d])<<8
	if size == 0 || size == 0xffff { // empty, or not known
		return
	}
	mib := fmt.Sprintf("%d MiB", size)
	if size == 0x7fff && len(b) >= 0x20 {
		mib = fmt.Sprintf("%d MiB", int(b[0x1c])|int(b[0x1d])<<8|int(b[0x1e])<<16|int(b[0x1f]&0x7f)<<24)
	}
	add("memory", fmt.Sprintf("%d %s", n, s.Text(0x10)), mib, "slot", s.Text(0x10), "maker", s.Text(0x17), "serial", s.Text(0x18), "part",
		s.Text(0x1a))
}

// MonitorName reads the name from a monitor's description of itself (descriptor 0xFC), "monitor" where it has none.
func MonitorName(edid []byte) string {
	for at := 54; at+18 <= min(len(edid), 126); at += 18 {
		if edid[at] == 0 && edid[at+1] == 0 && edid[at+3] == 0xfc {
			return strings.TrimSpace(strings.SplitN(string(edid[at+5:at+18]), "\n", 2)[0])
		}
	}
	return "monitor"
}
