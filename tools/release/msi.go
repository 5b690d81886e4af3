package main

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
)

// msiText is the installer's description (Windows Installer XML 3). It puts the program beside the
// place where the agent puts itself, and has it do that; an enrolment file is named by the property
// ENROLMENT, or lies beside the installer.
const msiText = `<?xml version="1.0" encoding="utf-8"?>
<Wix xmlns="http://schemas.microsoft.com/wix/2006/wi">
  <Product Id="%[3]s" Name="Moorwatch Agent Installer" Language="1033" Version="%[1]s" Manufacturer="Moorwatch" UpgradeCode="6d6f6f72-7761-4463-8820-6d6f6f722d61">
    <Package InstallerVersion="200" Compressed="yes" InstallScope="perMachine" Description="Moorwatch agent %[1]s" />
    <Media Id="1" Cabinet="agent.cab" EmbedCab="yes" />
    <Property Id="ARPSYSTEMCOMPONENT" Value="1" />
    <Property Id="ENROLMENT" Value="moor-agent.enrolment" />
    <Directory Id="TARGETDIR" Name="SourceDir">
      <Directory Id="ProgramFiles64Folder" Name="PFiles">
        <Directory Id="INSTALLDIR" Name="Moorwatch Agent Installer">
          <Component Id="Program" Guid="6d6f6f72-7761-4463-8821-6d6f6f722d61" Win64="yes">
            <File Id="AgentProgram" Name="moor-agent.exe" DiskId="1" Source="%[2]s" KeyPath="yes" />
          </Component>
        </Directory>
      </Directory>
    </Directory>
    <Feature Id="Agent" Level="1"><ComponentRef Id="Program" /></Feature>
    <CustomAction Id="PutInPlace" FileKey="AgentProgram" ExeCommand="install --from &quot;[ENROLMENT]&quot;" Execute="deferred" Impersonate="no" Return="check" />
    <CustomAction Id="TakeAway" FileKey="AgentProgram" ExeCommand="uninstall" Execute="deferred" Impersonate="no" Return="ignore" />
    <InstallExecuteSequence>
      <Custom Action="PutInPlace" After="InstallFiles">NOT REMOVE</Custom>
      <Custom Action="TakeAway" Before="RemoveFiles">REMOVE="ALL"</Custom>
    </InstallExecuteSequence>
  </Product>
</Wix>
`

func (r *making) msi(t target, program string) error {
	scratch, err := os.MkdirTemp("", "moor-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	const source = "moor-agent.exe"
	b, err := os.ReadFile(filepath.Join(r.dir, program))
	if err != nil {
		return err
	}
	description := filepath.Join(scratch, "agent.wxs")
	numbers, _, _ := strings.Cut(r.version, "-") // an installer's version is of numbers alone
	id := func(of string) string {
		return strings.ToUpper(uuid.NewSHA1(uuid.NameSpaceURL,
			[]byte("https://moorwatch.example/agent/"+r.version+"/"+of+"/"+r.public)).String())
	}
	text := fmt.Appendf(nil, msiText, numbers, source, id("product"))
	if err := errors.Join(os.WriteFile(description, text, 0o644), os.WriteFile(filepath.Join(scratch, source), b, 0o644),
		os.Chtimes(filepath.Join(scratch, source), r.at, r.at)); err != nil {
		return err
	}
	out, err := filepath.Abs(r.dir)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("moor-agent_%s_x64.msi", r.version)
	cmd := exec.Command("wixl", "--arch", "x64", "-o", filepath.Join(out, name), "agent.wxs")
	cmd.Dir = scratch
	cmd.Env = append(os.Environ(), fmt.Sprintf("SOURCE_DATE_EPOCH=%d", r.at.Unix()))
	if said, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("wixl: %w: %s", err, said)
	}
	path := filepath.Join(out, name)
	made, err := os.ReadFile(path)
	if err == nil {
		err = fixed(made, id("package"), r.at)
	}
	if err == nil {
		err = os.WriteFile(path, made, 0o644)
	}
	if err != nil {
		return fmt.Errorf("making the installer the same each time: %w", err)
	}
	return r.addPackage(t, name)
}

// summary begins the property set SummaryInformation ([MS-OLEPS], 2.21 and 3.1.3): its byte order, and after the
// version, the system and a class of sixteen bytes the number of sets and its format.
var summary = struct{ order, format []byte }{[]byte{0xfe, 0xff},
	[]byte{0xe0, 0x85, 0x9f, 0xf2, 0xf9, 0x4f, 0x68, 0x10, 0xab, 0x91, 0x08, 0x00, 0x2b, 0x27, 0xb3, 0xd9}}

// Properties of SummaryInformation, and their types.
const (
	propertyPackage = 9 // the package code
	propertyCreated = 12
	propertySaved   = 13
	typeText        = 30
	typeTime        = 64 // FILETIME
)

// fixed gives an installer the package code and the times that a release has: wixl makes up the one and takes the
// clock for the others. The property set is short, and so lies in one piece.
func fixed(msi []byte, code string, at time.Time) error {
	i := bytes.Index(msi, summary.format)
	if i < 28 || !bytes.Equal(msi[i-28:i-26], summary.order) || bytes.Contains(msi[i+16:], summary.format) {
		return errors.New("its summary is not where it is looked for")
	}
	set := msi[i-28:]
	number := func(at uint32) uint32 {
		if int(at)+4 > len(set) {
			return 0
		}
		return binary.LittleEndian.Uint32(set[at:])
	}
	section, changed := number(44), 0
	for n := range number(section + 4) {
		id, where := number(section+8+8*n), section+number(section+12+8*n)
		switch {
		case int(where)+48 > len(set):
			return errors.New("its summary is damaged")
		case id == propertyPackage && number(where) == typeText && number(where+4) == uint32(len(code)+3): // in braces, and ended by a zero
			copy(set[where+8:], "{"+code+"}")
			changed++
		case (id == propertyCreated || id == propertySaved) && number(where) == typeTime:
			const to1970 = 116444736000000000 // tenths of a microsecond from 1601
			binary.LittleEndian.PutUint64(set[where+4:], uint64(at.UnixNano()/100+to1970))
			changed++
		}
	}
	if changed != 3 {
		return fmt.Errorf("%d of its 3 marks were found", changed)
	}
	return nil
}
