#!/bin/sh
# --- moorwatch
# name: Is a restart needed?
# description: Tells whether the system asks for a restart, and which programs run from files that were replaced.
# interpreter: sh
# systems: [linux]
# seconds: 120
# repeatable: true
# ---
set -u
asked=no
[ ! -e /var/run/reboot-required ] || { asked=yes; echo "The system asks for a restart."; cat /var/run/reboot-required.pkgs 2>/dev/null; }
old=$(grep -l '(deleted)' /proc/[0-9]*/maps 2>/dev/null | cut -d/ -f3 | while read -r pid; do
	grep -E ' r-xp .*\(deleted\)' "/proc/$pid/maps" 2>/dev/null | grep -qvE 'memfd:|/dev/|/SYSV|/tmp/' && cat "/proc/$pid/comm" 2>/dev/null
done | sort | uniq -c | sort -rn)
[ -z "$old" ] || { asked=yes; echo "Programs that run from replaced files:"; echo "$old"; }
[ "$asked" = yes ] || echo "No restart is needed."
