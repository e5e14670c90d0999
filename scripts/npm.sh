#!/bin/sh
# npm in the console's folder, with a Node that is new enough: the machine's own, or the one that setup.sh fetched.
set -eu
cd "$(dirname "$0")/.."
[ -x build/node/node_modules/.bin/node ] && PATH="$PWD/build/node/node_modules/.bin:$PATH"
cd console
exec npm "$@"
