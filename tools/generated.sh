#!/bin/sh
# Fails when the generated code is not what the contract gives.
set -eu
cd "$(dirname "$0")/.."
before=$(mktemp -d)
trap 'rm -rf "$before"' EXIT
cp contract/api/api.gen.go web/src/api/schema.d.ts "$before"
make --no-print-directory generate >/dev/null
for file in contract/api/api.gen.go web/src/api/schema.d.ts; do
	cmp -s "$file" "$before/$(basename "$file")" || { echo "generated: $file is not what the contract gives; it was made anew, commit it" >&2; exit 1; }
done
