#!/bin/sh
# What must hold before a change lands, besides the tests.
set -eu
cd "$(dirname "$0")/.."
echo "vet"; go vet ./...
echo "staticcheck"; go run honnef.co/go/tools/cmd/staticcheck@v0.8.2 ./...
echo "formatting"
unformatted=$(go run mvdan.cc/gofumpt@v0.12.0 -l $(git ls-files '*.go'))
[ -z "$unformatted" ] || { echo "not formatted: $unformatted" >&2; exit 1; }
echo "the core stays pure"
bad=$(go list -deps ./internal/core/... | grep -E '^(net/http|database/sql|html/template)$|^github.com/(jackc|gin-gonic)/' || true)
[ -z "$bad" ] || { echo "internal/core must not reach: $bad" >&2; exit 1; }
# Only scripts run in processes, which are this program again: nothing inside of one bounds the memory of their engine.
bad=$(go list -f '{{.ImportPath}} {{join .Imports " "}}' -deps ./internal/core/... | grep ' os/exec' | cut -d' ' -f1 | grep -v '^hollowreed/internal/core/script/internal/worker$' || true)
[ -z "$bad" ] || { echo "internal/core must not start processes: $bad" >&2; exit 1; }
echo "assets"
fresh=$(mktemp -d); trap 'rm -rf "$fresh"' EXIT
tools/assets.sh "$fresh" >/dev/null 2>&1
diff -r "$fresh" internal/web/assets/dist >/dev/null || { echo "committed assets differ from their sources; run make assets" >&2; exit 1; }
echo "all is well"
