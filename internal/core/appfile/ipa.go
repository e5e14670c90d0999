package appfile

// An iOS app: an IPA, a zip file with one bundle below Payload/.
//
// Apple's developer documentation: "Bundle Programming Guide", "Information Property List"; property lists as text or binary (plist(5)).

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"howett.net/plist"

	"tessellant/internal/core/foreign"
)

// IOS is what only an iOS build says about itself.
type IOS struct {
	MinOS     string   `json:"min_os"`   // the lowest system
	Families  []string `json:"families"` // phone, tablet
	Version   string   `json:"version"`  // CFBundleVersion, as it stands there
	Simulator bool     `json:"simulator,omitempty"`
	Profile   *Profile `json:"profile,omitempty"` // that is packed with it; nil: none
	Signer    *Signer  `json:"signer,omitempty"`  // whose certificate its code is signed with; nil: it is not signed, or can't be read

	executable string
}

// Kinds of provisioning profiles: whom they let install the app.
const (
	Development = "development" // the devices that it lists, for debugging
	AdHoc       = "ad hoc"      // the devices that it lists
	Enterprise  = "enterprise"  // every device
	Store       = "store"       // none: the store signs the app anew
)

// Profile is a provisioning profile.
type Profile struct {
	Name         string    `json:"name"`
	Team         string    `json:"team"`
	Kind         string    `json:"kind"`
	Expires      time.Time `json:"expires"`
	Devices      []string  `json:"devices,omitempty"`      // by their unique device identifiers
	Entitlements []string  `json:"entitlements,omitempty"` // the names of some that tests mind
}

// Signer is whose certificate signs the code.
type Signer struct {
	Name    string    `json:"name"` // the certificate's common name
	Expires time.Time `json:"expires"`
}

const (
	maxPlist    = 1 << 20
	maxProfile  = 4 << 20
	maxUDIDs    = 2000
	maxFamilies = 10
	rebuildIOS  = "export the app again from its archive and upload the IPA"
)

// info is what is read of Info.plist. Only what has a type here is looked at.
type info struct {
	ID           string   `plist:"CFBundleIdentifier"`
	Name         string   `plist:"CFBundleName"`
	DisplayName  string   `plist:"CFBundleDisplayName"`
	Version      string   `plist:"CFBundleVersion"`
	Short        string   `plist:"CFBundleShortVersionString"`
	Executable   string   `plist:"CFBundleExecutable"`
	MinOS        string   `plist:"MinimumOSVersion"`
	Families     []int    `plist:"UIDeviceFamily"`
	Platforms    []string `plist:"CFBundleSupportedPlatforms"`
	PlatformName string   `plist:"DTPlatformName"`
	IconFiles    []string `plist:"CFBundleIconFiles"`
	Icons        icons    `plist:"CFBundleIcons"`
	IconsPad     icons    `plist:"CFBundleIcons~ipad"`

	Camera    string `plist:"NSCameraUsageDescription"`
	Location  string `plist:"NSLocationWhenInUseUsageDescription"`
	Always    string `plist:"NSLocationAlwaysAndWhenInUseUsageDescription"`
	Mic       string `plist:"NSMicrophoneUsageDescription"`
	Photos    string `plist:"NSPhotoLibraryUsageDescription"`
	AddPhotos string `plist:"NSPhotoLibraryAddUsageDescription"`
	Contacts  string `plist:"NSContactsUsageDescription"`
	Calendars string `plist:"NSCalendarsUsageDescription"`
	Bluetooth string `plist:"NSBluetoothAlwaysUsageDescription"`
	Motion    string `plist:"NSMotionUsageDescription"`
	FaceID    string `plist:"NSFaceIDUsageDescription"`
	Tracking  string `plist:"NSUserTrackingUsageDescription"`
	LocalNet  string `plist:"NSLocalNetworkUsageDescription"`
	Speech    string `plist:"NSSpeechRecognitionUsageDescription"`
}

type icons struct {
	Primary struct {
		Files []string `plist:"CFBundleIconFiles"`
	} `plist:"CFBundlePrimaryIcon"`
}

// asks are the keys of what the app asks its user for.
func (i *info) asks() (out []string) {
	for _, x := range []struct{ why, key string }{{i.Camera, "NSCameraUsageDescription"}, {i.Location, "NSLocationWhenInUseUsageDescription"}, {i.Always, "NSLocationAlwaysAndWhenInUseUsageDescription"},
		{i.Mic, "NSMicrophoneUsageDescription"}, {i.Photos, "NSPhotoLibraryUsageDescription"}, {i.AddPhotos, "NSPhotoLibraryAddUsageDescription"}, {i.Contacts, "NSContactsUsageDescription"},
		{i.Calendars, "NSCalendarsUsageDescription"}, {i.Bluetooth, "NSBluetoothAlwaysUsageDescription"}, {i.Motion, "NSMotionUsageDescription"}, {i.FaceID, "NSFaceIDUsageDescription"},
		{i.Tracking, "NSUserTrackingUsageDescription"}, {i.LocalNet, "NSLocalNetworkUsageDescription"}, {i.Speech, "NSSpeechRecognitionUsageDescription"}} {
		if x.why != "" {
			out = append(out, x.key)
		}
	}
	return out
}

// bundle is the folder of the app inside of the IPA, with a slash at its end; "": this is no IPA.
func (f *File) bundle() string {
	if f.app != nil {
		return *f.app
	}
	found := ""
	for _, z := range f.all {
		rest, ok := strings.CutPrefix(z.Name, "Payload/")
		if dir, file, deep := strings.Cut(rest, "/"); ok && deep && strings.HasSuffix(dir, ".app") && file == "Info.plist" {
			if next := "Payload/" + dir + "/"; found == "" || next < found {
				found = next
			}
		}
	}
	f.app = &found
	return found
}

// property decodes a property list into a struct of types. Lists in lists, deeper than any honest file has them, are refused before they are read.
func property(raw []byte, to any) error {
	if len(raw) > maxPlist {
		return fmt.Errorf("it has more than %d kB", maxPlist>>10)
	}
	if !bytes.HasPrefix(raw, []byte("bplist")) && nested(raw) {
		return errors.New("its values lie too deep in each other")
	}
	if bytes.HasPrefix(raw, []byte("bplist")) {
		if err := deepBinary(raw); err != nil {
			return err
		}
	}
	_, err := plist.Unmarshal(raw, to)
	return err
}

const maxNested = 64

// nested says whether the containers of a text property list lie too deep in each other, whichever of its notations it is written in.
func nested(raw []byte) bool {
	depth := 0
	for i, c := range raw {
		switch c {
		case '{', '(':
			depth++
		case '}', ')':
			depth--
		case '<':
			rest := raw[i+1:]
			switch {
			case bytes.HasPrefix(rest, []byte("array")), bytes.HasPrefix(rest, []byte("dict")):
				depth++
			case bytes.HasPrefix(rest, []byte("/array")), bytes.HasPrefix(rest, []byte("/dict")):
				depth--
			}
		}
		if depth > maxNested {
			return true
		}
	}
	return false
}

// deepBinary refuses a binary property list whose containers lie too deep in each other, or lead to each other so often that reading it takes long.
// The format: CFBinaryPList.c of Apple's CoreFoundation (offset table, trailer of 32 bytes).
func deepBinary(raw []byte) error {
	const trailer = 32
	bad := errors.New("its table of values can't be read")
	if len(raw) < 8+trailer {
		return bad
	}
	t := raw[len(raw)-trailer:]
	offsetSize, refSize := int(t[6]), int(t[7])
	count, top, table := binary.BigEndian.Uint64(t[8:]), binary.BigEndian.Uint64(t[16:]), binary.BigEndian.Uint64(t[24:])
	end := uint64(len(raw) - trailer)
	if offsetSize < 1 || offsetSize > 8 || refSize < 1 || refSize > 8 || count > end || top >= count || table > end || count*uint64(offsetSize) > end-table {
		return bad
	}
	number := func(at uint64, size int) (n uint64, ok bool) {
		if at > uint64(len(raw)) || uint64(size) > uint64(len(raw))-at {
			return 0, false
		}
		for _, b := range raw[at : at+uint64(size)] {
			n = n<<8 | uint64(b)
		}
		return n, true
	}
	work := 0
	var walk func(object uint64, depth int) error
	walk = func(object uint64, depth int) error {
		if work++; work > 100_000 || depth > maxNested {
			return errors.New("its values lie too deep in each other, or lead to each other too often")
		}
		at, ok := number(table+object*uint64(offsetSize), offsetSize)
		if !ok || object >= count || at >= end {
			return bad
		}
		kind, n := raw[at]>>4, uint64(raw[at]&0xf)
		if kind != 0xa && kind != 0xc && kind != 0xd {
			return nil
		}
		at++
		if n == 0xf {
			if at >= end || raw[at]>>4 != 1 {
				return bad
			}
			size := 1 << (raw[at] & 0xf)
			if size > 8 {
				return bad
			}
			if n, ok = number(at+1, size); !ok {
				return bad
			}
			at += 1 + uint64(size)
		}
		if kind == 0xd {
			if n > end {
				return bad
			}
			n *= 2
		}
		if n > end || n*uint64(refSize) > end-min(at, end) {
			return bad
		}
		for i := range n {
			ref, ok := number(at+i*uint64(refSize), refSize)
			if !ok {
				return bad
			}
			if err := walk(ref, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	return walk(top, 0)
}

// iosIDForm is what the system takes for a bundle's identifier (CFBundleIdentifier: letters, digits, hyphens and dots).
var iosIDForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*$`) })

// iosFacts reads the facts of an IPA.
func (f *File) iosFacts() (Facts, error) {
	var none Facts
	app := f.bundle()
	raw, err := unpack(f.named[app+"Info.plist"], maxPlist)
	if err != nil {
		return none, err
	}
	var i info
	if err := property(raw, &i); err != nil {
		return none, refuse(rebuildIOS, "Info.plist can't be read: %s", foreign.Name(err.Error(), 200))
	}
	switch {
	case i.ID == "":
		return none, refuse(rebuildIOS, "Info.plist names no bundle identifier (CFBundleIdentifier)")
	case len(i.ID) > maxAppID || !iosIDForm().MatchString(i.ID):
		return none, refuse("give the app an identifier of letters, digits and hyphens with dots between, such as org.example.app", "the system takes no app with the identifier %.100q", i.ID)
	case len(i.Short) > maxVersion || len(i.Version) > maxVersion:
		return none, refuse("shorten it", "the app's version has more than %d bytes", maxVersion)
	}
	label := i.DisplayName
	if label == "" {
		label = i.Name
	}
	if label == "" {
		label = i.ID
	}
	name := i.Short
	if name == "" {
		name = i.Version
	}
	facts := Facts{Platform: "ios", AppID: i.ID, Label: foreign.Name(label, maxText), VersionName: foreign.Name(name, maxVersion), VersionCode: iosCode(i.Version), Permissions: i.asks(),
		IOS: &IOS{MinOS: foreign.Name(i.MinOS, 40), Version: foreign.Name(i.Version, maxVersion), executable: i.Executable}}
	for _, n := range i.Families[:min(len(i.Families), maxFamilies)] {
		if family := map[int]string{1: "phone", 2: "tablet"}[n]; family != "" && !slices.Contains(facts.IOS.Families, family) {
			facts.IOS.Families = append(facts.IOS.Families, family)
		}
	}
	facts.IOS.Simulator = strings.EqualFold(i.PlatformName, "iphonesimulator") || slices.ContainsFunc(i.Platforms, func(p string) bool { return strings.EqualFold(p, "iPhoneSimulator") })
	facts.IconPath = f.iosIcon(app, slices.Concat(i.Icons.Primary.Files, i.IconsPad.Primary.Files, i.IconFiles))
	if packed := f.named[app+"embedded.mobileprovision"]; packed != nil {
		raw, err := unpack(packed, maxProfile)
		if err != nil {
			return none, err
		}
		if facts.IOS.Profile, err = readProfile(raw); err != nil {
			facts.Findings = append(facts.Findings, Finding{"warns", "its provisioning profile can't be read: " + foreign.Name(err.Error(), 200), rebuildIOS})
		}
	}
	facts.Findings = append(facts.Findings, f.iosFindings(facts.IOS, app)...)
	return facts, nil
}

// iosFindings says what will go wrong with a build that can be read.
func (f *File) iosFindings(x *IOS, app string) (out []Finding) {
	warn := func(what, remedy string) { out = append(out, Finding{"warns", what, remedy}) }
	switch p := x.Profile; {
	case x.Simulator:
		warn("it was built for the simulator: no device installs it", "build it for a generic iOS device and export an IPA")
	case f.named[app+"_CodeSignature/CodeResources"] == nil:
		warn("it is not signed", "sign it with a development or an ad hoc profile: devices refuse an app without a signature")
	case p == nil:
		warn("it has no provisioning profile", "export it with a development, an ad hoc or an enterprise profile; an app of the store can't be installed from a file")
	case p.Kind == Store:
		warn("it is signed for the store: devices install such an app from the store alone", "export it with a development, an ad hoc or an enterprise profile")
	case len(p.Devices) == 0 && (p.Kind == AdHoc || p.Kind == Development):
		warn("its provisioning profile lists no device", "register the devices and export it again")
	}
	return out
}

// iosCode makes a number that grows with the version out of CFBundleVersion: that number itself where it is one, else its parts, four digits for each.
func iosCode(version string) int64 {
	if n, err := strconv.ParseInt(version, 10, 64); err == nil && n >= 0 {
		return n
	}
	var code int64
	parts := strings.SplitN(version, ".", 4)
	for i := range 3 {
		var n int64
		if i < len(parts) {
			n, _ = strconv.ParseInt(strings.TrimRight(parts[i], "abcdefghijklmnopqrstuvwxyz"), 10, 32)
		}
		code = code*10_000 + min(max(n, 0), 9999)
	}
	return code
}

// iosIcon finds the largest picture of the names that Info.plist gives: a name stands for all files that begin with it.
func (f *File) iosIcon(app string, names []string) (best string) {
	size := uint64(0)
	for _, z := range f.all {
		file, ok := strings.CutPrefix(z.Name, app)
		if !ok || strings.Contains(file, "/") || path.Ext(file) != ".png" || z.UncompressedSize64 > maxIcon {
			continue
		}
		if slices.ContainsFunc(names[:min(len(names), 50)], func(n string) bool { return n != "" && strings.HasPrefix(file, strings.TrimSuffix(n, ".png")) }) && z.UncompressedSize64 > size {
			best, size = z.Name, z.UncompressedSize64
		}
	}
	return best
}

// soon is how long before its end a profile or a certificate is told of.
const soon = 14 * 24 * time.Hour

// examineIOS finds whose certificate the code is signed with.
func (f *File) examineIOS(facts *Facts) {
	x := facts.IOS
	if x.Simulator || f.named[f.bundle()+"_CodeSignature/CodeResources"] == nil {
		return
	}
	var err error
	if x.Signer, err = f.signer(x.executable); err != nil {
		facts.Findings = append(facts.Findings, Finding{"notes", "whose certificate its code is signed with can't be read: " + foreign.Name(err.Error(), 200), "see whether it installs"})
	}
}

// Outdated says what of an iOS build has run out by now, or soon will.
func (x *IOS) Outdated(now time.Time) (out []Finding) {
	say := func(what string, until time.Time, remedy string) {
		switch day := until.Format(time.DateOnly); {
		case until.IsZero():
		case !now.Before(until):
			out = append(out, Finding{"warns", what + " has run out on " + day + ": devices refuse the app", remedy})
		case until.Sub(now) < soon:
			out = append(out, Finding{"notes", what + " runs out on " + day, remedy})
		}
	}
	if x.Profile != nil {
		say("its provisioning profile", x.Profile.Expires, "renew the profile and export the app again")
	}
	if x.Signer != nil {
		say("the certificate that it is signed with", x.Signer.Expires, "renew the certificate, sign and export the app again")
	}
	return out
}
