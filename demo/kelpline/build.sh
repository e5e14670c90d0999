#!/bin/sh
# Builds Kelpline from source. With Android's own packaging tools: a genuine,
# aligned and signed APK. For iOS: an IPA, see ios/main.go.
# usage: demo/kelpline/build.sh VERSION CODE OUT.apk|OUT.ipa
set -eu
version=$1 code=$2 out=$3
here=$(cd "$(dirname "$0")" && pwd)
case "$out" in
/*.ipa) cd "$here/../.." && exec go run ./demo/kelpline/ios "$version" "$code" "$out" ;;
*.ipa) out=$PWD/$out && cd "$here/../.." && exec go run ./demo/kelpline/ios "$version" "$code" "$out" ;;
esac
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
framework=/usr/share/android-framework-res/framework-res.apk
mkdir -p "$work/assets" "$(dirname "$out")"
cat "$here/versions/$version.star" "$here/behaviour.star" >"$work/assets/behaviour.star"
aapt package -f -M "$here/AndroidManifest.xml" -S "$here/res" -A "$work/assets" -I "$framework" \
    --min-sdk-version 19 --target-sdk-version 34 --version-code "$code" --version-name "$version" -F "$work/raw.apk"
smali assemble "$here/smali" -o "$work/classes.dex"
(cd "$work" && aapt add raw.apk classes.dex >/dev/null)
zipalign -f 4 "$work/raw.apk" "$work/aligned.apk"
# The demo's signing key is worth nothing; it is made once for each checkout.
key=$(dirname "$out")/kelpline.keystore
[ -f "$key" ] || keytool -genkeypair -keystore "$key" -storepass kelpline -alias kelpline -keyalg RSA -keysize 2048 \
    -validity 9000 -dname "CN=Kelpline demo" >/dev/null 2>&1
apksigner sign --min-sdk-version 18 --ks "$key" --ks-pass pass:kelpline --out "$work/signed.apk" "$work/aligned.apk"
mv "$work/signed.apk" "$out"
