#!/bin/sh
# All tests: what is generated is fresh, the code is formatted and vetted, the
# tests pass, and nothing is left running.
set -eu
cd "$(dirname "$0")/.."
echo "generated code"
fresh=$(mktemp -d)
trap 'rm -rf "$fresh"' EXIT
sed "s#^output:.*#output: $fresh/api.gen.go#" api/config.yaml >"$fresh/config.yaml"
(cd api && go tool oapi-codegen -config "$fresh/config.yaml" openapi.yaml)
if ! cmp -s "$fresh/api.gen.go" api/api.gen.go; then
    echo "api/api.gen.go differs from what api/openapi.yaml generates; run: make generate" >&2
    exit 1
fi
echo "format and vet"
unformatted=$(gofmt -l api bench cmd internal | grep -v '\.gen\.go$' || true)
if [ -n "$unformatted" ]; then
    echo "not formatted: $unformatted" >&2
    exit 1
fi
go vet ./...
echo "tests"
go test -count=1 -timeout 15m ./...
