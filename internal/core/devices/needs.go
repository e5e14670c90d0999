package devices

import (
	"fmt"
	"slices"
	"strings"
)

// Needs is what an app needs of a device.
type Needs struct {
	Platform string   `json:"platform"`
	MinAPI   int      `json:"min_api,omitempty"`
	MinCode  string   `json:"min_code,omitempty"` // the codename of an unreleased system; "": none
	ABIs     []string `json:"abis,omitempty"`     // processor kinds that it has code for; none: it has none of its own
}

// Unmet says what a device lacks for an app, and what to do; "": nothing.
func (n Needs) Unmet(f Facts) (what, remedy string) {
	switch {
	case n.Platform != f.Platform:
		return fmt.Sprintf("the build is for %s, the device runs %s", n.Platform, f.Platform), "choose a build for " + f.Platform
	case f.API < n.MinAPI && n.MinCode != "":
		return fmt.Sprintf("the build needs the unreleased system %s, the device has Android %s (API %d)", n.MinCode, f.OS, f.API), "build with a minSdkVersion that is a released API level"
	case f.API < n.MinAPI:
		return fmt.Sprintf("the build needs API level %d, the device has %d (Android %s)", n.MinAPI, f.API, f.OS), fmt.Sprintf("lower minSdkVersion, or add --where 'api>=%d'", n.MinAPI)
	case len(n.ABIs) > 0 && !slices.ContainsFunc(n.ABIs, func(x string) bool { return slices.Contains(f.ABIs, x) }):
		return fmt.Sprintf("the build has code for %s, the device runs %s", strings.Join(n.ABIs, ", "), strings.Join(f.ABIs, ", ")), "build for the device's processor kind too"
	}
	return "", ""
}
