#!/bin/sh
# --- moorwatch
# name: Is the clock right?
# description: Tells how the clock is kept, and how far it is from another's where chrony or systemd knows.
# interpreter: sh
# systems: [linux]
# seconds: 30
# repeatable: true
# ---
set -u
date --iso-8601=seconds
if command -v chronyc >/dev/null; then chronyc -n tracking
elif command -v timedatectl >/dev/null; then timedatectl show --property=Timezone --property=NTPSynchronized --property=NTP
else echo "Nothing here tells how the clock is kept."; fi
