package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// Installers of the same program are the same, byte for byte, whenever they are made.
func TestInstallerIsTheSame(t *testing.T) {
	if _, err := exec.LookPath("wixl"); err != nil {
		t.Skip("wixl is missing")
	}
	const text = `<?xml version="1.0"?><Wix xmlns="http://schemas.microsoft.com/wix/2006/wi"><Product Id="11111111-2222-3333-4444-555555555555" Name="X" Language="1033" Version="1.0.0" Manufacturer="M" UpgradeCode="11111111-2222-3333-4444-555555555556">
<Package InstallerVersion="200" Compressed="yes"/><Media Id="1" Cabinet="a.cab" EmbedCab="yes"/><Directory Id="TARGETDIR" Name="SourceDir"><Directory Id="ProgramFilesFolder"><Directory Id="D" Name="D">
<Component Id="C" Guid="11111111-2222-3333-4444-555555555558"><File Id="F" Source="f.txt"/></Component></Directory></Directory></Directory><Feature Id="A" Level="1"><ComponentRef Id="C"/></Feature></Product></Wix>`
	at := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	made := func() []byte {
		dir := t.TempDir()
		for name, text := range map[string]string{"a.wxs": text, "f.txt": "a program"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Chtimes(filepath.Join(dir, "f.txt"), at, at); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("wixl", "-o", "a.msi", "a.wxs")
		cmd.Dir = dir
		if said, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, said)
		}
		b, err := os.ReadFile(filepath.Join(dir, "a.msi"))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	one, other := made(), made()
	if bytes.Equal(one, other) {
		t.Fatal("they are the same before: this test is of no use")
	}
	for _, b := range [][]byte{one, other} {
		if err := fixed(b, "AAAAAAAA-2222-3333-4444-555555555557", at); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(one, other) {
		t.Error("they differ")
	}
	for _, none := range [][]byte{nil, []byte("no installer"), one[:len(one)/4]} {
		if fixed(none, "AAAAAAAA-2222-3333-4444-555555555557", at) == nil {
			t.Errorf("%d bytes of no installer were changed", len(none))
		}
	}
}
