#!/bin/sh
# Builds a small app that the program carries, from a folder of sources, with Android's own packaging tools. usage: scripts/apk.sh FOLDER TARGET-SDK OUT.apk
# Its signing key is made for it, and thrown away: one that another build left on a device is removed first.
set -eu
from=$1 target=$2 out=$3
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir "$work/assets"
cp "$from/behaviour.star" "$work/assets/"
aapt package -f -M "$from/AndroidManifest.xml" -S "$from/res" -A "$work/assets" -I /usr/share/android-framework-res/framework-res.apk \
    --min-sdk-version 21 --target-sdk-version "$target" --version-code 1 --version-name 1 -F "$work/raw.apk"
smali assemble "$from/smali" -o "$work/classes.dex"
(cd "$work" && aapt add raw.apk classes.dex >/dev/null)
zipalign -f 4 "$work/raw.apk" "$work/aligned.apk"
keytool -genkeypair -keystore "$work/key" -storepass tessellant -alias app -keyalg RSA -keysize 2048 -validity 20000 -dname "CN=Tessellant" >/dev/null 2>&1
apksigner sign --min-sdk-version 18 --ks "$work/key" --ks-pass pass:tessellant --out "$work/signed.apk" "$work/aligned.apk"
mv "$work/signed.apk" "$out"
