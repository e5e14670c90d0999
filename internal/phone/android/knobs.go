package android

// How Android is set to each condition, asked how it stands, and put back.

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"tessellant/internal/core/conditions"
)

// knob is how a device is set to one condition.
type knob struct {
	read string                    // the line that says how it stands
	says func(out string) string   // that as a value; "": it does not say
	set  func(out string) string   // the line that sets it, by what read said before
	back func(out string) []string // the lines that put it back, by what read said before
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
