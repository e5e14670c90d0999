#!/bin/sh
# All tests: what is generated is fresh, the code is formatted and vetted, the
# tests pass, and nothing is left running.
set -eu
cd "$(dirname "$0")/.."
echo "generated code"
fresh=$(mktemp -d)
trap 'rm -rf "$fresh"' EXIT
sed "s#^output:.*#output: $fresh/api.gen.go#" api/config.yaml >"$fresh/config.yaml"
(cd api && go tool -modfile=tools.mod oapi-codegen -config "$fresh/config.yaml" openapi.yaml)
if ! cmp -s "$fresh/api.gen.go" api/api.gen.go; then
    echo "api/api.gen.go differs from what api/openapi.yaml generates; run: make generate" >&2
    exit 1
fi
(cd console && ../scripts/npm.sh exec -- openapi-typescript ../api/openapi.yaml -o "$fresh/new.gen.ts" >/dev/null 2>&1)
if ! cmp -s "$fresh/new.gen.ts" console/src/data/api.gen.ts; then
    echo "console/src/data/api.gen.ts differs from what api/openapi.yaml generates; run: make generate" >&2
    exit 1
fi
echo "the console's types and logic"
scripts/npm.sh run --silent check
scripts/npm.sh run --silent lint
scripts/npm.sh run --silent test -- --reporter=dot
echo "format and vet"
unformatted=$(gofmt -l api bench cmd console/*.go docs internal | grep -v '\.gen\.go$' || true)
if [ -n "$unformatted" ]; then
    echo "not formatted: $unformatted" >&2
    exit 1
fi
go vet ./...
# All was vetted above.
echo "tests"
go test -vet=off -count=1 -timeout 15m ./...
