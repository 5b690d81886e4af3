#!/bin/sh
# Prints which share of the statements of each room of core its own tests reach, and fails where one is below 90 %.
set -eu
cd "$(dirname "$0")/.."
go test -cover ./core/... | awk '
	{
		for (i = 1; i <= NF; i++)
			if ($i ~ /%$/) {
				name = ($1 == "ok") ? $2 : $1
				print $i + 0 "\t" name
				if ($i + 0 < 90) bad = bad " " name
			}
	}
	/FAIL/ { print; failed = 1 }
	END { if (bad) print "cover: below 90 %:" bad > "/dev/stderr"; exit (bad || failed) ? 1 : 0 }' | sort -n
