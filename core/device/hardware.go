package device

import (
	"slices"
	"strings"
)

// Kinds of names that hardware has of its own, and that a copied disk does not carry. An entry of
// Facts.Hardware is a kind, a colon and the name.
const (
	HardwareBoard  = "board"  // the mainboard's or virtual machine's UUID (SMBIOS 3.6, 7.2.1)
	HardwareSerial = "serial" // the maker's number, with the model before it
	HardwareMAC    = "mac"    // of a network adapter that is no software
)

// HardwareName writes an entry of Facts.Hardware; "" for a name that makers leave in when they give none.
func HardwareName(kind, name string) string {
	name = strings.ToLower(strings.Join(strings.Fields(clean(name, MaxText)), " "))
	bare := strings.Trim(name, "0fx-:. /")
	if kind == HardwareSerial {
		if i := strings.LastIndexByte(name, '/'); i >= 0 {
			bare = strings.Trim(name[i+1:], "0x-:. ")
		}
	}
	if len(bare) < 3 {
		return ""
	}
	for _, empty := range []string{"to be filled", "default string", "system serial", "not specified", "not applicable", "none", "unknown",
		"invalid", "o.e.m", "1234567", "03000200-0400-0500-0006"} {
		if strings.Contains(name, empty) {
			return ""
		}
	}
	return kind + ":" + name
}

// CleanHardware returns the entries that are such names, sorted and each once, at most MaxEntries.
func CleanHardware(list []string) []string {
	kept := []string{}
	for _, one := range list {
		kind, name, _ := strings.Cut(one, ":")
		if kind != HardwareBoard && kind != HardwareSerial && kind != HardwareMAC {
			continue
		}
		if one = HardwareName(kind, name); one != "" && len(kept) < MaxEntries {
			kept = append(kept, one)
		}
	}
	slices.Sort(kept)
	return slices.Compact(kept)
}

// Likeness tells whether two lists of hardware are of one computer.
type Likeness int

// What is known of two lists.
const (
	Unclear Likeness = iota // too little is known
	Same
	Different
)

// Compare compares two clean lists. Adapters come and go: where boards or serial numbers are known
// they count, and adapters only speak against a difference.
func Compare(a, b []string) Likeness {
	of := func(list []string, kind string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return !strings.HasPrefix(s, kind+":") })
	}
	common := func(kind string) bool {
		return slices.ContainsFunc(of(a, kind), func(s string) bool { return slices.Contains(b, s) })
	}
	both := func(kind string) bool { return len(of(a, kind)) > 0 && len(of(b, kind)) > 0 }
	switch {
	case common(HardwareBoard) || common(HardwareSerial):
		return Same
	case (both(HardwareBoard) || both(HardwareSerial)) && !common(HardwareMAC):
		return Different
	case both(HardwareBoard) || both(HardwareSerial):
		return Unclear
	case common(HardwareMAC):
		return Same
	}
	return Unclear
}

// Telling says whether a clean list names something that no other computer has: without a board or serial number a
// computer is not told from its copy by its hardware.
func Telling(hardware []string) bool {
	return slices.ContainsFunc(hardware, func(s string) bool {
		return strings.HasPrefix(s, HardwareBoard+":") || strings.HasPrefix(s, HardwareSerial+":")
	})
}

// Marks tell a device from its copies where its hardware does not: at each connection it is given another, and shows
// the last that it got. Shown is the one that it showed last, "" before it had one. Given are those that it was given
// since, the oldest first: more than one where connections were cut before it got them, or where a connection that it
// gave up was served after the one that it made instead.
type Marks struct {
	Shown string
	Given []string
}

// mostGiven is how many marks are kept of those that a device was given and has not shown.
const mostGiven = 8

// Next returns the marks after a device showed one and was given another; ok is false where what it showed is older
// than its connection before, so that it is a copy, or was copied, or was put back to an earlier state.
func (m Marks) Next(shown, given string) (next Marks, ok bool) {
	switch {
	case slices.Contains(m.Given, shown):
		return Marks{shown, []string{given}}, true
	case shown == m.Shown:
		kept := m.Given[max(0, len(m.Given)-mostGiven+1):]
		return Marks{shown, append(slices.Clone(kept), given)}, true
	}
	return m, false
}
