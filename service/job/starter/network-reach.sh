#!/bin/sh
# --- moorwatch
# name: What can it reach?
# description: Looks up names, and opens a connection to each.
# interpreter: sh
# systems: [linux]
# parameters:
# - {name: TARGETS, title: 'Hosts with a port, parted by spaces', kind: text, required: true}
# seconds: 120
# repeatable: true
# ---
set -u
bad=0
for target in $TARGETS; do
	host=${target%:*}; port=${target##*:}
	address=$(getent hosts "$host" | awk '{print $1; exit}')
	if [ -z "$address" ]; then echo "$target: no address"; bad=1; continue; fi
	if timeout 5 bash -c ': < "/dev/tcp/$0/$1"' "$address" "$port" 2>/dev/null; then
		echo "$target: $address answers"
	else
		echo "$target: $address does not answer within 5 s"; bad=1
	fi
done
exit $bad
