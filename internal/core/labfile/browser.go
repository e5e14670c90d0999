package labfile

// Chromium on the host's own machine, in the sizes of phones: a lab of which only the sizes and the servers are said. The rest is what chromedriver takes, written here
// as a lab file would have it.

import (
	"fmt"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/devices"
)

// chromium is such a lab.
const chromium = `
session:
  capabilities:
    alwaysMatch:
      browserName: chrome
      pageLoadStrategy: normal
      goog:chromeOptions:
        args:
          - --headless=new
          - --hide-scrollbars
          - --no-first-run
          - --disable-background-networking
          - --disable-component-update
          - --disable-default-apps
          - --disable-dev-shm-usage
          - --disable-sync
          - --mute-audio
          - --lang={{.Language}}
          - --accept-lang={{.Language}}
          - '{{if eq .Dark "on"}}--blink-settings=preferredColorScheme=0{{end}}'
          - "{{with .Own.proxy}}--proxy-server={{.}}{{end}}"
          - "{{with .Own.proxy}}--proxy-bypass-list=<-loopback>{{end}}"
          - "{{with .Own.proxy}}--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1{{end}}"
          - --force-webrtc-ip-handling-policy=disable_non_proxied_udp
          - --disable-quic
          - "{{with .Own.box}}{{.}}{{end}}"
        mobileEmulation:
          deviceMetrics: {width: "{{.Screen.Width}}", height: "{{.Screen.Height}}", pixelRatio: "{{.Screen.Scale}}", touch: true, mobile: true}
          userAgent: Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/{{.Device.OS}} Mobile Safari/537.36
  within: 1m
`

// usualSizes are the browsers of a lab that lists none: a narrow phone, a usual one, a tablet. Width and height are those of the page; the density makes the pixels.
var usualSizes = []catalogue.Device{
	{ID: "chromium-320", Form: "phone", Width: 640, Height: 1136, Density: 320},
	{ID: "chromium-412", Form: "phone", Width: 1030, Height: 2290, Density: 400},
	{ID: "chromium-800", Form: "tablet", Width: 1600, Height: 2560, Density: 320},
}

// browser reads a lab of that kind.
func (r *reader) browser(l *Lab, n *yaml.Node, m nodes) {
	l.Origin = "emulated"
	l.Addresses = r.addresses(m["addresses"])
	l.AtOnce = r.number(m["at_once"], "at_once", 1, 100)
	if l.AtOnce == 0 {
		l.AtOnce = 2
	}
	if m["devices"] != nil {
		r.browsers = true
		l.Devices = r.devices(m["devices"])
		r.browsers = false
	} else {
		for _, d := range usualSizes {
			l.Devices = append(l.Devices, asBrowser(d))
		}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(chromium), &doc); err != nil {
		panic(err) // the text above is ours
	}
	session := doc.Content[0].Content[1]
	l.Session = r.session(session)
	l.Session.Pages, l.Commands = l.Session.Capabilities, map[string]*Request{}
}

// asBrowser makes a browser of a size.
func asBrowser(d catalogue.Device) catalogue.Device {
	d.Platform, d.Maker = devices.Web, "Chromium"
	if d.OS == "" {
		d.OS = "?" // until it is started
	}
	if d.Model == "" && d.Density > 0 {
		d.Model = fmt.Sprintf("%d × %d", d.Width*160/d.Density, d.Height*160/d.Density)
	}
	if d.Form == "" && d.Density > 0 && min(d.Width, d.Height)*160/d.Density >= 600 {
		d.Form = "tablet"
	}
	return d
}
