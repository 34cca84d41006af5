#!/bin/sh
# What is generated is as it would be generated now.
set -eu
cd "$(dirname "$0")/.."
tmp=$(mktemp -d)
trap 'rm -rf "$tmp"' EXIT
same() {
	cmp -s "$1" "$2" || { echo "$2 is not what it would be generated as; run '$3'" >&2; diff "$2" "$1" | head -20 >&2; exit 1; }
}
go run ./cmd/dorfbote openapi >"$tmp/openapi.json"
same "$tmp/openapi.json" internal/api/openapi.json "make types"
(cd web && npx --no-install openapi-typescript ../internal/api/openapi.json -o "$tmp/schema.d.ts" >/dev/null 2>&1)
same "$tmp/schema.d.ts" web/src/api/schema.d.ts "make types"
(cd web && node tools/sheet-types.mjs ../docs/schema/sheet.schema.json >"$tmp/sheet.d.ts")
same "$tmp/sheet.d.ts" web/src/api/sheet.d.ts "make types"
go run ./tools/notice >"$tmp/NOTICE"
same "$tmp/NOTICE" NOTICE "make notice"
