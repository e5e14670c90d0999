// Package ipa builds iOS apps from what Kelpline is made of: an IPA as Apple's tools lay it out, for the demo and for tests.
//
// Its property lists, its provisioning profile and the signature in its executable have the forms that devices read; the profile and the signature are signed by
// OpenSSL, with a certificate that is worth nothing. The executable has no code: a simulated phone runs the behaviour file in its place. In: what the app
// is, and whom its profile lets install it. Out: the bytes of an IPA.
package ipa

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"hash/crc32"
	"image"
	"image/draw"
	"image/png"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"howett.net/plist"
)

// App is an app to be built.
type App struct {
	ID, Name      string
	Version, Code string // the version that people see, and the build's
	Behaviour     []byte
	Icon          []byte // PNG
	MinOS         string
	Families      []int // 1: phones, 2: tablets
	Simulator     bool  // built for the simulator
	Unsigned      bool  // without signature and profile
	Text          bool  // Info.plist as text: tools write it binary
	Asks          map[string]string

	Profile Profile
	Until   time.Time // when the certificate ends; zero: in two years
}

// Profile is whom the app's profile lets install it.
type Profile struct {
	None    bool
	Name    string
	Team    string
	Devices []string // nil: none are listed
	All     bool     // every device
	Debug   bool
	Expires time.Time // zero: in a year
}

// Build builds the IPA.
func Build(a App) ([]byte, error) {
	dir, err := os.MkdirTemp("", "ipa-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := certificate(dir, a); err != nil {
		return nil, err
	}
	info := map[string]any{"CFBundleIdentifier": a.ID, "CFBundleName": a.Name, "CFBundleDisplayName": a.Name, "CFBundleExecutable": a.Name, "CFBundlePackageType": "APPL", "CFBundleShortVersionString": a.Version,
		"CFBundleVersion": a.Code, "MinimumOSVersion": a.MinOS, "UIDeviceFamily": a.Families, "CFBundleSupportedPlatforms": []string{"iPhoneOS"}, "DTPlatformName": "iphoneos",
		"CFBundleIcons": map[string]any{"CFBundlePrimaryIcon": map[string]any{"CFBundleIconFiles": []string{"Icon-60"}}}}
	if a.Simulator {
		info["CFBundleSupportedPlatforms"], info["DTPlatformName"] = []string{"iPhoneSimulator"}, "iphonesimulator"
	}
	for key, why := range a.Asks {
		info[key] = why
	}
	format := plist.BinaryFormat
	if a.Text {
		format = plist.XMLFormat
	}
	plistOf := func(v any, format int) ([]byte, error) { return plist.Marshal(v, format) }
	infoRaw, err := plistOf(info, format)
	if err != nil {
		return nil, err
	}
	files := []file{{"Info.plist", infoRaw}, {"behaviour.star", a.Behaviour}}
	if a.Icon != nil {
		icon, err := packed(a.Icon)
		if err != nil {
			return nil, err
		}
		files = append(files, file{"Icon-60@3x.png", icon})
	}
	var signature []byte
	if !a.Unsigned {
		if signature, err = sign(dir, []byte("the code of "+a.ID)); err != nil {
			return nil, err
		}
		resources, err := plistOf(map[string]any{"files": map[string]any{}}, plist.XMLFormat)
		if err != nil {
			return nil, err
		}
		files = append(files, file{"_CodeSignature/CodeResources", resources})
		if !a.Profile.None {
			raw, err := a.Profile.build(dir, a.ID)
			if err != nil {
				return nil, err
			}
			files = append(files, file{"embedded.mobileprovision", raw})
		}
	}
	files = append(files, file{a.Name, executable(signature)})
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range files {
		w, err := z.Create("Payload/" + a.Name + ".app/" + f.name)
		if err == nil {
			_, err = w.Write(f.raw)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

type file struct {
	name string
	raw  []byte
}

func (p Profile) build(dir, id string) ([]byte, error) {
	expires := p.Expires
	if expires.IsZero() {
		expires = time.Now().AddDate(1, 0, 0)
	}
	content := map[string]any{"Name": p.Name, "TeamName": p.Team, "AppIDName": id, "CreationDate": expires.AddDate(-1, 0, 0).UTC(), "ExpirationDate": expires.UTC(), "UUID": "11111111-2222-3333-4444-555555555555", "Version": 1,
		"Entitlements": map[string]any{"application-identifier": "TEAM." + id, "get-task-allow": p.Debug, "keychain-access-groups": []string{"TEAM.*"}}}
	if p.Devices != nil {
		content["ProvisionedDevices"] = p.Devices
	}
	if p.All {
		content["ProvisionsAllDevices"] = true
	}
	raw, err := plist.MarshalIndent(content, plist.XMLFormat, "\t")
	if err != nil {
		return nil, err
	}
	return sign(dir, raw)
}

// certificate makes the key and the certificate of the demo's signer.
func certificate(dir string, a App) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	until := a.Until
	if until.IsZero() {
		until = time.Now().AddDate(2, 0, 0)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: a.Name + " demo signer", Organization: []string{a.Profile.Team}}, NotBefore: until.AddDate(-3, 0, 0), NotAfter: until, KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "cert.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600)
}

// sign puts a text into a signed message of CMS (RFC 5652).
func sign(dir string, content []byte) ([]byte, error) {
	in := filepath.Join(dir, "content")
	if err := os.WriteFile(in, content, 0o600); err != nil {
		return nil, err
	}
	out, err := exec.Command("openssl", "cms", "-sign", "-binary", "-nodetach", "-outform", "DER", "-signer", filepath.Join(dir, "cert.pem"), "-inkey", filepath.Join(dir, "key.pem"), "-in", in).Output()
	if err != nil {
		return nil, fmt.Errorf("openssl cms: %w", err)
	}
	return out, nil
}

// executable makes a Mach-O file for 64-bit ARM with no code, and a signature at its end (loader.h, cs_blobs.h).
func executable(signature []byte) []byte {
	le := binary.LittleEndian
	be := binary.BigEndian
	commands, count := 0, 0
	if signature != nil {
		commands, count = 16, 1
	}
	var out []byte
	for _, v := range []uint32{0xfeedfacf, 0x0100000c, 0, 2, uint32(count), uint32(commands), 1, 0} {
		out = le.AppendUint32(out, v)
	}
	if signature == nil {
		return append(out, make([]byte, 4096-len(out))...)
	}
	blob := be.AppendUint32(nil, 0xfade0cc0)
	blob = be.AppendUint32(blob, uint32(20+8+len(signature)))
	for _, v := range []uint32{1, 0x10000, 20, 0xfade0b01, uint32(8 + len(signature))} {
		blob = be.AppendUint32(blob, v)
	}
	blob = append(blob, signature...)
	for _, v := range []uint32{0x1d, 16, 4096, uint32(len(blob))} {
		out = le.AppendUint32(out, v)
	}
	out = append(out, make([]byte, 4096-len(out))...)
	return append(out, blob...)
}

// packed packs a PNG as iOS's tools do: blue first, the alpha worked in, without the header of zlib.
func packed(raw []byte) ([]byte, error) {
	img, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	b := img.Bounds()
	flat := image.NewRGBA(image.Rect(0, 0, b.Dx(), b.Dy()))
	draw.Draw(flat, flat.Bounds(), img, b.Min, draw.Src)
	var lines bytes.Buffer
	for y := range b.Dy() {
		lines.WriteByte(0) // no filter
		for x := range b.Dx() {
			p := flat.Pix[flat.PixOffset(x, y):]
			lines.Write([]byte{p[2], p[1], p[0], p[3]})
		}
	}
	var data bytes.Buffer
	w, err := flate.NewWriter(&data, flate.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(lines.Bytes()); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	out := []byte("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, body []byte) {
		whole := append([]byte(kind), body...)
		out = binary.BigEndian.AppendUint32(out, uint32(len(body)))
		out = append(out, whole...)
		out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(whole))
	}
	chunk("CgBI", []byte{0x50, 0x00, 0x20, 0x02})
	head := binary.BigEndian.AppendUint32(nil, uint32(b.Dx()))
	head = binary.BigEndian.AppendUint32(head, uint32(b.Dy()))
	chunk("IHDR", append(head, 8, 6, 0, 0, 0))
	chunk("IDAT", data.Bytes())
	chunk("IEND", nil)
	return out, nil
}

// Kelpline is the demo's app in a version, as its sources in demo/kelpline have it. Its profile lists the phones of the demo's cloud.
func Kelpline(sources, version, code string, devices []string) (App, error) {
	a := App{ID: "org.kelpline.app", Name: "Kelpline", Version: version, Code: code, MinOS: "15.0", Families: []int{1, 2},
		Asks:    map[string]string{"NSLocationWhenInUseUsageDescription": "Kelpline shows the shores near you."},
		Profile: Profile{Name: "Kelpline volunteers", Team: "Kelpline demo team", Devices: devices}}
	for _, name := range []string{filepath.Join("versions", version+".star"), "behaviour.star"} {
		raw, err := os.ReadFile(filepath.Join(sources, name))
		if err != nil {
			return a, err
		}
		a.Behaviour = append(a.Behaviour, raw...)
	}
	var err error
	a.Icon, err = os.ReadFile(filepath.Join(sources, "res", "mipmap-xxhdpi", "ic_kelp.png"))
	return a, err
}
