#!/bin/sh
# Runs every fuzz target of this system for FUZZ_TIME each (1m when it is not set). What a target finds stays in its
# package's testdata/fuzz, to be kept as a case.
set -eu
cd "$(dirname "$0")/.."
list=$(mktemp)
trap 'rm -f "$list"' EXIT
go test -list '^Fuzz' ./... >"$list"
names=
failed=
while read -r word package _; do
	case $word in
	Fuzz*) names="$names $word" ;;
	ok)
		for name in $names; do
			echo "$package $name"
			# without a bound, most of a minute goes into making the first inputs smaller
			go test -run '^$' -fuzz "^$name\$" -fuzzminimizetime 20x \
				-fuzztime "${FUZZ_TIME:-1m}" "$package" </dev/null || failed="$failed $package:$name"
		done
		names=
		;;
	esac
done <"$list"
[ -z "$failed" ] || { echo "fuzz: found something:$failed" >&2; exit 1; }
