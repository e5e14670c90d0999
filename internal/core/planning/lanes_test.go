package planning

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
)

// browser is a device that runs pages; lent is a phone that does, too.
func otherDevices() (browser, iphone, phone Device) {
	browser = Device{ID: "b", Facts: devices.Facts{Serial: "b", Platform: "web", OS: "150", Width: 640, Height: 1136, Density: 320}, Free: true}
	iphone = Device{ID: "i", Facts: devices.Facts{Serial: "i", Platform: "ios", OS: "17.4", Form: "phone", Width: 780, Height: 1688, Density: 320}, Free: true}
	phone = dev("p", 34, "arm64-v8a")
	phone.Facts.Pages = true
	return browser, iphone, phone
}

func TestDevicesOfOtherPlatformsAreLeftOutInOneSentence(t *testing.T) {
	browser, iphone, phone := otherDevices()
	all := []Device{browser, iphone, phone, dev("q", 34, "arm64-v8a")}
	p := Make(Request{App: app, Cases: named("a"), Targets: []Target{{}}, Devices: all})
	assert.Equal(t, "p/:1 q/:1", shown(p))
	assert.Contains(t, said(p), "notes   2 devices of other platforms match, too, and are left out")
	assert.NotContains(t, said(p), "blocks")
	// One that was named, or when nothing else is there, is told with its reason.
	p = Make(Request{App: app, Cases: named("a"), Targets: []Target{{Filter: devices.Filter{Units: []string{"b", "q"}}}}, Devices: all})
	assert.Contains(t, said(p), "blocks b  the build is for Android, the device runs Chromium")
	p = Make(Request{App: app, Cases: named("a"), Targets: []Target{{}}, Devices: []Device{iphone}})
	assert.Contains(t, said(p), "blocks i  the build is for Android, the device runs iOS")
}

func TestAPageRunsInBrowsersAndOnPhonesWhoseBrowserCanBeDriven(t *testing.T) {
	browser, iphone, phone := otherDevices()
	page := appfile.Facts{Platform: "web", Page: "https://tides.example"}
	p := Make(Request{App: page, Cases: named("a"), Targets: []Target{{}}, Devices: []Device{browser, iphone, phone}})
	assert.Equal(t, "b/:1 p/:1", shown(p))
	p = Make(Request{App: page, Cases: named("a"), Targets: []Target{{}}, Devices: []Device{iphone}})
	assert.Contains(t, said(p), "the build is a page, and the device has no browser that can be driven")
	// Beside a build for phones, each device gets its own.
	p = Make(Request{App: app, Others: []appfile.Facts{page}, Cases: named("a"), Targets: []Target{{}}, Devices: []Device{browser, phone}})
	assert.Equal(t, "b/:1 p/:1", shown(p))
}

func TestADeviceThatHasToBeStartedTakesItsTime(t *testing.T) {
	there, started := dev("a", 34, "arm64-v8a"), dev("b", 34, "arm64-v8a")
	started.Facts.Startable, started.Lab = true, "h/adb-started"
	q := Request{App: app, Cases: named("x"), Targets: []Target{{}}, Labs: map[string]Lab{"h/adb-started": {Name: "adb-started", AtOnce: 1, Start: 10 * time.Minute}}, Devices: []Device{there}}
	without := Make(q).Forecast.Whole
	q.Devices = []Device{started}
	with := Make(q).Forecast.Whole
	for i, pair := range [][2]time.Duration{{without.Low, with.Low}, {without.Likely, with.Likely}, {without.High, with.High}} {
		assert.InDelta(t, (10 * time.Minute).Seconds(), (pair[1] - pair[0]).Seconds(), 60, i)
	}
}
