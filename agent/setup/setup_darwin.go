package setup

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// Here is where the agent stands on this system.
func Here() Place {
	return Place{Program: "/Library/Moorwatch/moor-agent", Dir: "/Library/Application Support/Moorwatch Agent"}
}

func services() (manager, error) { return launchd{}, nil }

// launchd implements manager (launchd.plist(5), launchctl(1)).
type launchd struct{}

const (
	label     = "example.moorwatch.agent"
	plistFile = "/Library/LaunchDaemons/" + label + ".plist"
	plistText = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0"><dict>
	<key>Label</key><string>%s</string>
	<key>ProgramArguments</key><array><string>%s</string><string>run</string><string>--managed</string></array>
	<key>RunAtLoad</key><true/>
	<key>KeepAlive</key><true/>
	<key>ThrottleInterval</key><integer>2</integer>
	<key>StandardErrorPath</key><string>/Library/Logs/moor-agent.log</string>
</dict></plist>
`
)

func (launchd) name() string { return "launchd" }

func launchctl(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, "launchctl", args...).CombinedOutput()
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = errors.New(said)
	}
	return err
}

func (launchd) add(ctx context.Context, p Place) error {
	if err := os.WriteFile(plistFile, fmt.Appendf(nil, plistText, label, p.Program), 0o644); err != nil {
		return err
	}
	return launchctl(ctx, "bootstrap", "system", plistFile)
}

func (launchd) remove(ctx context.Context) error {
	if _, err := os.Stat(plistFile); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	launchctl(ctx, "bootout", "system/"+label) // that it did not run is no error
	return os.Remove(plistFile)
}

func (launchd) state(ctx context.Context) string {
	if _, err := os.Stat(plistFile); err != nil {
		return "absent"
	}
	if launchctl(ctx, "print", "system/"+label) == nil {
		return "running"
	}
	return "stopped"
}
