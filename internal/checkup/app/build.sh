#!/bin/sh
# Builds the app of a check from these sources with Android's own packaging tools. usage: internal/checkup/app/build.sh OUT.apk
# Its signing key is made for it, and thrown away: a check removes one that another build left.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=$1
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir "$work/assets"
cp "$here/behaviour.star" "$work/assets/"
aapt package -f -M "$here/AndroidManifest.xml" -S "$here/res" -A "$work/assets" -I /usr/share/android-framework-res/framework-res.apk \
    --min-sdk-version 21 --target-sdk-version 34 --version-code 1 --version-name 1 -F "$work/raw.apk"
smali assemble "$here/smali" -o "$work/classes.dex"
(cd "$work" && aapt add raw.apk classes.dex >/dev/null)
zipalign -f 4 "$work/raw.apk" "$work/aligned.apk"
keytool -genkeypair -keystore "$work/key" -storepass checkcheck -alias check -keyalg RSA -keysize 2048 -validity 20000 -dname "CN=Tessellant check" >/dev/null 2>&1
apksigner sign --min-sdk-version 18 --ks "$work/key" --ks-pass pass:checkcheck --out "$work/signed.apk" "$work/aligned.apk"
mv "$work/signed.apk" "$out"
