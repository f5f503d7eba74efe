#!/bin/sh
# What must hold before a change lands, besides the tests.
set -eu
cd "$(dirname "$0")/.."
echo "vet"; go vet ./...
echo "staticcheck"; go run honnef.co/go/tools/cmd/staticcheck@v0.8.2 ./...
echo "formatting"
unformatted=$(go run mvdan.cc/gofumpt@v0.12.0 -l $(git ls-files '*.go'))
[ -z "$unformatted" ] || { echo "not formatted: $unformatted" >&2; exit 1; }
echo "what packages may know of each other"
go run ./tools/rules
echo "the core stays pure, in what it imports of others too"
bad=$(go list -deps ./internal/core/... | grep -E '^(net/http|database/sql|html/template)$|^github.com/(jackc|gin-gonic)/' || true)
[ -z "$bad" ] || { echo "internal/core must not reach: $bad" >&2; exit 1; }
echo "templates"
go run ./tools/templates internal/web
go run ./tools/templatetypes
echo "assets"
fresh=$(mktemp -d); trap 'rm -rf "$fresh"' EXIT
tools/assets.sh "$fresh" >/dev/null 2>&1
diff -r "$fresh" internal/web/assets/dist >/dev/null || { echo "committed assets differ from their sources; run make assets" >&2; exit 1; }
echo "scripts"
tools/node_modules/.bin/eslint -c tools/eslint.config.js internal/web/assets/src internal/web/assets/test
node --test internal/web/assets/test/*.test.js >"$fresh/scripts.txt" 2>&1 || { cat "$fresh/scripts.txt" >&2; exit 1; }
echo "all is well"
