package release

import (
	"fmt"
	"regexp"
	"strings"
)

// Script is what installs an agent on Linux and macOS: where it is fetched from, below the service's address, and
// its SHA-256 in hexadecimal.
type Script struct{ Path, SHA256 string }

// Paste is the command that a person pastes on a device of a system (linux, darwin or windows) to have the agent
// installed. It stands open in three places, for Fill. own tells that the service's certificate is of its own
// authority, which the device does not know yet: what is fetched is checked by its digest in each case. program is
// where the agent for Windows is fetched from, with its digest.
func Paste(system string, own bool, script, program Script) string {
	unknown := ""
	if own {
		unknown = "k"
	}
	switch system {
	case "windows":
		// Not "&&": what follows a program there is not looked at by every command prompt.
		return fmt.Sprintf(`curl.exe -fsS%so "%%TEMP%%\moor-agent.exe" {service}%s & certutil -hashfile "%%TEMP%%\moor-agent.exe" SHA256 > "%%TEMP%%\moor-agent.sum" & findstr %s "%%TEMP%%\moor-agent.sum" & if errorlevel 1 (echo It is not the program that the service tells of: nothing is installed.) else (echo {token}| "%%TEMP%%\moor-agent.exe" install --service {service} --token-file -{options})`,
			unknown, program.Path, program.SHA256)
	case "darwin":
		return pasteShell(unknown, "shasum -a 256 -c -", script)
	}
	return pasteShell(unknown, "sha256sum -c -", script)
}

func pasteShell(unknown, check string, script Script) string {
	return fmt.Sprintf("curl -fsS%s -o moor-agent.sh {service}%s && echo '%s  moor-agent.sh' | %s && echo '{token}' | sudo sh "+
		"moor-agent.sh{options}", unknown, script.Path, script.SHA256, check)
}

// Fill fills in what Paste leaves open. Options are those of moor-agent install, each with a space before it.
func Fill(command, service, token, options string) string {
	return strings.NewReplacer("{service}", service, "{token}", token, "{options}", options).Replace(command)
}

var proxyAddress = regexp.MustCompile(`^https?://[\w.:-]+$`)

// ProxyAddress tells whether a text may stand as the address of a proxy in such a command, such as
// http://proxy:3128.
func ProxyAddress(text string) bool { return proxyAddress.MatchString(text) }
