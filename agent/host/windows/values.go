package windows

import (
	"encoding/binary"
	"encoding/hex"
	"strconv"
	"strings"
	"unicode/utf16"

	"moorwatch.example/contract/link"
)

// Types of values of the registry (Registry Value Types).
const (
	valueText       = 1
	valueExpandable = 2
	valueNumber     = 4
	valueList       = 7
	valueLong       = 11
)

// decode reads the bytes of a value (Registry Value Types).
func decode(kind uint32, b []byte) (name, value string) {
	text := func() string {
		units := make([]uint16, len(b)/2)
		for i := range units {
			units[i] = binary.LittleEndian.Uint16(b[2*i:])
		}
		return strings.TrimRight(string(utf16.Decode(units)), "\x00")
	}
	switch {
	case kind == valueText:
		return link.SettingText, text()
	case kind == valueExpandable:
		return link.SettingExpandable, text()
	case kind == valueList:
		return link.SettingList, strings.ReplaceAll(text(), "\x00", "\n")
	case kind == valueNumber && len(b) == 4:
		return link.SettingNumber, strconv.FormatUint(uint64(binary.LittleEndian.Uint32(b)), 10)
	case kind == valueLong && len(b) == 8:
		return link.SettingLong, strconv.FormatUint(binary.LittleEndian.Uint64(b), 10)
	}
	return link.SettingBinary, hex.EncodeToString(b)
}
