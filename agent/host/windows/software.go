//go:build windows

package windows

import (
	"context"
	"fmt"
	"io"
	"strings"

	"golang.org/x/sys/windows/registry"

	"moorwatch.example/contract/link"
)

// software installs packages of Windows Installer by msiexec, and knows what is installed from the list
// of programs in the registry, by the name that it shows.
type software struct{}

// uninstall are the places of that list.
var uninstall = []string{`SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall`,
	`SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall`}

// Formats implements host.Software.
func (software) Formats() []string { return []string{".msi"} }

// find looks for a program by its name, and returns its version and key.
func (software) find(name string) (version, key string) {
	for _, place := range uninstall {
		list, err := registry.OpenKey(registry.LOCAL_MACHINE, place, registry.ENUMERATE_SUB_KEYS)
		if err != nil {
			continue
		}
		keys, _ := list.ReadSubKeyNames(-1)
		list.Close()
		for _, k := range keys {
			one, err := registry.OpenKey(registry.LOCAL_MACHINE, place+`\`+k, registry.QUERY_VALUE)
			if err != nil {
				continue
			}
			shown, _, _ := one.GetStringValue("DisplayName")
			v, _, _ := one.GetStringValue("DisplayVersion")
			one.Close()
			if strings.EqualFold(shown, name) {
				return v, k
			}
		}
	}
	return "", ""
}

// Version implements host.Software.
func (s software) Version(_ context.Context, name string) (string, error) {
	version, key := s.find(name)
	if key != "" && version == "" {
		version = "0"
	}
	return version, nil
}

// Exit statuses of Windows Installer that are well: done, and done once the device was restarted
// (ERROR_SUCCESS_REBOOT_REQUIRED).
const (
	installed        = 0
	installedRestart = 3010
)

func (software) run(ctx context.Context, log io.Writer, argv ...string) error {
	exit, err := runner{}.Run(ctx, link.Command{Argv: argv}, log, log)
	switch {
	case err != nil:
		return err
	case exit == installedRestart:
		fmt.Fprintln(log, "A restart completes it.")
	case exit != installed:
		return fmt.Errorf("Windows Installer ended with exit status %d", exit)
	}
	return nil
}

// Install implements host.Software.
func (s software) Install(ctx context.Context, path string, log io.Writer) error {
	return s.run(ctx, log, "msiexec.exe", "/i", path, "/qn", "/norestart")
}

// Remove implements host.Software.
func (s software) Remove(ctx context.Context, name string, log io.Writer) error {
	_, key := s.find(name)
	if key == "" {
		return nil
	}
	if !strings.HasPrefix(key, "{") {
		return fmt.Errorf("%s was not installed by Windows Installer: run its own program to remove it", name)
	}
	return s.run(ctx, log, "msiexec.exe", "/x", key, "/qn", "/norestart")
}
