#!/bin/sh
# Changes the code of core's packages in small ways, one at a time, and runs their tests: of the changes that tests
# reach, 80 % must make one fail. Packages may be named; all of them take hours. What lived is listed, to be looked at:
# some changes make no difference.
set -eu
cd "$(dirname "$0")/.."
# shellcheck disable=SC2046
[ $# -gt 0 ] || set -- $(ls core)
failed=
for name in "$@"; do
	echo "== core/$name"
	said=$(go tool -modfile=inspect.mod gremlins unleash "./core/$name" --workers 1 2>&1) || true
	echo "$said" | grep -E 'LIVED|^Killed|efficacy' || echo "$said"
	share=$(echo "$said" | sed -n 's/^Test efficacy: \([0-9]*\).*/\1/p')
	[ "${share:-0}" -ge 80 ] || failed="$failed $name"
done
[ -z "$failed" ] || { echo "mutate: fewer than 80 % were noticed in:$failed" >&2; exit 1; }
