#!/bin/sh
# Installs what Moorwatch needs from Debian's packages, and skips what is there.
#   tools/install.sh demo    what the demo needs
#   tools/install.sh test    and what the tests need
#   tools/install.sh release   what a release needs
#   tools/install.sh test bench   and what the measurements need
set -eu

fail() { echo "install: $*" >&2; exit 1; }

command -v go >/dev/null || fail "Go is missing: install the version that go.mod names, or a newer one"
command -v node >/dev/null && command -v npm >/dev/null || fail "Node.js with npm is missing: install version 20 or a newer one"

want=""
openrc=""
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || want="$want postgresql"
command -v make >/dev/null || want="$want make"
if [ "${1:-demo}" = test ]; then
	command -v gcc >/dev/null || want="$want gcc libc6-dev" # the race detector
	command -v git >/dev/null || want="$want git"
	[ -x /usr/bin/chromium ] || want="$want chromium"
	command -v Xvfb >/dev/null || want="$want xvfb"
	command -v xmessage >/dev/null || want="$want x11-utils"
	command -v xdotool >/dev/null || want="$want xdotool"
	command -v xclip >/dev/null || want="$want xclip"
	command -v sway >/dev/null && command -v foot >/dev/null || want="$want sway foot"
	command -v xterm >/dev/null || want="$want xterm"
	command -v import >/dev/null || want="$want imagemagick"
	command -v pdftotext >/dev/null || want="$want poppler-utils"
	command -v qemu-system-x86_64 >/dev/null || want="$want qemu-system-x86"
	# whose orders of versions ours is held against
	python3 -c 'import packaging.version' 2>/dev/null || want="$want python3-packaging"
	perl -MDpkg::Version -e 1 2>/dev/null || want="$want libdpkg-perl"
	# the agent for Windows is run for real
	command -v wine >/dev/null || want="$want wine wine64"
	command -v x86_64-w64-mingw32-dlltool >/dev/null || want="$want binutils-mingw-w64-x86-64"
	command -v wixl >/dev/null || want="$want wixl"
	# and those for other processors
	command -v qemu-arm >/dev/null || want="$want qemu-user"
	# a machine with systemd is booted in a container by root alone
	[ "$(id -u)" != 0 ] || command -v systemd-nspawn >/dev/null || want="$want systemd-container"
	[ "$(id -u)" != 0 ] || command -v dpkg-scanpackages >/dev/null || want="$want dpkg-dev"
	# updates of RPM distributions are installed below a folder by root alone
	[ "$(id -u)" != 0 ] || \
		{ command -v dnf && command -v zypper && command -v rpmbuild && command -v createrepo_c; } >/dev/null ||
		want="$want dnf zypper rpm createrepo-c"
	[ "$(id -u)" != 0 ] || command -v gpg >/dev/null || want="$want gnupg"
	# machines without systemd: BusyBox's init, and OpenRC, whose files alone are fetched
	[ "$(id -u)" != 0 ] || [ -x /bin/busybox ] || want="$want busybox-static"
	[ "$(id -u)" != 0 ] || [ -x /var/cache/moorwatch/openrc/sbin/openrc-run ] || openrc=yes
	[ "$(id -u)" != 0 ] || command -v ip >/dev/null || want="$want iproute2"
fi
[ "${1:-}" != release ] || command -v wixl >/dev/null || want="$want wixl"
# what the figures of screens are held against
[ "${2:-}" != bench ] || command -v ffmpeg >/dev/null || want="$want ffmpeg"
[ -n "$want$openrc" ] || exit 0

echo "install:$want" >&2
as=""
if [ "$(id -u)" != 0 ]; then
	command -v sudo >/dev/null && sudo -n true 2>/dev/null || fail "as root, run: apt-get install -y$want"
	as="sudo -n"
fi
export DEBIAN_FRONTEND=noninteractive
$as apt-get update -q >&2
# shellcheck disable=SC2086 # the names are words of their own
[ -z "$want" ] || $as apt-get install -y -q --no-install-recommends $want >&2
if [ -n "$openrc" ]; then # by root alone
	work=$(mktemp -d)
	trap 'rm -rf "$work"' EXIT
	(cd "$work" && apt-get download -q openrc libeinfo1 librc1 >&2 && for deb in *.deb; do dpkg -x "$deb" root; done)
	mkdir -p /var/cache/moorwatch
	rm -rf /var/cache/moorwatch/openrc
	mv "$work/root" /var/cache/moorwatch/openrc
fi
