package appfile_test

import (
	"archive/zip"
	"bytes"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/appfile"
	"tessellant/internal/housetest"
	"tessellant/internal/standin/ipa"
)

// larch are the unique identifiers of two phones.
var larch = []string{"00008101-000A11110000001E", "00008101-000A22220000001E"}

func kelplineIOS(t testing.TB) ipa.App {
	t.Helper()
	a, err := ipa.Kelpline(filepath.Join(housetest.Root(), "demo", "kelpline"), "1.8.0", "231", larch)
	require.NoError(t, err)
	return a
}

func buildIPA(t testing.TB, a ipa.App) []byte {
	t.Helper()
	raw, err := ipa.Build(a)
	require.NoError(t, err)
	return raw
}

func examine(t *testing.T, raw []byte) (*appfile.File, appfile.Facts) {
	t.Helper()
	f, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	facts, err := f.Examine()
	require.NoError(t, err)
	return f, facts
}

func TestTheFactsOfAnIPA(t *testing.T) {
	for _, text := range []bool{false, true} {
		a := kelplineIOS(t)
		a.Text = text
		a.Profile.Expires = time.Date(2027, 5, 6, 7, 8, 9, 0, time.UTC)
		f, facts := examine(t, buildIPA(t, a))
		assert.Empty(t, facts.Findings)
		x := facts.IOS
		require.NotNil(t, x)
		assert.Equal(t, "ios", facts.Platform)
		assert.Equal(t, "org.kelpline.app", facts.AppID)
		assert.Equal(t, "Kelpline", facts.Label)
		assert.Equal(t, "1.8.0", facts.VersionName)
		assert.EqualValues(t, 231, facts.VersionCode)
		assert.Equal(t, []string{"NSLocationWhenInUseUsageDescription"}, facts.Permissions)
		assert.Equal(t, "15.0", x.MinOS)
		assert.Equal(t, []string{"phone", "tablet"}, x.Families)
		require.NotNil(t, x.Profile)
		assert.Equal(t, appfile.Profile{Name: "Kelpline volunteers", Team: "Kelpline demo team", Kind: appfile.AdHoc, Expires: a.Profile.Expires, Devices: larch, Entitlements: []string{"keychain-access-groups"}}, *x.Profile)
		require.NotNil(t, x.Signer)
		assert.Equal(t, "Kelpline demo signer", x.Signer.Name)
		assert.WithinDuration(t, time.Now().AddDate(2, 0, 0), x.Signer.Expires, time.Hour)

		icon := f.Icon(facts.IconPath)
		require.NotNil(t, icon)
		got, err := png.Decode(bytes.NewReader(icon))
		require.NoError(t, err)
		want, err := png.Decode(bytes.NewReader(a.Icon))
		require.NoError(t, err)
		require.Equal(t, want.Bounds().Size(), got.Bounds().Size())
		for _, p := range [][2]int{{want.Bounds().Dx() / 2, want.Bounds().Dy() / 2}, {want.Bounds().Dx() / 3, want.Bounds().Dy() / 3}} {
			wr, wg, wb, wa := want.At(p[0], p[1]).RGBA()
			gr, gg, gb, ga := got.At(p[0], p[1]).RGBA()
			assert.InDeltaSlice(t, []float64{float64(wr), float64(wg), float64(wb), float64(wa)}, []float64{float64(gr), float64(gg), float64(gb), float64(ga)}, 600, "the icon's colours at %v", p)
		}
	}
}

// plutil is what Debian's own tool for property lists reads.
func plutil(t *testing.T, raw []byte) string {
	t.Helper()
	in := filepath.Join(t.TempDir(), "in.plist")
	require.NoError(t, os.WriteFile(in, raw, 0o600))
	out, err := exec.Command("plistutil", "-i", in, "-f", "xml", "-o", "-").Output()
	require.NoError(t, err)
	return string(out)
}

func TestOtherToolsReadTheSameInAnIPA(t *testing.T) {
	raw := buildIPA(t, kelplineIOS(t))
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	file := func(name string) []byte {
		f, err := z.Open("Payload/Kelpline.app/" + name)
		require.NoError(t, err)
		defer f.Close()
		var b bytes.Buffer
		_, err = b.ReadFrom(f)
		require.NoError(t, err)
		return b.Bytes()
	}
	assert.Contains(t, plutil(t, file("Info.plist")), "<string>org.kelpline.app</string>")
	profile := filepath.Join(t.TempDir(), "profile")
	require.NoError(t, os.WriteFile(profile, file("embedded.mobileprovision"), 0o600))
	out, err := exec.Command("openssl", "cms", "-verify", "-noverify", "-inform", "DER", "-in", profile).Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), larch[1])
	assert.Contains(t, plutil(t, out), "Kelpline volunteers")
}

func TestWhatKeepsAnIPAFromADeviceIsSaidWithARemedy(t *testing.T) {
	now := time.Now()
	for name, c := range map[string]struct {
		change func(*ipa.App)
		says   string
	}{
		"built for the simulator":  {func(a *ipa.App) { a.Simulator = true }, "built for the simulator"},
		"unsigned":                 {func(a *ipa.App) { a.Unsigned = true }, "it is not signed"},
		"without a profile":        {func(a *ipa.App) { a.Profile.None = true }, "no provisioning profile"},
		"signed for the store":     {func(a *ipa.App) { a.Profile.Devices = nil }, "signed for the store"},
		"a profile without phones": {func(a *ipa.App) { a.Profile.Devices = []string{} }, "lists no device"},
		"a profile that ran out":   {func(a *ipa.App) { a.Profile.Expires = now.AddDate(0, -1, 0) }, "its provisioning profile has run out"},
		"a certificate that ends":  {func(a *ipa.App) { a.Until = now.AddDate(0, 0, 5) }, "the certificate that it is signed with runs out"},
	} {
		t.Run(name, func(t *testing.T) {
			a := kelplineIOS(t)
			c.change(&a)
			_, facts := examine(t, buildIPA(t, a))
			var what []string
			for _, f := range append(facts.Findings, facts.IOS.Outdated(now)...) {
				what = append(what, f.What)
				assert.NotEmpty(t, f.Remedy)
			}
			assert.Contains(t, strings.Join(what, "\n"), c.says)
		})
	}
}

func TestAProfileSaysWhomItIsFor(t *testing.T) {
	for kind, change := range map[string]func(*ipa.Profile){
		appfile.Development: func(p *ipa.Profile) { p.Debug = true },
		appfile.AdHoc:       func(*ipa.Profile) {},
		appfile.Enterprise:  func(p *ipa.Profile) { p.Devices, p.All = nil, true },
		appfile.Store:       func(p *ipa.Profile) { p.Devices = nil },
	} {
		a := kelplineIOS(t)
		change(&a.Profile)
		_, facts := examine(t, buildIPA(t, a))
		assert.Equal(t, kind, facts.IOS.Profile.Kind)
	}
}

func TestAnIPAOfNothingIsRefused(t *testing.T) {
	deep := []byte("<plist><dict><key>CFBundleIdentifier</key>" + strings.Repeat("<array>", 50_000) + "</dict></plist>")
	for says, info := range map[string][]byte{
		"Info.plist can't be read":         []byte("<plist><dict>"),
		"too deep in each other":           deep,
		"names no bundle identifier":       []byte(`<?xml version="1.0"?><plist version="1.0"><dict><key>CFBundleName</key><string>x</string></dict></plist>`),
		"takes no app with the identifier": []byte(`<?xml version="1.0"?><plist version="1.0"><dict><key>CFBundleIdentifier</key><string>../etc</string></dict></plist>`),
		"more than the":                    make([]byte, 2<<20),
		"its table of values":              []byte("bplist00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"),
	} {
		start := time.Now()
		_, err := read(zipOf(t, map[string][]byte{"Payload/X.app/Info.plist": info}))
		var no *appfile.Refusal
		require.ErrorAs(t, err, &no, says)
		assert.Contains(t, no.Why, says)
		assert.Less(t, time.Since(start), 5*time.Second, says)
	}
}

// FuzzIPA reads IPAs whose parts are anything.
func FuzzIPA(f *testing.F) {
	raw := buildIPA(f, kelplineIOS(f))
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(f, err)
	part := func(name string) []byte {
		in, err := z.Open("Payload/Kelpline.app/" + name)
		require.NoError(f, err)
		defer in.Close()
		var b bytes.Buffer
		_, _ = b.ReadFrom(in)
		return b.Bytes()
	}
	info, profile, executable, icon := part("Info.plist"), part("embedded.mobileprovision"), part("Kelpline"), part("Icon-60@3x.png")
	text := kelplineIOS(f)
	text.Text = true
	asText := buildIPA(f, text)
	zt, err := zip.NewReader(bytes.NewReader(asText), int64(len(asText)))
	require.NoError(f, err)
	in, err := zt.Open("Payload/Kelpline.app/Info.plist")
	require.NoError(f, err)
	var b bytes.Buffer
	_, _ = b.ReadFrom(in)
	f.Add(info, profile, executable, icon)
	f.Add(b.Bytes(), profile[:len(profile)/2], executable[:5000], icon[:60])
	f.Add([]byte("{CFBundleIdentifier = a.b;}"), []byte{0x30, 0x80}, []byte{0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 1}, []byte{})
	f.Fuzz(func(t *testing.T, info, profile, executable, icon []byte) {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		for name, raw := range map[string][]byte{"Info.plist": info, "embedded.mobileprovision": profile, "Kelpline": executable, "Icon-60@3x.png": icon, "_CodeSignature/CodeResources": nil} {
			w, err := z.CreateHeader(&zip.FileHeader{Name: "Payload/X.app/" + name, Method: zip.Store})
			require.NoError(t, err)
			_, err = w.Write(raw)
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		file, err := appfile.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
		if err != nil {
			return
		}
		facts, err := file.Examine()
		if err != nil {
			return
		}
		_ = file.Icon(facts.IconPath)
		_ = facts.IOS.Outdated(time.Now())
	})
}
