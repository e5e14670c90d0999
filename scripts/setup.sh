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
need mariadbd mariadb-server
need mariadb-install-db mariadb-server
need ffmpeg ffmpeg
need ffprobe ffmpeg
need curl curl
[ -f /usr/share/android-framework-res/framework-res.apk ] || missing="$missing android-framework-res"
if ! command -v go >/dev/null 2>&1; then
    echo "Go is not installed: install Go 1.26 or later, and put it on the PATH" >&2
    exit 1
fi
[ -z "$missing" ] && exit 0
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
