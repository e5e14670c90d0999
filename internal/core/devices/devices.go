// Package devices has the facts of a device, and the filters that select devices.
//
// Traits are the named facts that can explain a difference between two devices. A filter is a set of patterns over traits, or a set of
// serials (filter.go). Needs is what an app needs of a device; Standing says whether a device can get work, and why not. In: facts, the
// text of a filter. Out: traits, yes or no, and why not.
package devices

import (
	"fmt"
	"strconv"
	"strings"
)

// Facts is what a device says about itself.
type Facts struct {
	Serial    string   `json:"serial"`   // of the unit itself, not of its connection
	Platform  string   `json:"platform"` // android, ios, or web: a browser
	OS        string   `json:"os"`       // "14", "8.1"
	API       int      `json:"api"`      // Android's API level
	Maker     string   `json:"maker"`
	Model     string   `json:"model"`
	Form      string   `json:"form"`      // "phone" or "tablet"
	Origin    string   `json:"origin"`    // "real", "emulated" or "cloud"
	Simulated bool     `json:"simulated"` // one of the stand-ins that ship with Tessellant
	Width     int      `json:"width"`     // of the screen in pixels, upright
	Height    int      `json:"height"`
	Density   int      `json:"density"` // dots per inch
	MemoryMB  int      `json:"memory_mb"`
	ABIs      []string `json:"abis"` // processor kinds, the preferred first
	Language  string   `json:"language"`
	UDID      string   `json:"udid,omitempty"`   // of an iOS device: by which provisioning profiles list it
	Place     string   `json:"place,omitempty"`  // where its lab stands
	Ways      []string `json:"ways,omitempty"`   // by which it is connected, where there are several: the one in use first
	Limits    []string `json:"limits,omitempty"` // what its maker does not let us do, and what is done instead

	Lent bool     `json:"lent,omitempty"` // a lab of somebody else lends it for each piece of work
	Sets []string `json:"sets,omitempty"` // the conditions that such a lab can set it to
	// Startable says that it is started when it is wanted: it need not be up now.
	Startable bool `json:"startable,omitempty"`
	// Pages says that pages can be tested in the phone's browser. A device of the platform web is one.
	Pages bool `json:"pages,omitempty"`

	Without []string          `json:"without,omitempty"` // features that many devices have, and this one has not: of Usual
	Labels  map[string]string `json:"labels,omitempty"`  // that people gave it; its host knows nothing of them
}

// Usual are the features of Android that most phones have and some apps can't do without. What a device has besides is not looked at.
var Usual = []string{"android.hardware.bluetooth", "android.hardware.bluetooth_le", "android.hardware.camera", "android.hardware.camera.any", "android.hardware.camera.autofocus", "android.hardware.camera.flash",
	"android.hardware.camera.front", "android.hardware.fingerprint", "android.hardware.location", "android.hardware.location.gps", "android.hardware.location.network", "android.hardware.microphone", "android.hardware.nfc",
	"android.hardware.nfc.hce", "android.hardware.sensor.accelerometer", "android.hardware.sensor.barometer", "android.hardware.sensor.compass", "android.hardware.sensor.gyroscope", "android.hardware.sensor.light",
	"android.hardware.sensor.proximity", "android.hardware.sensor.stepcounter", "android.hardware.telephony", "android.hardware.touchscreen", "android.hardware.touchscreen.multitouch", "android.hardware.usb.host",
	"android.hardware.wifi", "android.hardware.wifi.direct"}

// WidthDP is the width of the upright screen in density-independent pixels:
// pixels × 160 ÷ density.
func (f Facts) WidthDP() int {
	if f.Density <= 0 {
		return 0
	}
	return f.Width * 160 / f.Density
}

// HeightDP is its height.
func (f Facts) HeightDP() int {
	if f.Density <= 0 {
		return 0
	}
	return f.Height * 160 / f.Density
}

// Web is the platform of browsers, and of pages.
const Web = "web"

// Platforms are the platforms as people write them.
var Platforms = map[string]string{"android": "Android", "ios": "iOS", Web: "Chromium"}

// System is the device's system as people write it, such as Android 14.
func (f Facts) System() string {
	name := Platforms[f.Platform]
	if name == "" {
		name = f.Platform
	}
	return strings.TrimSpace(name + " " + f.OS)
}

// Names are the traits that a filter may ask for, in the order they are shown. Besides, there is one for each label: label:NAME.
var Names = []string{"serial", "platform", "os", "api", "maker", "model", "form", "origin", "simulated",
	"screen", "width", "density", "memory", "processor", "language", "place"}

// OfLabel stands before the name of a label where it is a trait.
const OfLabel = "label:"

// Trait gives the value of a trait of Names, or of a label; "": it has none. Width is in dp, memory in whole GB.
func (f Facts) Trait(name string) string {
	switch name {
	case "serial":
		return f.Serial
	case "platform":
		return f.Platform
	case "os":
		return f.OS
	case "api":
		if f.API == 0 { // no Android
			return ""
		}
		return strconv.Itoa(f.API)
	case "maker":
		return f.Maker
	case "model":
		return f.Model
	case "form":
		return f.Form
	case "origin":
		return f.Origin
	case "simulated":
		return strconv.FormatBool(f.Simulated)
	case "screen":
		return strconv.Itoa(f.Width) + "x" + strconv.Itoa(f.Height)
	case "width":
		return strconv.Itoa(f.WidthDP())
	case "density":
		return strconv.Itoa(f.Density)
	case "memory":
		return strconv.Itoa((f.MemoryMB + 512) / 1024)
	case "processor":
		if len(f.ABIs) == 0 {
			return ""
		}
		return f.ABIs[0]
	case "language":
		return f.Language
	case "place":
		return f.Place
	}
	return f.Labels[strings.TrimPrefix(name, OfLabel)]
}

// Traits gives each trait of Names its value, and each label.
func (f Facts) Traits() map[string]string {
	out := make(map[string]string, len(Names)+len(f.Labels))
	for _, n := range Names {
		out[n] = f.Trait(n)
	}
	for n, v := range f.Labels {
		out[OfLabel+n] = v
	}
	return out
}

// Kind is a text that units have in common that can stand in for each other: the same model with the same system and settings.
func (f Facts) Kind() string {
	return fmt.Sprintf("%s|%s|%s|%s|%d|%s|%s|%dx%d|%d|%s|%d", f.Platform, f.Maker, f.Model, f.OS, f.API, f.Form, f.Origin, f.Width, f.Height, f.Density, f.Language, f.MemoryMB)
}

// Like says whether two units can stand in for each other: the same model with the same system and settings.
func (f Facts) Like(o Facts) bool {
	return f.Platform == o.Platform && f.Maker == o.Maker && f.Model == o.Model && f.OS == o.OS && f.API == o.API && f.Form == o.Form && f.Origin == o.Origin &&
		f.Width == o.Width && f.Height == o.Height && f.Density == o.Density && f.Language == o.Language && f.MemoryMB == o.MemoryMB
}
