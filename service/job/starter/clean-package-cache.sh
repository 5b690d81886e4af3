#!/bin/sh
# --- moorwatch
# name: Clean the package cache
# description: Removes downloaded packages that are installed already, and packages that nothing needs any more where that is asked for.
# interpreter: sh
# systems: [linux]
# parameters:
# - {name: UNNEEDED, title: Remove packages that nothing needs, kind: switch, default: "no"}
# seconds: 900
# repeatable: true
# ---
set -eu
before=$(df -Pk / | awk 'NR==2{print $4}')
if command -v apt-get >/dev/null; then
	export DEBIAN_FRONTEND=noninteractive
	apt-get clean
	[ "$UNNEEDED" = no ] || apt-get -y autoremove
elif command -v dnf >/dev/null; then
	dnf -q clean packages
	[ "$UNNEEDED" = no ] || dnf -y autoremove
else
	echo "This device has neither apt nor dnf."; exit 2
fi
after=$(df -Pk / | awk 'NR==2{print $4}')
echo "$(( (after - before) / 1024 )) MiB are free that were not."
