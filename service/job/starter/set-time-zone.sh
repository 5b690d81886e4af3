#!/bin/sh
# --- moorwatch
# name: Set the time zone
# interpreter: sh
# systems: [linux]
# parameters:
# - {name: ZONE, title: 'Zone, such as Europe/London', kind: text, required: true}
# seconds: 30
# repeatable: true
# ---
set -eu
[ -f "/usr/share/zoneinfo/$ZONE" ] || { echo "There is no zone $ZONE."; exit 2; }
if command -v timedatectl >/dev/null && [ -d /run/systemd/system ]; then
	timedatectl set-timezone "$ZONE"
else
	ln -sf "/usr/share/zoneinfo/$ZONE" /etc/localtime
	echo "$ZONE" > /etc/timezone
fi
date
