// Package appfile reads the facts of an app build out of its file.
//
// It reads an APK where it lies: the zip directory, the binary manifest and
// the resource table, never the whole file. Every byte read and every
// string decoded is paid for from a work budget, so that a crafted file costs
// no more than an honest one. In: an io.ReaderAt. Out: Facts, or a *Refusal
// that says what is wrong with the file.
//
// Formats: APPNOTE.TXT 6.3.9 (zip); ResourceTypes.h of the Android Open Source
// Project (binary XML, resource table).
package appfile

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // icons come as JPEG, too
	"image/png"
	"io"
	"path"
	"regexp"
	"sort"
	"strings"
	"sync"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp" // and as WebP

	"tessellant/internal/core/zipdir"
)

// Facts is what a build says about itself.
type Facts struct {
	Platform    string   `json:"platform"` // "android"
	AppID       string   `json:"app_id"`   // the package name, such as org.example.app
	Label       string   `json:"label"`    // in the default language
	VersionName string   `json:"version_name"`
	VersionCode int64    `json:"version_code"` // with versionCodeMajor in the upper 32 bits
	MinAPI      int      `json:"min_api"`      // lowest Android API level; 1 when the manifest says none
	TargetAPI   int      `json:"target_api"`   // the lowest one when the manifest says none
	Permissions []string `json:"permissions"`  // as in the manifest, in its order, each once
	ABIs        []string `json:"abis"`         // processor kinds with native code; none: runs on all
	Activity    string   `json:"activity"`     // the one a launcher starts
	IconPath    string   `json:"icon_path"`    // inside the file: the densest one that is a picture
	Debuggable  bool     `json:"debuggable"`
	TestOnly    bool     `json:"test_only"`
	// MinCode and TargetCode are the code names of systems that are not released, where the manifest names such; the level is Preview then.
	MinCode    string    `json:"min_code,omitempty"`
	TargetCode string    `json:"target_code,omitempty"`
	Findings   []Finding `json:"findings,omitempty"`
}

// Finding is something worth knowing with a build that can be used all the same.
type Finding struct {
	Level  string `json:"level"` // warns or notes
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Refusal says why a file is not a build that can be used, and what to do.
type Refusal struct{ Why, Remedy string }

func (r *Refusal) Error() string { return r.Why + "; " + r.Remedy }

func refuse(remedy, format string, args ...any) error {
	return &Refusal{fmt.Sprintf(format, args...), remedy}
}

const (
	maxEntries   = 200_000
	maxDirectory = 64 << 20  // bytes of the zip directory
	maxManifest  = 8 << 20   // bytes of the unpacked manifest
	maxTable     = 128 << 20 // bytes of the unpacked resource table
	maxIcon      = 4 << 20   // bytes of the icon
	maxVersion   = 255       // bytes of a version's name
	maxAppID     = 223       // bytes of an app's id, as the system has it
	maxWork      = 64 << 20  // units of work: about one a byte looked at
	maxText      = 4096      // bytes kept of any one text
	rebuild      = "build the app again and upload the file that the build made"
)

// Read reads the facts of the APK of size bytes behind r.
func Read(r io.ReaderAt, size int64) (Facts, error) {
	var none Facts
	z, err := open(r, size)
	if err != nil {
		return none, err
	}
	manifest := find(z, "AndroidManifest.xml")
	if manifest == nil {
		switch {
		case isIPA(z):
			return none, refuse("upload an Android build for now", "this is an iOS app (IPA); iOS builds are not read yet")
		case find(z, "BundleConfig.pb") != nil:
			return none, refuse("make an APK from it", "this is an app bundle (AAB), which a device can't install")
		default:
			return none, refuse("upload the APK itself, not an archive of something else", "the zip file has no AndroidManifest.xml at its root, so it is not an APK")
		}
	}
	raw, err := unpack(manifest, maxManifest)
	if err != nil {
		return none, err
	}
	b := &budget{left: maxWork}
	m, err := readManifest(raw, b)
	if err != nil {
		return none, refuse(rebuild, "AndroidManifest.xml can't be read: %v", err)
	}
	var table *resources
	if f := find(z, "resources.arsc"); f != nil {
		raw, err := unpack(f, maxTable)
		if err != nil {
			return none, err
		}
		if table, err = readTable(raw, b); err != nil {
			return none, refuse(rebuild, "resources.arsc can't be read: %v", err)
		}
	}
	facts, err := m.facts(table)
	if err != nil {
		return none, refuse(rebuild, "the build's facts can't be read: %v", err)
	}
	switch {
	case facts.AppID == "":
		return none, refuse(rebuild, "AndroidManifest.xml names no package")
	case len(facts.AppID) > maxAppID || !appIDForm().MatchString(facts.AppID):
		return none, refuse("give the app an id of letters, digits and underscores with dots between, such as org.example.app", "the system takes no app with the id %.100q", facts.AppID)
	case len(facts.VersionName) > maxVersion:
		return none, refuse("shorten it", "the version's name is %d bytes long; %d is the most", len(facts.VersionName), maxVersion)
	}
	facts.ABIs = abis(z)
	facts.Findings, err = m.findings(z, table, r, size)
	return facts, err
}

// appIDForm is what the system takes for an app's id (android.content.pm.parsing: validateName).
var appIDForm = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*(\.[A-Za-z][A-Za-z0-9_]*)+$`)
})

func isIPA(z *zip.Reader) bool {
	for _, f := range z.File {
		if dir, file, ok := strings.Cut(strings.TrimPrefix(f.Name, "Payload/"), "/"); ok && strings.HasPrefix(f.Name, "Payload/") && strings.HasSuffix(dir, ".app") && file == "Info.plist" {
			return true
		}
	}
	return false
}

// findings says what will go wrong with a build that can be read.
func (m *manifest) findings(z *zip.Reader, t *resources, r io.ReaderAt, size int64) (out []Finding, err error) {
	if m.split != "" {
		out = append(out, Finding{"warns", fmt.Sprintf("it is the split %.100q of an app, and not the whole app", m.split), "upload a universal APK: a split can't be installed alone"})
	}
	if needs, err := t.flag(m.needsSplits); err != nil {
		return nil, refuse(rebuild, "the build's facts can't be read: %v", err)
	} else if needs {
		out = append(out, Finding{"warns", "it needs other splits of the app beside it", "upload a universal APK: devices refuse this one alone"})
	}
	if !signed(z, r, size) {
		out = append(out, Finding{"warns", "it is not signed", "sign it: devices refuse an app without a signature"})
	}
	return out, nil
}

// signed says whether there is a signature at all, of the first scheme (a file in META-INF) or a later one (a block before the zip's directory). Whether it is
// good is not looked at.
func signed(z *zip.Reader, r io.ReaderAt, size int64) bool {
	for _, f := range z.File {
		if dir, name := path.Split(f.Name); dir == "META-INF/" {
			switch strings.ToUpper(path.Ext(name)) {
			case ".RSA", ".DSA", ".EC":
				return true
			}
		}
	}
	const magic = "APK Sig Block 42" // source.android.com: APK Signature Scheme v2, "APK Signing Block"
	at, err := zipdir.Begin(r, size)
	if err != nil || at < int64(len(magic)) {
		return false
	}
	tail := make([]byte, len(magic))
	_, err = r.ReadAt(tail, at-int64(len(magic)))
	return err == nil && string(tail) == magic
}

const (
	maxIconSide = 4096 // pixels of an icon that is looked at
	iconSide    = 512  // of one that is kept
)

// Icon reads the icon that Facts.IconPath names, as a PNG of at most 512 pixels. It answers nil when there is
// none, or when it is no picture that can be read.
func Icon(r io.ReaderAt, size int64, name string) []byte {
	z, err := open(r, size)
	if err != nil || name == "" {
		return nil
	}
	f := find(z, name)
	if f == nil {
		return nil
	}
	raw, err := unpack(f, maxIcon)
	if err != nil {
		return nil
	}
	cfg, kind, err := image.DecodeConfig(bytes.NewReader(raw))
	if err != nil || cfg.Width <= 0 || cfg.Height <= 0 || cfg.Width > maxIconSide || cfg.Height > maxIconSide {
		return nil
	}
	if kind == "png" && cfg.Width <= iconSide && cfg.Height <= iconSide && len(raw) <= 1<<20 {
		return raw
	}
	img, _, err := image.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil
	}
	w, h := min(cfg.Width, iconSide), min(cfg.Height, iconSide)
	if cfg.Width > cfg.Height {
		h = max(cfg.Height*w/cfg.Width, 1)
	} else {
		w = max(cfg.Width*h/cfg.Height, 1)
	}
	small := image.NewNRGBA(image.Rect(0, 0, w, h))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), img, img.Bounds(), draw.Src, nil)
	var out bytes.Buffer
	if png.Encode(&out, small) != nil {
		return nil
	}
	return out.Bytes()
}

// File reads one file out of the build, of at most max bytes.
func File(r io.ReaderAt, size int64, name string, max int64) ([]byte, error) {
	z, err := open(r, size)
	if err != nil {
		return nil, err
	}
	f := find(z, name)
	if f == nil {
		return nil, fmt.Errorf("the build has no file %s", name)
	}
	return unpack(f, max)
}

func open(r io.ReaderAt, size int64) (*zip.Reader, error) {
	if size == 0 {
		return nil, refuse("upload the APK that your build made", "the file is empty")
	}
	head := make([]byte, 4)
	if n, _ := r.ReadAt(head, 0); n < 4 || !bytes.HasPrefix(head, []byte("PK")) {
		return nil, refuse("upload the APK that your build made", "this is not an APK: it does not begin as a zip file does")
	}
	dir, err := zipdir.Size(r, size)
	if errors.Is(err, zipdir.ErrNone) {
		return nil, refuse("upload it again from the start, as the build made it", "it begins as a zip file but has no zip directory at its end: it is cut off, or something was put behind it")
	}
	if err != nil {
		return nil, err
	}
	if dir > maxDirectory {
		return nil, refuse(rebuild, "its zip directory is %d bytes long, more than the %d that are read", dir, maxDirectory)
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, refuse("upload it again from the start", "its zip directory is damaged: %v", err)
	}
	if len(z.File) > maxEntries {
		return nil, refuse(rebuild, "it holds %d files, more than the %d that are read", len(z.File), maxEntries)
	}
	seen := make(map[string]bool, len(z.File))
	for _, f := range z.File {
		if seen[f.Name] {
			return nil, refuse(rebuild, "it holds two files named %q; devices refuse such an app", clip(f.Name))
		}
		seen[f.Name] = true
		if f.Flags&1 != 0 { // APPNOTE 4.4.4, bit 0
			return nil, refuse("pack it without a password", "%q inside is encrypted", clip(f.Name))
		}
	}
	for _, f := range z.File[:min(3, len(z.File))] { // each costs a read
		if off, err := f.DataOffset(); err != nil || off < 0 || off > size {
			return nil, refuse("upload it again from the start", "it is damaged: the file %q inside has no beginning", clip(f.Name))
		}
	}
	return z, nil
}

func find(z *zip.Reader, name string) *zip.File {
	for _, f := range z.File {
		if f.Name == name {
			return f
		}
	}
	return nil
}

func unpack(f *zip.File, max int64) ([]byte, error) {
	if f.UncompressedSize64 > uint64(max) {
		return nil, refuse(rebuild, "%s inside is %d bytes long, more than the %d that are read", clip(f.Name), f.UncompressedSize64, max)
	}
	rc, err := f.Open()
	if err != nil {
		return nil, refuse("upload it again from the start", "%s inside can't be opened: %v", clip(f.Name), err)
	}
	defer rc.Close()
	// Read what is really there: the size that the directory tells may be a lie.
	raw, err := io.ReadAll(io.LimitReader(rc, max+1))
	if err != nil {
		return nil, refuse("upload it again from the start", "%s inside is damaged: %v", clip(f.Name), err)
	}
	if int64(len(raw)) > max {
		return nil, refuse(rebuild, "%s inside unpacks to more than the %d bytes that are read", clip(f.Name), max)
	}
	return raw, nil
}

func abis(z *zip.Reader) []string {
	seen := map[string]bool{}
	for _, f := range z.File {
		if dir, file, ok := strings.Cut(strings.TrimPrefix(f.Name, "lib/"), "/"); ok && strings.HasPrefix(f.Name, "lib/") && strings.HasSuffix(file, ".so") {
			seen[dir] = true
		}
	}
	var out []string
	for a := range seen {
		out = append(out, a)
	}
	sort.Strings(out)
	return out
}

// facts turns the manifest into Facts, looking up in the table what it refers to.
func (m *manifest) facts(t *resources) (Facts, error) {
	text := func(v value) (string, error) { return t.text(v) }
	f := Facts{Platform: "android", AppID: m.pkg, Permissions: m.permissions}
	var err error
	if f.Debuggable, err = t.flag(m.debuggable); err != nil {
		return f, err
	}
	if f.TestOnly, err = t.flag(m.testOnly); err != nil {
		return f, err
	}
	if f.VersionName, err = text(m.versionName); err != nil {
		return f, err
	}
	if f.Label, err = text(m.label); err != nil {
		return f, err
	}
	code, err := t.number(m.versionCode)
	major, err2 := t.number(m.versionCodeMajor)
	if err = errors.Join(err, err2); err != nil {
		return f, err
	}
	f.VersionCode = (major&0x7fffffff)<<32 | code
	if f.MinAPI, f.MinCode, err = t.level(m.minAPI, 1); err != nil {
		return f, err
	}
	if f.TargetAPI, f.TargetCode, err = t.level(m.targetAPI, f.MinAPI); err != nil {
		return f, err
	}
	if f.TargetCode == "" && f.TargetAPI == Preview {
		f.TargetCode = f.MinCode
	}
	if f.Label == "" {
		f.Label = f.AppID
	}
	f.Activity = absolute(m.launcher, m.pkg)
	if f.IconPath, err = t.picture(m.icon); err != nil {
		return f, err
	}
	return f, nil
}

// absolute completes a class name as the manifest does: ".Main" and "Main" lie
// in the app's own package.
func absolute(class, pkg string) string {
	switch {
	case class == "":
		return ""
	case strings.HasPrefix(class, "."):
		return pkg + class
	case !strings.Contains(class, "."):
		return pkg + "." + class
	}
	return class
}

func isPicture(name string) bool {
	switch path.Ext(name) {
	case ".png", ".webp", ".jpg":
		return true
	}
	return false
}

// clip shortens a text from a file so that it can stand in an error.
func clip(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}

// budget is how much work reading one file may still cost.
type budget struct{ left int }

var errTooMuchWork = errors.New("reading it takes more work than any honest file does")

func (b *budget) spend(n int) error {
	if b.left -= n + 1; b.left < 0 {
		return errTooMuchWork
	}
	return nil
}
