#!/bin/sh
# --- moorwatch
# name: Services that failed
# description: Lists the services that failed, with the last lines that each wrote.
# interpreter: sh
# systems: [linux]
# seconds: 60
# repeatable: true
# ---
set -u
command -v systemctl >/dev/null || { echo "This device has no systemd."; exit 2; }
failed=$(systemctl list-units --failed --plain --no-legend | awk '{print $1}')
[ -n "$failed" ] || { echo "No service failed."; exit 0; }
for unit in $failed; do
	echo "== $unit"
	journalctl --unit "$unit" --lines 5 --no-pager --output short-iso 2>/dev/null
done
exit 1
