//go:build linux

package linux

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestDpkg(t *testing.T) {
	path := filepath.Join(t.TempDir(), "status")
	text := "Package: curl\nStatus: install ok installed\nArchitecture: amd64\nVersion: 7.88.1-10+deb12u8\nMaintainer: Moor " +
		"<m@example>\nDescription: x\n more: lines\n\n" +
		"Package: gone\nStatus: deinstall ok config-files\nVersion: 1\n\nPackage: last\nStatus: install ok installed\nArchitecture: " +
		"all\nVersion: 2\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	got := map[string][]string{}
	dpkg(f, "debian", func(section, key, name string, fields ...string) {
		got[section+" "+key] = append([]string{name}, fields...)
	})
	curl := got["software deb curl amd64"]
	if len(got) != 2 || len(curl) == 0 || curl[2] != "7.88.1-10+deb12u8" ||
		curl[len(curl)-1] != "pkg:deb/debian/curl@7.88.1-10%2Bdeb12u8?arch=amd64" {
		t.Errorf("%q", got)
	}
}

func TestMemoryModules(t *testing.T) {
	dir := t.TempDir()
	module := make([]byte, 0x28)
	module[0], module[1] = 17, 0x28
	binary.LittleEndian.PutUint16(module[0x0c:], 8192)
	module[0x10], module[0x17], module[0x1a] = 1, 2, 3
	for name, raw := range map[string][]byte{"17-0": append(module, "DIMM 0\x00Harrow\x00HM-8\x00\x00"...), "17-1": make([]byte, 0x28),
		"17-2": {17, 200, 1}} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name, "raw"), raw, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var got [][]string
	memoryModules(func(_, _, name string, fields ...string) { got = append(got, append([]string{name}, fields...)) }, dir)
	if len(got) != 1 || got[0][0] != "8192 MiB" || got[0][2] != "DIMM 0" || got[0][4] != "Harrow" || got[0][8] != "HM-8" {
		t.Errorf("%q", got)
	}
}

func TestFailedLogOns(t *testing.T) {
	path, now := filepath.Join(t.TempDir(), "btmp"), time.Now()
	var all []byte
	for _, ago := range []time.Duration{time.Hour, 11 * time.Minute, 9 * time.Minute, time.Minute} {
		record := make([]byte, utmpSize)
		binary.LittleEndian.PutUint32(record[utmpTime:], uint32(now.Add(-ago).Unix()))
		all = append(all, record...)
	}
	if err := os.WriteFile(path, append(all, "half a record"...), 0o600); err != nil {
		t.Fatal(err)
	}
	if n, ok := failedLogOns(path, now); !ok || n != 2 {
		t.Errorf("%g, %t", n, ok)
	}
	if _, ok := failedLogOns(path+"x", now); ok {
		t.Error("what is not kept is counted")
	}
}
