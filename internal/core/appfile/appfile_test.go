package appfile_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/appfile"
	"tessellant/internal/housetest"
)

func read(raw []byte) (appfile.Facts, error) {
	return appfile.Read(bytes.NewReader(raw), int64(len(raw)))
}

// badging asks Android's own tool what is in a build.
func badging(t *testing.T, apk string) appfile.Facts {
	t.Helper()
	out, err := exec.Command("aapt", "dump", "badging", apk).CombinedOutput()
	require.NoError(t, err, string(out))
	one := func(form string) string {
		if m := regexp.MustCompile(`(?m)^` + form).FindStringSubmatch(string(out)); m != nil {
			return m[1]
		}
		return ""
	}
	number := func(s string) int { n, _ := strconv.Atoi(s); return n }
	f := appfile.Facts{Platform: "android", AppID: one(`package: name='([^']*)'`), Label: one(`application-label:'([^']*)'`), VersionName: one(`package:.* versionName='([^']*)'`),
		VersionCode: int64(number(one(`package:.* versionCode='([^']*)'`))), MinAPI: number(one(`sdkVersion:'(\d+)'`)), TargetAPI: number(one(`targetSdkVersion:'(\d+)'`)),
		Activity: one(`launchable-activity: name='([^']*)'`), Debuggable: strings.Contains(string(out), "application-debuggable"), TestOnly: strings.Contains(string(out), "testOnly='-1'")}
	for _, m := range regexp.MustCompile(`(?m)^uses-permission: name='([^']*)'`).FindAllStringSubmatch(string(out), -1) {
		// What the tool adds because of a low target is not in the manifest.
		if !strings.Contains(string(out), "uses-implied-permission: name='"+m[1]+"'") {
			f.Permissions = append(f.Permissions, m[1])
		}
	}
	if abis := one(`native-code: (.*)`); abis != "" {
		for _, a := range strings.Fields(abis) {
			f.ABIs = append(f.ABIs, strings.Trim(a, "'"))
		}
	}
	for _, m := range regexp.MustCompile(`(?m)^application-icon-\d+:'([^']*)'`).FindAllStringSubmatch(string(out), -1) {
		if strings.HasSuffix(m[1], ".png") {
			f.IconPath = m[1] // the densest comes last
		}
	}
	return f
}

// pack makes a genuine APK of a manifest and resources.
func pack(t *testing.T, tool, manifest string, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	write := func(name, s string) {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(s), 0o644))
	}
	write("AndroidManifest.xml", `<manifest xmlns:android="http://schemas.android.com/apk/res/android" `+manifest+`</manifest>`)
	for n, s := range files {
		write(n, s)
	}
	const framework = "/usr/share/android-framework-res/framework-res.apk"
	out := filepath.Join(dir, "out.apk")
	run := func(args ...string) {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = dir
		text, err := cmd.CombinedOutput()
		require.NoError(t, err, string(text))
	}
	hasRes := false
	for n := range files {
		hasRes = hasRes || strings.HasPrefix(n, "res/")
	}
	if tool == "aapt2" {
		args := []string{"aapt2", "link", "--manifest", "AndroidManifest.xml", "-I", framework, "-o", out}
		if hasRes {
			run("aapt2", "compile", "--dir", "res", "-o", "res.zip")
			args = append(args, "res.zip")
		}
		run(args...)
	} else {
		args := []string{"aapt", "package", "-M", "AndroidManifest.xml", "-I", framework, "-F", out}
		if hasRes {
			args = append(args, "-S", "res")
		}
		run(args...)
	}
	for n := range files {
		if strings.HasPrefix(n, "lib/") {
			run("aapt", "add", out, n)
		}
	}
	return out
}

func TestValuesAreReadAsTheSystemReadsThem(t *testing.T) {
	for _, tool := range []string{"aapt", "aapt2"} {
		code := map[string]string{"aapt": "@string/code", "aapt2": "77"}[tool] // the newer one writes no reference there
		apk := pack(t, tool, `package="org.kelpline.odd" android:versionCode="`+code+`" android:versionName="@string/v"><uses-sdk android:minSdkVersion="0x15" android:targetSdkVersion="Wrack"/>
			<application android:label="@string/name" android:debuggable="@bool/no" android:testOnly="@bool/yes"/>`,
			map[string]string{
				"res/values/s.xml":        `<resources><string name="code">77</string><string name="v">2.0</string><string name="name">old</string><bool name="no">false</bool><bool name="yes">true</bool></resources>`,
				"res/values-v26/s.xml":    `<resources><string name="name">since Android 8</string></resources>`,
				"res/values-land/s.xml":   `<resources><string name="name">lying down</string></resources>`,
				"res/values-de-v28/s.xml": `<resources><string name="name">neu</string></resources>`,
			})
		raw, err := os.ReadFile(apk)
		require.NoError(t, err)
		got, err := read(raw)
		require.NoError(t, err)
		assert.EqualValues(t, 77, got.VersionCode, "a text, by reference")
		assert.Equal(t, 21, got.MinAPI, "in hexadecimal")
		assert.Equal(t, "Wrack", got.TargetCode)
		assert.Equal(t, appfile.Preview, got.TargetAPI)
		assert.False(t, got.Debuggable, "a boolean by reference")
		assert.True(t, got.TestOnly)
		assert.Equal(t, "since Android 8", got.Label, "what a device of today shows")
	}
}

// rezipped writes an APK's files anew, with change made to each entry.
func rezipped(t *testing.T, raw []byte, headers func(h *zip.FileHeader) []*zip.FileHeader) []byte {
	return rewritten(t, raw, headers, func(content []byte) []byte { return content })
}

// replaced writes an APK anew, with a text in its files replaced by one of the same length, in UTF-8 and UTF-16.
func replaced(t *testing.T, raw []byte, old, now string) []byte {
	t.Helper()
	require.Len(t, now, len(old))
	wide := func(s string) (out []byte) {
		for _, c := range []byte(s) {
			out = append(out, c, 0)
		}
		return out
	}
	return rewritten(t, raw, func(h *zip.FileHeader) []*zip.FileHeader { return []*zip.FileHeader{h} }, func(content []byte) []byte {
		return bytes.ReplaceAll(bytes.ReplaceAll(content, []byte(old), []byte(now)), wide(old), wide(now))
	})
}

func rewritten(t *testing.T, raw []byte, headers func(h *zip.FileHeader) []*zip.FileHeader, contents func([]byte) []byte) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		for _, h := range headers(&zip.FileHeader{Name: f.Name, Method: f.Method}) {
			e, err := w.CreateHeader(h)
			require.NoError(t, err)
			_, err = e.Write(contents(content))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestWhatASystemWouldRefuseIsRefusedOrSaid(t *testing.T) {
	same := func(h *zip.FileHeader) []*zip.FileHeader { return []*zip.FileHeader{h} }
	bare := func(manifest string) []byte {
		raw, err := os.ReadFile(pack(t, "aapt2", manifest, nil))
		require.NoError(t, err)
		return raw
	}
	plain := bare(`package="org.kelpline.bare" android:versionCode="7"><application/>`)
	ipa := rezipped(t, plain, func(h *zip.FileHeader) []*zip.FileHeader {
		return []*zip.FileHeader{{Name: "Payload/Kelp.app/" + map[string]string{"AndroidManifest.xml": "Info.plist"}[h.Name] + strings.Repeat("x", len(h.Name)%19)}}
	})
	text := func() []byte {
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		e, err := w.Create("AndroidManifest.xml")
		require.NoError(t, err)
		_, _ = e.Write([]byte("<?xml version='1.0'?><manifest package='a.b'/>"))
		require.NoError(t, w.Close())
		return out.Bytes()
	}()
	for says, raw := range map[string][]byte{
		`two files named "AndroidManifest.xml"`: rezipped(t, plain, func(h *zip.FileHeader) []*zip.FileHeader { twin := *h; return append(same(h), &twin) }),
		`inside is encrypted`:                   rezipped(t, plain, func(h *zip.FileHeader) []*zip.FileHeader { h.Flags = 1; return same(h) }),
		`Info.plist can't be read`:              ipa,
		`it is plain text`:                      text,
		`something was put behind it`:           append(append([]byte{}, plain...), make([]byte, 70_000)...),
		`the version's name is 300 bytes long`:  bare(`package="org.kelpline.bare" android:versionName="` + strings.Repeat("v", 300) + `"><application/>`),
	} {
		_, err := read(raw)
		var no *appfile.Refusal
		require.ErrorAs(t, err, &no, says)
		assert.Contains(t, no.Why, says)
		assert.NotEmpty(t, no.Remedy)
	}
	// An id that no packaging tool writes: the one in the manifest's pool is changed, at the same length.
	for _, bad := range []string{"../../etc/x; rm-rf", "one.kelpline..bare", "1rg.kelpline.bare_", "orgXkelplineXbareX"} {
		_, err := read(replaced(t, bare(`package="org.kelpline.bare_" android:versionCode="7"><application/>`), "org.kelpline.bare_", bad))
		assert.ErrorContains(t, err, "the system takes no app with the id", bad)
	}
	split, err := read(bare(`package="org.kelpline.bare" split="config.hdpi"><application android:isSplitRequired="true"/>`))
	require.NoError(t, err)
	var found []string
	for _, f := range split.Findings {
		found = append(found, f.What)
	}
	assert.Equal(t, []string{`it is the split "config.hdpi" of an app, and not the whole app`, "it needs other splits of the app beside it", "it is not signed"}, found)
}

func TestContentsThatWereChangedAfterSigningAreFound(t *testing.T) {
	whole := func(raw []byte) string {
		build, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err)
		found, err := build.Whole()
		require.NoError(t, err)
		if found == nil {
			return ""
		}
		return found.What
	}
	raw, err := os.ReadFile(housetest.Kelpline(t)) // signed by versions 1, 2 and 3
	require.NoError(t, err)
	assert.Empty(t, whole(raw))
	for _, at := range []int{200, len(raw) / 2, len(raw) - 30} {
		changed := bytes.Clone(raw)
		changed[at] ^= 1
		if _, err := zip.NewReader(bytes.NewReader(changed), int64(len(changed))); err == nil {
			assert.NotEmpty(t, whole(changed), at)
		}
	}
	// Packed anew, it has the first signature alone: that of each file.
	same := rezipped(t, raw, func(h *zip.FileHeader) []*zip.FileHeader { return []*zip.FileHeader{h} })
	assert.Empty(t, whole(same))
	more := rezipped(t, raw, func(h *zip.FileHeader) []*zip.FileHeader {
		if h.Name == "resources.arsc" {
			return []*zip.FileHeader{h, {Name: "assets/new"}}
		}
		return []*zip.FileHeader{h}
	})
	assert.Equal(t, "its contents are not those that were signed", whole(more))
	less := rezipped(t, raw, func(h *zip.FileHeader) []*zip.FileHeader {
		if h.Name == "classes.dex" {
			return nil
		}
		return []*zip.FileHeader{h}
	})
	assert.Equal(t, "its contents are not those that were signed", whole(less))
	assert.Equal(t, "its contents are not those that were signed", whole(replaced(t, raw, "Kelpline", "Kelpl1ne")))
	// A list of digests that can't be unpacked is a finding, and no fault of the service's.
	damaged := bytes.Clone(same)
	z, err := zip.NewReader(bytes.NewReader(same), int64(len(same)))
	require.NoError(t, err)
	for _, f := range z.File {
		if f.Name == "META-INF/MANIFEST.MF" {
			at, err := f.DataOffset()
			require.NoError(t, err)
			damaged[at+int64(f.CompressedSize64)/2] ^= 0xff
		}
	}
	assert.Equal(t, "its contents are not those that were signed", whole(damaged))
	unsigned, err := os.ReadFile(pack(t, "aapt2", `package="org.kelpline.bare"><application/>`, nil))
	require.NoError(t, err)
	assert.Empty(t, whole(unsigned))
	out, err := exec.Command("apksigner", "verify", "--min-sdk-version", "18", housetest.Kelpline(t)).CombinedOutput()
	require.NoError(t, err, string(out))
}

func TestReadSaysWhatAndroidsOwnToolSays(t *testing.T) {
	png, err := os.ReadFile(filepath.Join(housetest.Root(), "demo/kelpline/res/mipmap-mdpi/ic_kelp.png"))
	require.NoError(t, err)
	builds := map[string]string{"kelpline": housetest.Kelpline(t)}
	for _, tool := range []string{"aapt", "aapt2"} {
		builds[tool+" plain"] = pack(t, tool, `package="org.kelpline.bare" android:versionCode="7" android:versionName="0.7-rc1"><application/>`, nil)
		builds[tool+" rich"] = pack(t, tool, `package="org.kelpline.rich" android:versionCode="99" android:versionName="@string/v"><uses-sdk android:minSdkVersion="21" android:targetSdkVersion="30"/>
			<uses-permission android:name="android.permission.INTERNET"/><uses-permission android:name="android.permission.NFC"/><uses-permission android:name="android.permission.INTERNET"/>
			<application android:label="@string/name" android:icon="@drawable/ic" android:debuggable="true" android:testOnly="true">
			<activity android:name="Second"/><activity android:name=".Door"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application>`,
			map[string]string{
				"res/values/s.xml":    `<resources><string name="name">@string/real</string><string name="real">Tide &amp; Kelp – ñandú 水</string><string name="v">2.0</string></resources>`,
				"res/values-de/s.xml": `<resources><string name="real">Gezeiten</string></resources>`, "res/values-fr-rCA/s.xml": `<resources><string name="name">Marées</string></resources>`,
				"res/drawable-hdpi/ic.png": string(png), "res/drawable-xxhdpi/ic.png": string(png), "lib/arm64-v8a/libk.so": "x", "lib/x86_64/libk.so": "x"})
	}
	for name, apk := range builds {
		t.Run(name, func(t *testing.T) {
			raw, err := os.ReadFile(apk)
			require.NoError(t, err)
			got, err := read(raw)
			require.NoError(t, err)
			want := badging(t, apk)
			if want.MinAPI == 0 {
				want.MinAPI = 1 // what Android takes where nothing is said
			}
			if want.TargetAPI == 0 {
				want.TargetAPI = want.MinAPI
			}
			if want.Label == "" {
				want.Label = want.AppID
			}
			seen, unique := map[string]bool{}, []string(nil)
			for _, p := range want.Permissions {
				if !seen[p] {
					seen[p], unique = true, append(unique, p)
				}
			}
			want.Permissions = unique
			if name != "kelpline" {
				require.Len(t, got.Findings, 1)
				assert.Equal(t, "it is not signed", got.Findings[0].What)
			}
			got.Findings = nil
			assert.Equal(t, want, got)
			if got.IconPath != "" {
				build, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
				require.NoError(t, err)
				assert.NotEmpty(t, build.Icon(got.IconPath))
			}
		})
	}
}

func TestAnAliasCanBeWhatALauncherStarts(t *testing.T) { // Android's own tool of this age does not know
	apk := pack(t, "aapt2", `package="org.kelpline.alias"><application><activity android:name=".Real"/><activity-alias android:name=".Door" android:targetActivity=".Real"><intent-filter>
		<action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity-alias></application>`, nil)
	raw, err := os.ReadFile(apk)
	require.NoError(t, err)
	f, err := read(raw)
	require.NoError(t, err)
	assert.Equal(t, "org.kelpline.alias.Door", f.Activity)
}

func zipOf(t *testing.T, files map[string][]byte) []byte {
	t.Helper()
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for n, b := range files {
		w, err := z.Create(n)
		require.NoError(t, err)
		_, err = w.Write(b)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return buf.Bytes()
}

func TestWhatIsNoBuildIsRefusedWithTheReason(t *testing.T) {
	apk, err := os.ReadFile(housetest.Kelpline(t))
	require.NoError(t, err)
	damaged := bytes.Clone(apk)
	for i := range 4000 {
		damaged[i] ^= 0x5a
	}
	damaged[0], damaged[1] = 'P', 'K'
	for name, c := range map[string]struct {
		raw []byte
		why string
	}{
		"an empty file":             {nil, "the file is empty"},
		"a text":                    {[]byte("hello, this is no app"), "neither an APK nor an IPA: it does not begin as a zip file does"},
		"half an APK":               {apk[:len(apk)/2], "it is cut off"},
		"an APK without its end":    {apk[:len(apk)-30], "it is cut off"},
		"a damaged APK":             {damaged, "damaged"},
		"a zip without a manifest":  {zipOf(t, map[string][]byte{"readme.txt": []byte("x")}), "no AndroidManifest.xml at its root"},
		"an app bundle":             {zipOf(t, map[string][]byte{"BundleConfig.pb": nil}), "app bundle"},
		"a manifest in plain XML":   {zipOf(t, map[string][]byte{"AndroidManifest.xml": []byte("<manifest package='a'/>")}), "AndroidManifest.xml can't be read"},
		"an empty manifest":         {zipOf(t, map[string][]byte{"AndroidManifest.xml": nil}), "it is empty"},
		"a manifest that is a bomb": {zipOf(t, map[string][]byte{"AndroidManifest.xml": make([]byte, 9<<20)}), "more than the"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := read(c.raw)
			var r *appfile.Refusal
			require.True(t, errors.As(err, &r), "%v", err)
			assert.Contains(t, r.Why, c.why)
			assert.NotEmpty(t, r.Remedy)
		})
	}
}

// --- crafted files ------------------------------------------------------------

type le struct{ bytes.Buffer }

func (b *le) u16(v ...uint16) *le {
	for _, x := range v {
		_ = binary.Write(&b.Buffer, binary.LittleEndian, x)
	}
	return b
}

func (b *le) u32(v ...uint32) *le {
	for _, x := range v {
		_ = binary.Write(&b.Buffer, binary.LittleEndian, x)
	}
	return b
}

func chunk(kind uint16, header, body []byte) []byte {
	var b le
	b.u16(kind, uint16(8+len(header))).u32(uint32(8 + len(header) + len(body)))
	b.Write(header)
	b.Write(body)
	return b.Bytes()
}

func pool(strings ...string) []byte {
	var offsets, data le
	for _, s := range strings {
		offsets.u32(uint32(data.Len()))
		data.u16(uint16(len(s)>>16)|0x8000, uint16(len(s)))
		for _, c := range s {
			data.u16(uint16(c))
		}
		data.u16(0)
	}
	var h le
	h.u32(uint32(len(strings)), 0, 0, uint32(28+offsets.Len()), 0)
	return chunk(0x0001, h.Bytes(), append(offsets.Bytes(), data.Bytes()...))
}

func element(attrs int, name, value uint32, kind byte) []byte {
	var b le
	b.u32(0xFFFFFFFF, name).u16(20, 20, uint16(attrs), 0, 0, 0)
	for range attrs {
		b.u32(0xFFFFFFFF, 2, 0xFFFFFFFF).u16(8)
		b.WriteByte(0)
		b.WriteByte(kind)
		b.u32(value)
	}
	return chunk(0x0102, make([]byte, 8), b.Bytes())
}

func within(t *testing.T, limit time.Duration, f func()) {
	t.Helper()
	done := make(chan struct{})
	go func() { defer close(done); f() }()
	select {
	case <-done:
	case <-time.After(limit):
		t.Fatalf("it takes longer than %s", limit)
	}
}

func TestOneLongStringNamedByThousandsOfAttributesDoesNotHangTheReader(t *testing.T) {
	body := pool("manifest", strings.Repeat("long", 900_000), "package")
	for range 40 {
		body = append(body, element(60_000, 0, 1, 3)...)
	}
	raw := zipOf(t, map[string][]byte{"AndroidManifest.xml": chunk(0x0003, nil, body[:min(len(body), 8<<20-100)])})
	within(t, 10*time.Second, func() {
		_, err := read(raw)
		var r *appfile.Refusal
		assert.ErrorAs(t, err, &r)
	})
}

func TestResourcesThatReferToEachOtherOverManyConfigurationsDoNotHangTheReader(t *testing.T) {
	const entries, configs = 60, 4000
	// Every resource, in every configuration, refers to the next one; the last to the first.
	var all []byte
	for range configs {
		var offsets, data le
		for e := range entries {
			offsets.u32(uint32(e * 16))
			data.u16(8, 0).u32(0).u16(8)
			data.WriteByte(0)
			data.WriteByte(1) // a reference
			data.u32(0x7f010000 | uint32((e+1)%entries))
		}
		var h le
		h.Write([]byte{1, 0, 0, 0})
		h.u32(entries, uint32(20+28+entries*4))
		h.u32(28)
		h.Write(make([]byte, 24))
		all = append(all, chunk(0x0201, h.Bytes(), append(offsets.Bytes(), data.Bytes()...))...)
	}
	var ph le
	ph.u32(0x7f)
	ph.Write(make([]byte, 276))
	var th le
	th.u32(1)
	table := chunk(0x0002, th.Bytes(), append(pool("x"), chunk(0x0200, ph.Bytes(), all)...))
	var ids le
	ids.u32(0, 0, 0x01010001) // the third string is android:label
	manifest := pool("manifest", "application", "label")
	manifest = append(manifest, chunk(0x0180, nil, ids.Bytes())...)
	manifest = append(manifest, element(0, 0, 0, 0)...)
	manifest = append(manifest, element(1, 1, 0x7f010000, 1)...)
	raw := zipOf(t, map[string][]byte{"AndroidManifest.xml": chunk(0x0003, nil, manifest), "resources.arsc": table})
	within(t, 10*time.Second, func() {
		_, err := read(raw)
		var r *appfile.Refusal
		require.ErrorAs(t, err, &r)
		assert.Contains(t, r.Why, "refers to another more than")
	})
}

func FuzzRead(f *testing.F) {
	apk, err := os.ReadFile(housetest.Kelpline(f))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(apk)
	f.Fuzz(func(t *testing.T, raw []byte) {
		build, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			return
		}
		if facts, err := build.Examine(); err == nil && facts.AppID == "" {
			t.Fatal("taken without an app id")
		}
	})
}

// FuzzParts fuzzes manifest and resource table inside of a zip that is whole.
func FuzzParts(f *testing.F) {
	apk, err := os.ReadFile(housetest.Kelpline(f))
	if err != nil {
		f.Fatal(err)
	}
	build, err := appfile.Open(bytes.NewReader(apk), int64(len(apk)))
	if err != nil {
		f.Fatal(err)
	}
	manifest, err1 := build.Entry("AndroidManifest.xml", 1<<20)
	table, err2 := build.Entry("resources.arsc", 1<<20)
	if err := errors.Join(err1, err2); err != nil {
		f.Fatal(err)
	}
	f.Add(manifest, table)
	f.Fuzz(func(t *testing.T, manifest, table []byte) {
		start := time.Now()
		_, _ = read(zipOf(t, map[string][]byte{"AndroidManifest.xml": manifest, "resources.arsc": table}))
		if took := time.Since(start); took > 5*time.Second {
			t.Fatalf("took %s", took)
		}
	})
}

func TestWhatABuildNeedsOfADevice(t *testing.T) {
	raw, err := os.ReadFile(pack(t, "aapt2", `package="org.kelpline.needy"><uses-feature android:name="android.hardware.nfc"/><uses-feature android:name="android.hardware.camera" android:required="false"/>
		<uses-feature android:name="android.hardware.nfc" android:required="true"/><uses-feature android:glEsVersion="0x00020000"/>
		<supports-screens android:smallScreens="false" android:normalScreens="true" android:xlargeScreens="false"/><application/>`, nil))
	require.NoError(t, err)
	f, err := read(raw)
	require.NoError(t, err)
	assert.Equal(t, []string{"android.hardware.nfc"}, f.Features)
	assert.Equal(t, []string{"small", "xlarge"}, f.NoScreens)
}
