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
	"image/png"
	"io"
	"path"
	"sort"
	"strconv"
	"strings"

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
	maxIcon      = 1 << 20   // bytes of the icon
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
	if facts.AppID == "" {
		return none, refuse(rebuild, "AndroidManifest.xml names no package")
	}
	facts.ABIs = abis(z)
	return facts, nil
}

// Icon reads the icon that Facts.IconPath names. It answers nil when there is
// none or when it is not a PNG of at most 1 MiB.
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
	if cfg, err := png.DecodeConfig(bytes.NewReader(raw)); err != nil || cfg.Width > 2048 || cfg.Height > 2048 {
		return nil
	}
	return raw
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
		return nil, refuse("upload it again from the start", "it is cut off: it begins as a zip file but has no zip directory at its end")
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
	f := Facts{Platform: "android", AppID: m.pkg, Debuggable: m.debuggable, TestOnly: m.testOnly, Permissions: m.permissions}
	var err error
	if f.VersionName, err = text(m.versionName); err != nil {
		return f, err
	}
	if f.Label, err = text(m.label); err != nil {
		return f, err
	}
	f.VersionCode = int64(m.versionCodeMajor)<<32 | int64(m.versionCode)
	f.MinAPI, f.TargetAPI = 1, 0
	if n, err := text(m.minAPI); err != nil {
		return f, err
	} else if v, err := strconv.Atoi(n); err == nil {
		f.MinAPI = v
	}
	f.TargetAPI = f.MinAPI
	if n, err := text(m.targetAPI); err != nil {
		return f, err
	} else if v, err := strconv.Atoi(n); err == nil {
		f.TargetAPI = v
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
