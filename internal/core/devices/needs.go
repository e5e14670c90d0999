package devices

import (
	"fmt"
	"slices"
	"strings"

	"tessellant/internal/core/versions"
)

// Needs is what an app needs of a device.
type Needs struct {
	Platform string   `json:"platform"`
	MinAPI   int      `json:"min_api,omitempty"`
	MinCode  string   `json:"min_code,omitempty"` // the codename of an unreleased system; "": none
	ABIs     []string `json:"abis,omitempty"`     // processor kinds that it has code for; none: it has none of its own
	// Features are those of the system that it can't do without, such as android.hardware.nfc.
	Features  []string `json:"features,omitempty"`
	NoScreens []string `json:"no_screens,omitempty"` // sizes of screens that it is not made for: small, normal, large, xlarge

	// Of an iOS build: the lowest system, the forms of devices, the only devices that its profile lets install it (by their unique identifiers; none: all
	// may), and that it was built for the simulator.
	MinOS     string   `json:"min_os,omitempty"`
	Forms     []string `json:"forms,omitempty"`
	UDIDs     []string `json:"udids,omitempty"`
	Simulator bool     `json:"simulator,omitempty"`
}

// Screen is the size of a screen in Android's words: by its smaller side in dp. Source: the guide "Screen compatibility overview"; small is up to
// 319, normal up to 479, large up to 719.
func (f Facts) Screen() string {
	switch dp := min(f.WidthDP(), f.HeightDP()); {
	case dp < 320:
		return "small"
	case dp < 480:
		return "normal"
	case dp < 720:
		return "large"
	}
	return "xlarge"
}

// Runs says whether a device runs what is made for a platform.
func (f Facts) Runs(platform string) bool {
	return platform == f.Platform || platform == Web && f.Pages
}

// Unmet says what a device lacks for an app, and what to do; "": nothing.
func (n Needs) Unmet(f Facts) (what, remedy string) {
	switch {
	case n.Platform == Web && !f.Runs(Web):
		return "the build is a page, and the device has no browser that can be driven", "choose devices with --where platform=web, or of a lab whose file says how pages are opened (docs/labs.md)"
	case n.Platform != "" && !f.Runs(n.Platform):
		return fmt.Sprintf("the build is for %s, the device runs %s", Platforms[n.Platform], Platforms[f.Platform]), "choose a build for " + Platforms[f.Platform] + ", or add one with --other-build"
	case f.API < n.MinAPI && n.MinCode != "":
		return fmt.Sprintf("the build needs the unreleased system %s, the device has %s (API %d)", n.MinCode, f.System(), f.API), "build with a minSdkVersion that is a released API level"
	case f.API < n.MinAPI:
		return fmt.Sprintf("the build needs API level %d, the device has %d (%s)", n.MinAPI, f.API, f.System()), fmt.Sprintf("lower minSdkVersion, or add --where 'api>=%d'", n.MinAPI)
	case len(n.ABIs) > 0 && !slices.ContainsFunc(n.ABIs, func(x string) bool { return slices.Contains(f.ABIs, x) }):
		return fmt.Sprintf("the build has code for %s, the device runs %s", strings.Join(n.ABIs, ", "), strings.Join(f.ABIs, ", ")), "build for the device's processor kind too"
	case slices.Contains(n.NoScreens, f.Screen()):
		return fmt.Sprintf("the build is not made for %s screens (supports-screens), the device has %d×%d dp", f.Screen(), f.WidthDP(), f.HeightDP()), "add " + f.Screen() + "Screens to supports-screens, or choose other devices"
	}
	if n.Platform == "ios" {
		return n.unmetIOS(f)
	}
	for _, x := range n.Features {
		if slices.Contains(f.Without, x) {
			return fmt.Sprintf("the build can't do without %s (uses-feature), which the device does not have", x), `write android:required="false" if the app works without it, or choose other devices`
		}
	}
	return "", ""
}

func (n Needs) unmetIOS(f Facts) (what, remedy string) {
	older, known := versions.Compare(f.OS, n.MinOS)
	switch {
	case n.Simulator:
		return "the build was made for the simulator: no device installs it", "build it for devices and export an IPA"
	case n.MinOS != "" && known && older < 0:
		return fmt.Sprintf("the build needs iOS %s, the device has %s", n.MinOS, f.OS), fmt.Sprintf("lower the deployment target, or add --where 'os>=%s'", n.MinOS)
	case len(n.Forms) > 0 && !slices.Contains(n.Forms, f.Form) && !(f.Form == "tablet" && slices.Contains(n.Forms, "phone")): // tablets run what is made for phones
		return fmt.Sprintf("the build is made for a %s, the device is a %s", strings.Join(n.Forms, " or a "), f.Form), "add the family to UIDeviceFamily, or choose other devices"
	case len(n.UDIDs) > 0 && f.UDID != "" && !slices.ContainsFunc(n.UDIDs, func(x string) bool { return strings.EqualFold(x, f.UDID) }):
		return "the device is not in the build's provisioning profile (its identifier is " + f.UDID + ")", "register the device, renew the profile and export the app again; or choose other devices"
	}
	return "", ""
}
