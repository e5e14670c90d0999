// Package appfile reads the facts of an app build out of its file.
//
// It reads an APK where it lies: the zip directory, the binary manifest and
// the resource table; of an IPA (ipa.go) the property list and the provisioning profile; never the whole file. Every byte read and every
// string decoded is paid for from a work budget, so that a crafted file costs
// no more than an honest one. In: an io.ReaderAt. Out: Facts, or a *Refusal
// that says what is wrong with the file.
//
// A page in place of an app is a small file, too (page.go).
//
// Formats: APPNOTE.TXT 6.3.9 (zip); ResourceTypes.h of the Android Open Source
// Project (binary XML, resource table); for iOS see ipa.go, profile.go and codesign.go.
package appfile

import (
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"

	"tessellant/internal/core/foreign"
)

// Facts is what a build says about itself.
type Facts struct {
	Platform    string   `json:"platform"` // android, ios, or web: a page
	AppID       string   `json:"app_id"`   // the package name, such as org.example.app; of a page its server
	Label       string   `json:"label"`    // in the default language
	VersionName string   `json:"version_name"`
	VersionCode int64    `json:"version_code"`         // with versionCodeMajor in the upper 32 bits
	MinAPI      int      `json:"min_api"`              // lowest Android API level; 1 when the manifest says none
	TargetAPI   int      `json:"target_api"`           // the lowest one when the manifest says none
	Permissions []string `json:"permissions"`          // as in the manifest, in its order, each once
	Features    []string `json:"features,omitempty"`   // of the system that it can't do without, such as android.hardware.nfc
	NoScreens   []string `json:"no_screens,omitempty"` // sizes of screens that it is not made for: small, normal, large, xlarge
	ABIs        []string `json:"abis"`                 // processor kinds with native code; none: runs on all
	Activity    string   `json:"activity"`             // the one a launcher starts
	IconPath    string   `json:"icon_path"`            // inside the file: the densest one that is a picture
	Debuggable  bool     `json:"debuggable"`
	TestOnly    bool     `json:"test_only"`
	// MinCode and TargetCode are the code names of systems that are not released, where the manifest names such; the level is Preview then.
	MinCode    string    `json:"min_code,omitempty"`
	TargetCode string    `json:"target_code,omitempty"`
	IOS        *IOS      `json:"ios,omitempty"`  // nil: it is no iOS build
	Page       string    `json:"page,omitempty"` // the address of a page that stands in place of a build
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

// Read reads the facts of the build of size bytes behind r.
func Read(r io.ReaderAt, size int64) (Facts, error) {
	f, err := Open(r, size)
	if err != nil {
		return Facts{}, err
	}
	return f.Facts()
}

// Examine is Facts, with what is found where the contents are held against the signature: it reads all of them.
func (f *File) Examine() (Facts, error) {
	facts, err := f.Facts()
	if err != nil {
		return facts, err
	}
	switch {
	case facts.IOS != nil:
		f.examineIOS(&facts)
		return facts, nil
	case f.page != nil:
		return facts, nil
	}
	found, err := f.Whole()
	if found != nil {
		facts.Findings = append(facts.Findings, *found)
	}
	return facts, err
}

// Facts reads the build's facts.
func (f *File) Facts() (Facts, error) {
	var none Facts
	if f.page != nil {
		return f.page.facts(), nil
	}
	manifest := f.named["AndroidManifest.xml"]
	if manifest == nil {
		switch {
		case f.bundle() != "":
			return f.iosFacts()
		case f.named["BundleConfig.pb"] != nil:
			return none, refuse("make an APK from it", "this is an app bundle (AAB), which a device can't install")
		default:
			return none, refuse("upload the APK or the IPA itself, not an archive of something else", "the zip file has no AndroidManifest.xml at its root and no app below Payload/, so it is neither an APK nor an IPA")
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
	if packed := f.named["resources.arsc"]; packed != nil {
		raw, err := unpack(packed, maxTable)
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
	facts.ABIs = f.abis()
	facts.Findings, err = f.findings(m, table)
	return facts, err
}

// appIDForm is what the system takes for an app's id (android.content.pm.parsing: validateName).
var appIDForm = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*(\.[A-Za-z][A-Za-z0-9_]*)+$`)
})

// findings says what will go wrong with a build that can be read.
func (f *File) findings(m *manifest, t *resources) (out []Finding, err error) {
	if m.split != "" {
		out = append(out, Finding{"warns", fmt.Sprintf("it is the split %.100q of an app, and not the whole app", m.split), "upload a universal APK: a split can't be installed alone"})
	}
	if needs, err := t.flag(m.needsSplits); err != nil {
		return nil, refuse(rebuild, "the build's facts can't be read: %v", err)
	} else if needs {
		out = append(out, Finding{"warns", "it needs other splits of the app beside it", "upload a universal APK: devices refuse this one alone"})
	}
	if signed, err := f.signed(); err != nil {
		return nil, err
	} else if !signed {
		out = append(out, Finding{"warns", "it is not signed", "sign it: devices refuse an app without a signature"})
	}
	return out, nil
}

func (f *File) abis() []string {
	seen := map[string]bool{}
	for name := range f.named {
		if dir, file, ok := strings.Cut(strings.TrimPrefix(name, "lib/"), "/"); ok && strings.HasPrefix(name, "lib/") && strings.HasSuffix(file, ".so") {
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
	unless := func(v value) (bool, error) { // true where nothing is said
		if v == (value{}) {
			return true, nil
		}
		return t.flag(v)
	}
	for _, x := range m.features {
		required, err := unless(x.required)
		if err != nil {
			return f, err
		}
		if required && !slices.Contains(f.Features, x.name) {
			f.Features = append(f.Features, x.name)
		}
	}
	for i, v := range m.screens {
		made, err := unless(v)
		if err != nil {
			return f, err
		}
		if !made {
			f.NoScreens = append(f.NoScreens, screens[i].name)
		}
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
func clip(s string) string { return foreign.Name(s, 80) }

// budget is how much work reading one file may still cost.
type budget struct{ left int }

var errTooMuchWork = errors.New("reading it takes more work than any honest file does")

func (b *budget) spend(n int) error {
	if b.left -= n + 1; b.left < 0 {
		return errTooMuchWork
	}
	return nil
}
