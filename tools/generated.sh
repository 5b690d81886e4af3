#!/bin/sh
# Fails when the generated code is not what the contract gives.
set -eu
cd "$(dirname "$0")/.."
generated="contract/api/api.gen.go contract/server/server.gen.go client/calls/calls.gen.go web/src/api/schema.d.ts"
before=$(mktemp -d)
trap 'rm -rf "$before"' EXIT
for file in $generated; do
	cp "$file" "$before/$(basename "$file")"
done
make --no-print-directory generate >/dev/null
for file in $generated; do
	cmp -s "$file" "$before/$(basename "$file")" || {
		echo "generated: $file is not what the contract gives; it was made anew, commit it" >&2
		exit 1
	}
done
