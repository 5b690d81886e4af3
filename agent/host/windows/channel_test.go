package windows

import (
	"bytes"
	"encoding/binary"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

func TestChannelFilter(t *testing.T) {
	at := time.Date(2026, 11, 27, 2, 30, 0, 0, time.UTC)
	for want, q := range map[string]link.EventQuery{
		"*":                                 {},
		"*[System[(Level<=2 and Level>0)]]": {Level: "error"},
		"*[System[(Level<=4) and Provider[@Name='Fennick Print'] and TimeCreated[@SystemTime>='2026-11-27T02:30:00.000Z']]]": {
			Level: "info", Unit: "Fennick Print", Since: at},
		"*[System[TimeCreated[@SystemTime<='2026-11-27T02:30:00.000Z']]]": {Unit: "a'b",
			Until: at},
	} {
		if got := channelFilter(q, true); got != want {
			t.Errorf("%+v: %s, not %s", q, got, want)
		}
	}
	if got := channelFilter(link.EventQuery{Since: at}, false); got != "*" {
		t.Errorf("what comes is asked for by a time: %s", got)
	}
}

// Made for the test after SMBIOS 3.6; not recorded on Windows.
func TestSerials(t *testing.T) {
	uuid := []byte{0x33, 0x22, 0x11, 0x00, 0x55, 0x44, 0x77, 0x66, 0x88, 0x99, 0xaa, 0xbb, 0xcc, 0xdd, 0xee, 0xff}
	system := append(append([]byte{1, 27, 0, 1, 1, 2, 0, 3}, uuid...), 0, 0, 0)
	system = append(system, "Fennick\x00Station 4\x00FN-1234 \x00\x00"...)
	firmware := append([]byte{0, 4, 0, 0}, "Heron\x00\x00"...)
	for name, c := range map[string]struct {
		table         []byte
		serial, board string
	}{"after another": {append(firmware, system...), "FN-1234", "00112233-4455-6677-8899-aabbccddeeff"}, "none": {firmware, "", ""},
		"cut": {system[:30], "", ""}, "empty": {nil, "", ""}} {
		if serial, board := namesOf(c.table); serial != c.serial || board != c.board {
			t.Errorf("%s: %q %q, not %q %q", name, serial, board, c.serial, c.board)
		}
	}
}

func TestAccess(t *testing.T) {
	for want, c := range map[string]struct {
		kind, flags byte
		mask        uint32
	}{
		"wren may do everything":                    {0, 0, 0x1f01ff},
		"wren may read, run (from above)":           {0, 0x10, 0x1200a9},
		"wren may not write, remove":                {1, 0, 0x010116},
		"wren may read, below it alone":             {0, 8, 1},
		"wren may do what the mask 0x00100000 says": {0, 0, 0x100000},
		"wren: an entry of kind 9":                  {9, 0, 1},
	} {
		if got := accessOf("wren", c.kind, c.flags, c.mask); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}

func TestDecode(t *testing.T) {
	wide := func(s string) (b []byte) {
		for _, r := range s {
			b = binary.LittleEndian.AppendUint16(b, uint16(r))
		}
		return b
	}
	for _, c := range []struct {
		kind       uint32
		b          []byte
		name, want string
	}{
		{1, wide("hedge\x00"), link.SettingText, "hedge"}, {2, wide("%ProgramFiles%\x00"), link.SettingExpandable, "%ProgramFiles%"},
		{7, wide("a\x00b\x00\x00"), link.SettingList, "a\nb"}, {4, []byte{5, 0, 0, 0}, link.SettingNumber, "5"},
		{4, []byte{5}, link.SettingBinary, "05"},
		{11, []byte{0, 0, 0, 0, 1, 0, 0, 0}, link.SettingLong, "4294967296"}, {3, []byte{0xab, 1}, link.SettingBinary, "ab01"},
		{1, []byte{65}, link.SettingText, ""},
	} {
		if name, value := decode(c.kind, c.b); name != c.name || value != c.want {
			t.Errorf("kind %d: %s %q, not %s %q", c.kind, name, value, c.name, c.want)
		}
	}
}

func TestTyped(t *testing.T) {
	var sent, shown kept
	line := &typed{to: &sent, echo: &shown}
	line.Write([]byte("dix\bré\x7fr\x1b[A\x03"))
	line.Write([]byte("dir\x1b[3~x\r\nver\r"))
	if sent.String() != "dirx\r\nver\r\n" {
		t.Errorf("sent %q", sent.String())
	}
	if want := "dix\b \bré\b \br^C\r\ndirx\r\nver\r\n"; shown.String() != want {
		t.Errorf("shown %q, not %q", shown.String(), want)
	}
}

// kept keeps what is written.
type kept struct{ bytes.Buffer }

func (*kept) Close() error { return nil }

// Made for the test after STORAGE_DEVICE_DESCRIPTOR; not recorded on Windows.
func TestDisk(t *testing.T) {
	b := make([]byte, 36)
	for at, from := range map[int]int{12: 36, 16: 42, 20: 52, 24: 56} {
		binary.LittleEndian.PutUint32(b[at:], uint32(from))
	}
	b = append(b, "Heron\x00Station 2\x00R07\x00 S-77 \x00"...)
	if got, want := diskOf(b), (physical{name: "Heron Station 2", revision: "R07", serial: "S-77"}); got != want {
		t.Errorf("%+v, not %+v", got, want)
	}
	for n := range b {
		diskOf(b[:n]) // whatever was cut off
	}
}
