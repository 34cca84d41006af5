#!/bin/sh
# The core imports nothing of the outside: no network, database, log or job library.
set -eu
bad=$(go list -deps ./internal/core/... | grep -E '^(net/http|database/sql|log/slog|gorm\.io|github\.com/(go-chi|riverqueue|jackc))' || true)
[ -z "$bad" ] || { echo "internal/core reaches:"; echo "$bad"; exit 1; }
