package agents

import (
	"fmt"
	"strings"
)

// scriptText installs the agent on Linux and macOS. It is told the token on standard input, and checks what
// it fetches by the digests that it holds; whoever pastes the command checks the script by its own.
const scriptText = `#!/bin/sh
# Installs the Moorwatch agent %[1]s from %[2]s.
# The enrolment token comes on standard input; arguments are those of "moor-agent install".
set -eu
fail() { echo "install: $*" >&2; exit 1; }
[ "$(id -u)" = 0 ] || fail "run this as root, with sudo"
case "$(uname -s)" in
Linux) os=linux ;;
Darwin) os=darwin ;;
*) fail "there is no agent for $(uname -s)" ;;
esac
case "$(uname -m)" in
x86_64 | amd64) arch=amd64 ;;
aarch64 | arm64) arch=arm64 ;;
armv7* | armv8l) arch=arm7 ;;
*) fail "there is no agent for $(uname -m)" ;;
esac
case "$os/$arch" in
%[3]s*) fail "there is no agent for $os/$arch" ;;
esac
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
if command -v curl >/dev/null; then
	curl -fsS%[4]s -o "$dir/moor-agent" "%[2]s/install/%[1]s/$file"
elif command -v wget >/dev/null; then
	wget -q%[5]s -O "$dir/moor-agent" "%[2]s/install/%[1]s/$file"
else
	fail "curl or wget is needed"
fi
if command -v sha256sum >/dev/null; then
	got=$(sha256sum "$dir/moor-agent")
else
	got=$(shasum -a 256 "$dir/moor-agent")
fi
[ "${got%%%% *}" = "$sum" ] || fail "what came is not the agent: its SHA-256 is ${got%%%% *}"
chmod 755 "$dir/moor-agent"
"$dir/moor-agent" install --service "%[2]s" --token-file - "$@"
`

// script is the latest release's.
func (c *Service) script() string {
	all := c.releases()
	if len(all) == 0 {
		return ""
	}
	var cases strings.Builder
	for _, p := range all[0].Programs {
		if p.OS == "linux" || p.OS == "darwin" {
			fmt.Fprintf(&cases, "%s/%s) file=%s sum=%s ;;\n", p.OS, p.Arch, p.File, p.SHA256)
		}
	}
	unknown, unknownToo := "", ""
	if c.own { // its certificate cannot be checked yet: what comes is, by its digest
		unknown, unknownToo = "k", " --no-check-certificate"
	}
	return fmt.Sprintf(scriptText, all[0].Version, c.url, cases.String(), unknown, unknownToo)
}
