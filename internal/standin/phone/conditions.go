package phone

// How the phone is set: its apps' languages, time zone, location, display size, switches. The answers are those of the services of the
// Android Open Source Project, from the level on at which each came.

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"tessellant/internal/standin/paint"
)

// set is how it is set, besides what stands in its settings.
type set struct {
	density   int               // that somebody chose; 0: its own
	languages map[string]string // of apps
	zone      string
	located   string // latitude,longitude of the test provider; "": there is none, or it has said nothing yet
	mocked    bool   // there is a test provider
	airplane  bool
	unplugged bool // it was told that it is
}

// system answers a cmd of a system service; false: this system has none of the name.
func (p *Phone) system(c *call) (code int, known bool) {
	if len(c.args) == 0 {
		return 0, false
	}
	s, ok := map[string]struct {
		least int
		do    func(*Phone, *call) int
	}{"uimode": {29, (*Phone).uimode}, "locale": {33, (*Phone).locale}, "alarm": {26, (*Phone).alarm}, "location": {30, (*Phone).location}, "connectivity": {30, (*Phone).connectivity},
		"bluetooth_manager": {33, (*Phone).bluetooth}}[c.args[0]]
	if !ok || p.traits.API < s.least {
		return 0, false
	}
	p.take(c.ctx, 60, 120)
	p.mu.Lock()
	defer p.mu.Unlock()
	c.args = c.args[1:]
	return s.do(p, c), true
}

func (c *call) is(words ...string) bool {
	return len(c.args) >= len(words) && slices.Equal(c.args[:len(words)], words)
}

// option gives what stands behind an option.
func (c *call) option(name string) string {
	if i := slices.Index(c.args, name); i >= 0 && i+1 < len(c.args) {
		return c.args[i+1]
	}
	return ""
}

func unknown(c *call) int {
	c.say("Unknown command: %s\n", strings.Join(c.args, " "))
	return 255
}

func (p *Phone) uimode(c *call) int {
	if !c.is("night") {
		return unknown(c)
	}
	if len(c.args) > 1 && !p.lies("night") {
		p.night = c.args[1] == "yes"
		p.adjusted()
	}
	c.say("Night mode: %s\n", map[bool]string{true: "yes", false: "no"}[p.night])
	return 0
}

// locale is of LocaleManagerService.
func (p *Phone) locale(c *call) int {
	if len(c.args) < 2 {
		return unknown(c)
	}
	id, user := c.args[1], c.option("--user")
	if p.apps[id] == nil {
		fmt.Fprintf(c.err, "Unknown package %s for userId %s\n", id, user)
		return 255
	}
	switch c.args[0] {
	case "get-app-locales":
		c.say("Locales for %s for user %s are [%s]\n", id, user, p.set.languages[id])
	case "set-app-locales":
		if p.set.languages == nil {
			p.set.languages = map[string]string{}
		}
		if !p.lies("locales") {
			p.set.languages[id] = c.option("--locales")
		}
	default:
		return unknown(c)
	}
	return 0
}

// speaks is the language of an app, under mu.
func (p *Phone) speaks(id string) string {
	language, _, _ := strings.Cut(p.set.languages[id], "-")
	if language == "" {
		return p.traits.Language
	}
	return language
}

func (p *Phone) alarm(c *call) int {
	if !c.is("set-timezone") || len(c.args) < 2 {
		return unknown(c)
	}
	if !zones.MatchString(c.args[1]) || strings.HasPrefix(c.args[1], "Nowhere/") { // as the time zone database has none of these
		return 255
	}
	if !p.lies("timezone") {
		p.set.zone = c.args[1]
	}
	return 0
}

var zones = regexp.MustCompile(`^[A-Z][A-Za-z_]+(/[A-Z][A-Za-z_+-]*\d*)*$`)

func (p *Phone) location(c *call) int {
	switch {
	case c.is("set-location-enabled") && len(c.args) > 1:
		p.settings["secure/location_mode"] = map[bool]string{true: "3", false: "0"}[c.args[1] == "true"]
	case p.traits.API < 31:
		return unknown(c)
	case c.is("providers", "add-test-provider"):
		if p.settings["appops/mock_location"] != "allow" {
			fmt.Fprintln(c.err, "\nException occurred while executing 'providers':\njava.lang.SecurityException: com.android.shell from uid 2000 not allowed to perform MOCK_LOCATION")
			return 255
		}
		p.set.mocked, p.set.located = true, ""
	case c.is("providers", "remove-test-provider"):
		p.set.mocked, p.set.located = false, ""
	case c.is("providers", "set-test-provider-enabled"):
	case c.is("providers", "set-test-provider-location"):
		if at := c.option("--location"); p.set.mocked && at != "" && !p.lies("location") {
			p.set.located = at
		}
	default:
		return unknown(c)
	}
	return 0
}

// sayLocation is dumpsys location, shortened, under mu.
func (p *Phone) sayLocation(c *call) {
	c.say("LOCATION MANAGER STATE\n  User Info:\n    location enabled: %v\n  Location Providers:\n", p.settings["secure/location_mode"] != "0")
	if !p.set.mocked {
		c.say("    gps provider:\n      user 0:\n        last location=null\n      enabled=true\n")
		return
	}
	last := "null"
	if lat, lon, ok := strings.Cut(p.set.located, ","); ok {
		a, _ := strconv.ParseFloat(lat, 64)
		b, _ := strconv.ParseFloat(lon, 64)
		last = fmt.Sprintf("Location[gps %f,%f hAcc=100.0 et=+1h2m3s4ms mock]", a, b)
	}
	c.say("    gps provider [mock]:\n      user 0:\n        last location=%s\n      enabled=true\n", last)
}

func (p *Phone) connectivity(c *call) int {
	switch {
	case c.is("airplane-mode", "enable"), c.is("airplane-mode", "disable"):
		if !p.lies("airplane_mode") {
			p.set.airplane = c.args[1] == "enable"
		}
		p.settings["global/airplane_mode_on"] = map[bool]string{true: "1", false: "0"}[p.set.airplane]
	case c.is("airplane-mode"):
		c.say("%s\n", map[bool]string{true: "enabled", false: "disabled"}[p.set.airplane])
	default:
		return unknown(c)
	}
	return 0
}

func (p *Phone) bluetooth(c *call) int {
	if !c.is("enable") && !c.is("disable") {
		return unknown(c)
	}
	p.turn("bluetooth_on", c.args[0])
	return 0
}

// turn turns a switch that a service has, under mu.
func (p *Phone) turn(name, to string) {
	if !p.lies(name) {
		p.settings["global/"+name] = map[bool]string{true: "1", false: "0"}[to == "enable"]
	}
}

// svc is the command of the switches.
func (p *Phone) svc(c *call) int {
	p.take(c.ctx, 60, 120)
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case c.is("power", "stayon") && len(c.args) == 3:
		p.settings["global/stay_on_while_plugged_in"] = map[string]string{"true": "7", "usb": "2", "ac": "1", "wireless": "4", "false": "0"}[c.args[2]]
	case len(c.args) == 2 && (c.args[1] == "enable" || c.args[1] == "disable") && (c.args[0] == "wifi" || c.args[0] == "data" || c.args[0] == "bluetooth" && p.traits.API >= 26):
		p.turn(map[string]string{"wifi": "wifi_on", "data": "mobile_data", "bluetooth": "bluetooth_on"}[c.args[0]], c.args[1])
	default:
		c.say("Available commands: wifi, data, power\n")
		return 255
	}
	return 0
}

func (p *Phone) appops(c *call) int {
	p.take(c.ctx, 60, 120)
	p.mu.Lock()
	defer p.mu.Unlock()
	if c.is("set") && len(c.args) == 4 && c.args[2] == "android:mock_location" {
		p.settings["appops/mock_location"] = c.args[3]
	}
	return 0
}

// wmDensity is wm density, under mu.
func (p *Phone) wmDensity(c *call) int {
	if len(c.args) < 2 {
		c.say("Physical density: %d\n", p.traits.Density)
		if p.set.density > 0 {
			c.say("Override density: %d\n", p.set.density)
		}
		return 0
	}
	n, err := strconv.Atoi(c.args[1])
	switch {
	case p.lies("density"):
	case c.args[1] == "reset":
		p.set.density = 0
	case err != nil || n < 72:
		fmt.Fprintln(c.err, "Error: density must be >= 72")
		return 255
	default:
		p.set.density = n
	}
	p.refont()
	return 0
}

// density is that in force, under mu.
func (p *Phone) density() int {
	if p.set.density > 0 {
		return p.set.density
	}
	return p.traits.Density
}

// textScale is how large the user wants texts, under mu.
func (p *Phone) textScale() float64 {
	if f, err := strconv.ParseFloat(p.settings["system/font_scale"], 64); err == nil && f >= 0.25 && f <= 5 {
		return f
	}
	return 1
}

// refont takes other fonts, under mu, where the size of texts or of all has changed.
func (p *Phone) refont() {
	p.fonts = paint.NewFonts(p.density(), p.textScale())
	p.adjusted()
}

// lies says that the phone takes a setting and keeps it as it was.
func (p *Phone) lies(name string) bool { return slices.Contains(p.traits.Lies, name) }

// battery is dumpsys battery, under mu.
func (p *Phone) battery(c *call) {
	switch {
	case slices.Contains(c.args, "unplug"):
		p.set.unplugged = true
		return
	case slices.Contains(c.args, "reset"):
		p.set.unplugged = false
		if !p.traits.Battery {
			p.settings["global/low_power"] = "0" // what is charged does not save
		}
		return
	}
	_, _ = io.WriteString(c.out, fmt.Sprintf("Current Battery Service state:\n  AC powered: false\n  USB powered: %v\n  status: 2\n  health: 2\n  present: true\n  level: %d\n  scale: 100\n  voltage: 4100\n  temperature: %d\n",
		!p.traits.Battery && !p.set.unplugged, p.level, p.heat()))
}
