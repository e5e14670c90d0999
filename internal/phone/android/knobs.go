package android

// The conditions that a test wants: how Android is set to each, asked how it stands, and put back.
//
// All are read first, then set with one line, and then read again until they say what was wanted: a system may take its time, and some say
// yes and do nothing. How each is put back is in the journal on the device before it is changed (settings.go).

import (
	"context"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/phone"
)

// knob is how a device is set to one condition.
type knob struct {
	read string                    // the line that says how it stands
	says func(out string) string   // that as a value; "": it does not say
	set  func(out string) string   // the line that sets it, by what read said before
	back func(out string) []string // the lines that put it back, by what read said before
}

// turnsIn is how long a device may take until it says that it is set so.
const turnsIn = 6 * time.Second

// Condition implements phone.Conditioner.
func (d *Device) Condition(ctx context.Context, app string, set conditions.Set, whole bool) error {
	doing := "be set to " + set.String()
	names := slices.DeleteFunc(set.Sorted(), func(n string) bool { return n == conditions.Orientation })
	d.mu.Lock()
	known := d.factual
	d.mu.Unlock()
	if !known {
		if _, err := d.Facts(ctx); err != nil {
			return err
		}
	}
	if err := d.cutsOff(set, doing); err != nil {
		return err
	}
	knobs := make([]knob, len(names))
	for i, n := range names {
		knobs[i] = d.knob(n, set[n], app)
	}
	before, err := d.readAll(ctx, doing, knobs)
	if err != nil {
		return err
	}
	var back []setting
	var lines []string
	for i, k := range knobs {
		now := k.says(before[i])
		switch {
		case now == set[names[i]]:
			continue
		case now == "":
			return &phone.Refused{Doing: "be set to " + one(set, names[i]), Why: "it does not say how it stands: " + clip(before[i]), Remedy: "leave the device out, or run without this condition"}
		}
		for _, line := range slices.Backward(k.back(before[i])) { // the last is undone first
			back = append(back, setting{restore: line})
		}
		if names[i] == conditions.Language {
			d.mu.Lock()
			back[len(back)-1].app, back[len(back)-1].language = app, d.languages[app]
			d.mu.Unlock()
		}
		lines = append(lines, k.set(before[i]))
		if names[i] == conditions.Language {
			d.speaks(app, set[names[i]])
		}
	}
	if len(lines) > 0 {
		for _, b := range back {
			if !backForm.MatchString(b.restore) { // what can't be put back stays
				return &phone.Refused{Doing: doing, Why: "how it stands now can't be put back with: " + clip(b.restore), Remedy: "set the device by hand, or leave it out"}
			}
		}
		d.mu.Lock() // also where the lines fail half way
		if whole {
			d.settled = append(d.settled, back...)
		} else {
			d.changed = append(d.changed, back...)
		}
		d.mu.Unlock()
		if err := d.changing(ctx, doing, back, strings.Join(lines, "; ")); err != nil {
			return err
		}
		if err := d.stands(ctx, doing, knobs, names, set); err != nil {
			return err
		}
	}
	if to, ok := set[conditions.Orientation]; ok {
		return d.turn(ctx, to == "landscape", whole)
	}
	return nil
}

// one is a set of one of its conditions.
func one(set conditions.Set, name string) string { return conditions.Set{name: set[name]}.String() }

// cutsOff says that a condition would cut off a device that is reached over the network.
func (d *Device) cutsOff(set conditions.Set, doing string) error {
	d.mu.Lock()
	standsIn := d.standsIn
	d.mu.Unlock()
	if !strings.Contains(d.transport, ":") || standsIn {
		return nil
	}
	if set[conditions.WiFi] == conditions.Off || set[conditions.AirplaneMode] == conditions.On {
		return &phone.Refused{Doing: doing, Why: "it is reached over the network, which that would cut", Remedy: "connect it with a cable"}
	}
	return nil
}

// readAll asks how all stand, at once.
func (d *Device) readAll(ctx context.Context, doing string, knobs []knob) ([]string, error) {
	if len(knobs) == 0 {
		return nil, nil
	}
	const mark = "-- tessellant reads on --"
	line := ""
	for _, k := range knobs {
		if line += k.read; strings.HasPrefix(k.read, "cmd ") { // they say there why not; of others only warnings come there
			line += " 2>&1"
		}
		line += "; echo; echo '" + mark + "'; "
	}
	a, err := d.shell(ctx, doing, line, quick)
	if err != nil {
		return nil, err
	}
	parts := strings.Split(strings.ReplaceAll(string(a.out), "\r\n", "\n"), "\n"+mark+"\n")
	if len(parts) != len(knobs)+1 {
		return nil, &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "allow changing settings over USB in the developer options"}
	}
	return parts[:len(knobs)], nil
}

// stands waits until all say what is wanted.
func (d *Device) stands(ctx context.Context, doing string, knobs []knob, names []string, set conditions.Set) error {
	for end := time.Now().Add(turnsIn); ; {
		out, err := d.readAll(ctx, doing, knobs)
		if err != nil {
			return err
		}
		i := 0
		for i < len(knobs) && knobs[i].says(out[i]) == set[names[i]] {
			i++
		}
		if i == len(knobs) {
			return nil
		}
		if time.Now().After(end) {
			return &phone.Refused{Doing: "be set to " + one(set, names[i]), Why: fmt.Sprintf("afterwards it says %q", clip(out[i])), Remedy: "set the device by hand, or leave it out"}
		}
		if err := phone.Pause(ctx, 150*time.Millisecond); err != nil {
			return d.failed(ctx, doing, err)
		}
	}
}

// speaks remembers an app's language: clearing an app may take it away. "": none.
func (d *Device) speaks(app, language string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.languages == nil {
		d.languages = map[string]string{}
	}
	d.languages[app] = language
	if language == "" {
		delete(d.languages, app)
	}
}

// speakAgain gives an app that was cleared its language again.
func (d *Device) speakAgain(ctx context.Context, app string) error {
	d.mu.Lock()
	language := d.languages[app]
	d.mu.Unlock()
	if language == "" {
		return nil
	}
	_, err := d.shell(ctx, "set the app's language again", d.setLanguage(app, language), quick)
	return err
}

func (d *Device) setLanguage(app, language string) string {
	return fmt.Sprintf("cmd locale set-app-locales %s --user %s --locales %s", quote(app), d.userNumber(), quote(language))
}

func (d *Device) userNumber() string {
	if d.user == "" {
		return "0"
	}
	return d.user
}

var (
	localesForm  = regexp.MustCompile(`are \[([^\]]*)\]`)
	mockForm     = regexp.MustCompile(`(?s)gps provider \[mock\]:?.*?last location=Location\[gps (-?[\d.]+),\s*(-?[\d.]+)`)
	nightForm    = regexp.MustCompile(`Night mode: ([a-z_]+)`)
	airplaneForm = regexp.MustCompile(`\b(enabled|disabled)\b`)
)

// knob is how the device is set to a condition's value.
func (d *Device) knob(name, to, app string) knob {
	on := to == conditions.On
	word := func(yes, no string) string { return map[bool]string{true: yes, false: no}[on] }
	switch name {
	case conditions.Language:
		d.mu.Lock()
		speaks := d.language
		d.mu.Unlock()
		return knob{"cmd locale get-app-locales " + quote(app) + " --user " + d.userNumber(),
			func(out string) string {
				m := localesForm.FindStringSubmatch(out)
				switch {
				case m == nil && speaks == to: // it can't be asked, and speaks it
					return to
				case m == nil:
					return ""
				case m[1] == "" && speaks != "":
					return speaks
				case m[1] == "":
					return "none"
				}
				return m[1]
			},
			line(d.setLanguage(app, to)),
			func(out string) []string { return []string{d.setLanguage(app, localesForm.FindStringSubmatch(out)[1])} }}
	case conditions.TimeZone:
		zone := tableKnob("global", "auto_time_zone")
		return knob{"getprop persist.sys.timezone; settings get global auto_time_zone",
			func(out string) string { return firstLine(out) },
			line("settings put global auto_time_zone 0; cmd alarm set-timezone " + quote(to)),
			func(out string) []string {
				_, auto, _ := strings.Cut(out, "\n")
				return append([]string{"cmd alarm set-timezone " + quote(firstLine(out))}, zone.back(auto)...)
			}}
	case conditions.Location:
		return knob{"dumpsys location",
			func(out string) string {
				m := mockForm.FindStringSubmatch(out)
				if m == nil {
					return "its own"
				}
				return degrees(m[1]) + "," + degrees(m[2])
			},
			line("appops set 2000 android:mock_location allow; cmd location providers add-test-provider gps; cmd location providers set-test-provider-enabled gps true; cmd location providers set-test-provider-location gps --location " + to),
			func(string) []string { return []string{"cmd location providers remove-test-provider gps"} }}
	case conditions.FontScale:
		k := tableKnob("system", "font_scale")
		k.says = func(out string) string { return number(value(out), "1") }
		k.set = line("settings put system font_scale " + to)
		return k
	case conditions.DisplaySize:
		return knob{"wm density",
			func(out string) string {
				is, by := density(out)
				if by == 0 {
					return ""
				}
				if math.Round(float64(by)*scaled(to)) == float64(is) {
					return to
				}
				return strconv.FormatFloat(float64(is)/float64(by), 'f', 2, 64)
			},
			func(out string) string {
				_, by := density(out)
				return fmt.Sprintf("wm density %.0f", math.Round(float64(by)*scaled(to)))
			},
			func(out string) []string {
				if is, by := density(out); is != by {
					return []string{fmt.Sprintf("wm density %d", is)}
				}
				return []string{"wm density reset"}
			}}
	case conditions.Dark:
		return knob{"cmd uimode night",
			func(out string) string {
				switch m := nightForm.FindStringSubmatch(out); {
				case m == nil:
					return ""
				case m[1] == "yes":
					return conditions.On
				case m[1] == "no":
					return conditions.Off
				default:
					return m[1]
				}
			},
			line("cmd uimode night " + word("yes", "no")),
			func(out string) []string {
				return []string{"cmd uimode night " + quote(nightForm.FindStringSubmatch(out)[1])}
			}}
	case conditions.Animations:
		return animations(word("1", "0"))
	case conditions.WiFi:
		return serviceKnob("wifi_on", "svc wifi ", word)
	case conditions.MobileData:
		return serviceKnob("mobile_data", "svc data ", word)
	case conditions.Bluetooth:
		if d.api >= 33 {
			return serviceKnob("bluetooth_on", "cmd bluetooth_manager ", word)
		}
		return serviceKnob("bluetooth_on", "svc bluetooth ", word)
	case conditions.GPS:
		k := tableKnob("secure", "location_mode")
		k.says, k.set = switched, line("settings put secure location_mode "+word("3", "0"))
		if d.api >= 30 {
			k.set = line("cmd location set-location-enabled " + word("true", "false"))
			k.back = func(out string) []string {
				return []string{"cmd location set-location-enabled " + map[bool]string{true: "true", false: "false"}[switched(out) == conditions.On]}
			}
		}
		return k
	case conditions.AirplaneMode:
		const mode = "cmd connectivity airplane-mode "
		return knob{strings.TrimSpace(mode),
			func(out string) string {
				return map[string]string{"enabled": conditions.On, "disabled": conditions.Off}[airplaneForm.FindString(out)]
			},
			line(mode + word("enable", "disable")),
			func(out string) []string {
				return []string{mode + strings.TrimSuffix(airplaneForm.FindString(out), "d")}
			}}
	case conditions.BatterySaver:
		k := tableKnob("global", "low_power")
		k.says = switched
		k.set = line(word("dumpsys battery unplug; settings put global low_power 1", "settings put global low_power 0")) // while it is charged it saves nothing
		table := k.back
		if on {
			k.back = func(out string) []string { return append(table(out), "dumpsys battery reset") }
		}
		return k
	}
	return knob{"true", func(string) string { return "" }, line("true"), func(string) []string { return nil }}
}

// line is a line that needs not know how it stood.
func line(s string) func(string) string { return func(string) string { return s } }

// tableKnob is a setting in one of Android's tables.
func tableKnob(table, name string) knob {
	return knob{read: "settings get " + table + " " + name, back: func(out string) []string {
		if v := value(out); v != "null" && v != "" {
			return []string{fmt.Sprintf("settings put %s %s %s", table, name, quote(v))}
		}
		return []string{"settings delete " + table + " " + name}
	}}
}

// serviceKnob is a switch that a service turns, and a setting tells.
func serviceKnob(name, service string, word func(yes, no string) string) knob {
	return knob{"settings get global " + name, switched, line(service + word("enable", "disable")), func(out string) []string {
		return []string{service + map[bool]string{true: "enable", false: "disable"}[switched(out) == conditions.On]}
	}}
}

// animations are three settings.
func animations(to string) knob {
	var all []knob
	k, set := knob{}, ""
	for i, name := range []string{"window_animation_scale", "transition_animation_scale", "animator_duration_scale"} {
		one := tableKnob("global", name)
		all = append(all, one)
		k.read += map[bool]string{true: "; "}[i > 0] + one.read
		set += map[bool]string{true: "; "}[i > 0] + "settings put global " + name + " " + to
	}
	k.set = line(set)
	k.says = func(out string) string {
		lines := strings.Fields(out)
		off := 0
		for _, l := range lines {
			if number(l, "1") == "0" {
				off++
			}
		}
		switch off {
		case 0:
			return conditions.On
		case len(all):
			return conditions.Off
		}
		return "some"
	}
	k.back = func(out string) (back []string) {
		for i, l := range strings.Fields(out) {
			if i < len(all) {
				back = append(back, all[i].back(l)...)
			}
		}
		return back
	}
	return k
}

// switched reads a setting that is 0 where something is off.
func switched(out string) string {
	switch v := value(out); {
	case v == "null", v == "":
		return ""
	case v == "0":
		return conditions.Off
	}
	return conditions.On
}

// number writes a number in one way; null: what it is where it was never set.
func number(s, null string) string {
	if s == "null" {
		s = null
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return ""
	}
	return strconv.FormatFloat(math.Round(f*100)/100, 'f', -1, 64)
}

func scaled(s string) float64 {
	f, _ := strconv.ParseFloat(s, 64)
	return f
}

// degrees writes degrees as conditions do.
func degrees(s string) string {
	return strconv.FormatFloat(math.Round(scaled(s)*1e6)/1e6, 'f', -1, 64)
}

// density reads what wm density says: the density in force, and the screen's own.
func density(out string) (is, by int) {
	for _, m := range densityForm.FindAllStringSubmatch(out, -1) {
		n, _ := strconv.Atoi(m[2])
		is = n
		if m[1] == "Physical" {
			by = n
		}
	}
	return is, by
}

func firstLine(out string) string {
	s, _, _ := strings.Cut(strings.TrimSpace(out), "\n")
	return strings.TrimSpace(s)
}

// proof is what to ask of a device, and what it must say, where a line of the journal was undone.
type proof struct {
	read string
	want func(out string) bool
}

// proofs says how it can be seen that lines were undone, the last first: of several for one thing the first counts, which was done last.
func proofs(lines []string) (out []proof) {
	known := map[string]bool{}
	for _, l := range lines {
		p := proofOf(strings.Fields(strings.ReplaceAll(l, "'", "")))
		if p.read == "" || known[p.read] {
			continue
		}
		known[p.read] = true
		out = append(out, p)
	}
	return out
}

func proofOf(f []string) proof {
	is := func(want string) func(string) bool { return func(out string) bool { return value(out) == want } }
	has := func(want string) func(string) bool {
		return func(out string) bool { return strings.Contains(out, want) }
	}
	switchIs := func(on bool) func(string) bool {
		return func(out string) bool { return (switched(out) == conditions.On) == on }
	}
	at := func(i int) string {
		if i < len(f) {
			return f[i]
		}
		return ""
	}
	service := map[string]string{"wifi": "wifi_on", "data": "mobile_data", "bluetooth": "bluetooth_on"}
	switch at(0) + " " + at(1) {
	case "settings put":
		return proof{"settings get " + at(2) + " " + at(3), is(strings.Join(f[min(4, len(f)):], " "))}
	case "settings delete":
		return proof{"settings get " + at(2) + " " + at(3), is("null")}
	case "cmd uimode":
		return proof{"cmd uimode night", has("Night mode: " + at(3))}
	case "ime set":
		return proof{"settings get secure default_input_method", is(at(2))}
	case "wm density":
		return proof{"wm density", func(out string) bool {
			now, by := density(out)
			return strconv.Itoa(now) == at(2) || at(2) == "reset" && now == by
		}}
	case "svc wifi", "svc data", "svc bluetooth":
		return proof{"settings get global " + service[at(1)], switchIs(at(2) == "enable")}
	case "cmd bluetooth_manager":
		return proof{"settings get global bluetooth_on", switchIs(at(2) == "enable")}
	case "cmd connectivity":
		return proof{"cmd connectivity airplane-mode", has(at(3) + "d")}
	case "cmd alarm":
		return proof{"getprop persist.sys.timezone", is(at(3))}
	case "cmd location":
		if at(2) == "providers" {
			return proof{"dumpsys location", func(out string) bool { return !strings.Contains(out, "gps provider [mock]") }}
		}
		return proof{"settings get secure location_mode", switchIs(at(3) == "true")}
	}
	return proof{} // an app's language goes with the app
}

// undone sees that lines were undone: it asks the device how all that they changed stands now.
func (d *Device) undone(ctx context.Context, lines []string) error {
	const doing = "put its settings back"
	all := proofs(lines)
	knobs := make([]knob, len(all))
	for i, p := range all {
		knobs[i].read = p.read
	}
	for end := time.Now().Add(turnsIn); ; {
		out, err := d.readAll(ctx, doing, knobs)
		if err != nil {
			return err
		}
		i := 0
		for i < len(all) && all[i].want(out[i]) {
			i++
		}
		if i == len(all) {
			return nil
		}
		if time.Now().After(end) {
			return &phone.Refused{Doing: doing, Why: fmt.Sprintf("%s says %q afterwards", all[i].read, clip(out[i])), Remedy: "set it by hand, and let the device pass a check"}
		}
		if err := phone.Pause(ctx, 150*time.Millisecond); err != nil {
			return d.failed(ctx, doing, err)
		}
	}
}
