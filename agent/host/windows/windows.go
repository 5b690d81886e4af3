//go:build windows

// Package windows is the host of Windows devices, over the system's own interfaces
// (learn.microsoft.com, Windows API). What belongs to a person's session, such as the screen and
// messages, is done by a helper there (package helper), since a service has no desktop of its own.
package windows

import (
	"errors"
	"fmt"
	"net/http"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// New returns what this computer offers.
func New() host.Host {
	informer := portable.Informer{OS: device.Windows, More: more}
	helpers := &helpers{Start: startHelper}
	return host.Host{
		Informer:  informer,
		Meter:     &portable.Meter{People: signedIn},
		Runner:    runner{},
		Terminals: terminals{},
		Lister:    portable.Lister{Informer: informer, More: list},
		Queries:   true,
		Prober:    &portable.Prober{Service: service},
		Asker:     portable.Asker{Service: service, Registry: registryValue},
		Disk:      &disk{},
		Processes: (&portable.Processes{Person: runsAs, Priority: priority, SetPriority: setPriority, Launch: launch}).Keep(),
		Services:  services{},
		Events:    eventsOf(),
		Network:   portable.Network{More: network, Neighbours: neighbours},
		Power:     power{helpers},
		People:    persons{helpers},
		Settings:  settings{},
		Screens:   screens{helpers},
		Software:  software{},
		Updates:   updates{},
	}
}

// more reads what firmware told Windows at its start, and what the release is called.
func more(f *device.Facts) {
	if k, err := registry.OpenKey(registry.LOCAL_MACHINE, `HARDWARE\DESCRIPTION\System\BIOS`, registry.QUERY_VALUE); err == nil {
		f.Vendor, _, _ = k.GetStringValue("SystemManufacturer")
		f.Model, _, _ = k.GetStringValue("SystemProductName")
		k.Close()
	}
	var board string
	f.Serial, board = namesOf(firmware())
	f.Hardware = device.CleanHardware([]string{device.HardwareName(device.HardwareBoard, board),
		device.HardwareName(device.HardwareSerial, f.Model+"/"+f.Serial)})
}

// firmware is the firmware's table of structures (GetSystemFirmwareTable), nil where the system gives none.
func firmware() []byte {
	const provider = 'R'<<24 | 'S'<<16 | 'M'<<8 | 'B'
	size, _, _ := getSystemFirmwareTable.Call(provider, 0, 0, 0)
	if size < 8 || size > 1<<20 {
		return nil
	}
	b := make([]byte, size)
	n, _, _ := getSystemFirmwareTable.Call(provider, 0, uintptr(unsafe.Pointer(&b[0])), size)
	if n < 8 || n > size {
		return nil
	}
	return b[8:n] // after the header of RawSMBIOSData
}

var (
	kernel32               = windows.NewLazySystemDLL("kernel32.dll")
	getSystemFirmwareTable = kernel32.NewProc("GetSystemFirmwareTable")
	getUserNameW           = windows.NewLazySystemDLL("advapi32.dll").NewProc("GetUserNameW")
)

func refuse(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// refusal is what an error of the system means for what it was asked of.
func refusal(what string, err error) error {
	switch {
	case errors.Is(err, windows.ERROR_ACCESS_DENIED):
		return refuse(http.StatusUnprocessableEntity, "%s: the agent lacks the right.", what)
	case errors.Is(err, windows.ERROR_SERVICE_DOES_NOT_EXIST), errors.Is(err, windows.ERROR_FILE_NOT_FOUND):
		return refuse(http.StatusNotFound, "%s: there is none.", what)
	}
	return refuse(http.StatusUnprocessableEntity, "%s: %v.", what, err)
}
