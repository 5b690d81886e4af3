#!/bin/sh
# --- moorwatch
# name: Largest folders
# description: Which folders below one take most of its disk. Other file systems are passed over.
# interpreter: sh
# systems: [linux, macos]
# parameters:
# - {name: FOLDER, title: Below which folder, kind: text, default: /var}
# - {name: SHOWN, title: How many are shown, kind: number, default: "15"}
# seconds: 900
# repeatable: true
# ---
set -u
[ -d "$FOLDER" ] || { echo "There is no folder $FOLDER."; exit 2; }
df -h "$FOLDER" | tail -n 1
du -xk "$FOLDER" 2>/dev/null | sort -rn | head -n "$SHOWN" | awk '{printf "%8.1f MiB  ", $1/1024; $1=""; print substr($0,2)}'
