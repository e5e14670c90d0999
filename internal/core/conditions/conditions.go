// Package conditions has the ways in which a device can be set before a test: language, orientation, dark mode, text size and the like.
//
// One table says which there are, what each takes, and which systems can't be set so over a shell. In: what a person wrote. Out: a Set in one
// form, what a device lacks for it, and traits of a leg. A new condition is a row here, and what it does in the driver (phone/android/knobs.go).
package conditions

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/language"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/nearest"
	"tessellant/internal/core/netprofile"
)

// The conditions.
const (
	Language     = "language"
	Orientation  = "orientation"
	Dark         = "dark"
	FontScale    = "font-scale"
	DisplaySize  = "display-size"
	Location     = "location"
	TimeZone     = "time-zone"
	Animations   = "animations"
	WiFi         = "wifi"
	MobileData   = "mobile-data"
	Bluetooth    = "bluetooth"
	GPS          = "gps"
	AirplaneMode = "airplane-mode"
	BatterySaver = "battery-saver"
	Network      = "network"
)

// The values of switches.
const (
	On  = "on"
	Off = "off"
)

// Condition is one way in which a device can be set.
type Condition struct {
	Name  string
	Takes string // what its value is
	About string
	Least int // the Android API level from which a shell can set it; 0: all
	read  func(string) (string, error)
}

// Table are all of them, in the order in which they are set.
var Table = []Condition{
	{Language, "a language such as de or pt-BR", "the language of the app, not of the whole device; Android 13 and later, or a device that has it anyway", 33, readLanguage},
	{TimeZone, "a place such as Europe/Lisbon", "the device's time zone", 26, readZone},
	{Location, "latitude,longitude", "where the device says that it is", 31, readLocation},
	{FontScale, "0.5 to 3", "the size of texts; 1 is the normal size", 0, scale(0.5, 3)},
	{DisplaySize, "0.5 to 2", "the size of all that is shown; 1 is the normal size, and a larger one leaves less room", 0, scale(0.5, 2)},
	{Dark, "on or off", "dark mode", 29, readSwitch},
	{Animations, "on or off", "the system's animations", 0, readSwitch},
	{WiFi, "on or off", "Wi-Fi; not on a device that is reached over it", 0, readSwitch},
	{MobileData, "on or off", "mobile data", 0, readSwitch},
	{Bluetooth, "on or off", "Bluetooth", 26, readSwitch},
	{GPS, "on or off", "the device knows its location", 0, readSwitch},
	{AirplaneMode, "on or off", "airplane mode; not on a device that is reached over the network", 30, readSwitch},
	{BatterySaver, "on or off", "the mode that saves the battery", 0, readSwitch},
	{Network, "a network such as edge or offline, or its numbers as 120ms/2000/500/1 (round trip, kbit/s down, up, % lost)", "how good the network is for apps that mind the device's proxy", 0, readNetwork},
	{Orientation, "portrait or landscape", "how the screen is held", 0, readOrientation},
}

// Of finds a condition by its name.
func Of(name string) (Condition, bool) {
	i := slices.IndexFunc(Table, func(c Condition) bool { return c.Name == name })
	if i < 0 {
		return Condition{}, false
	}
	return Table[i], true
}

// Names are the names of all conditions.
func Names() (out []string) {
	for _, c := range Table {
		out = append(out, c.Name)
	}
	return out
}

// Set is how a device is to be set: values by the names of conditions. What is not in it stays as it is.
type Set map[string]string

// With gives the set with one more, as a person wrote it. The error says what is wrong.
func (s Set) With(name, value string) (Set, error) {
	name = strings.ToLower(strings.TrimSpace(name))
	c, ok := Of(name)
	if !ok {
		return s, fmt.Errorf("there is no condition %.60q%s The conditions are %s", name, cmp.Or(nearest.Meant(name, Names()), "."), strings.Join(Names(), ", "))
	}
	v, err := c.read(strings.TrimSpace(value))
	if err != nil {
		return s, fmt.Errorf("%s takes %s: %w", c.Name, c.Takes, err)
	}
	if old, twice := s[name]; twice && old != v {
		return s, fmt.Errorf("%s is there twice: %s and %s", name, old, v)
	}
	out := maps.Clone(s)
	if out == nil {
		out = Set{}
	}
	out[name] = v
	return out, nil
}

// Parse reads conditions in a line, such as "language:de,orientation:landscape,dark". A switch without a value is on. A number behind a
// comma belongs to what was before it: location:38.71,-9.14.
func Parse(text string) (s Set, err error) {
	if len(text) > maxText {
		return nil, fmt.Errorf("conditions of more than %d bytes are too long", maxText)
	}
	var items []string
	for item := range strings.SplitSeq(text, ",") {
		item = strings.TrimSpace(item)
		if n := len(items); n > 0 && item != "" && strings.ContainsRune("+-.0123456789", rune(item[0])) {
			items[n-1] += "," + item
			continue
		}
		items = append(items, item)
	}
	for _, item := range items {
		name, value, given := strings.Cut(item, ":")
		if item == "" {
			return nil, fmt.Errorf("in %.200q a condition is missing; write name:value, such as language:de, with commas between", text)
		}
		if c, ok := Of(strings.ToLower(name)); !given && ok && c.Takes == "on or off" {
			value = On
		} else if !given && ok {
			return nil, fmt.Errorf("in %.200q %s has no value; it takes %s", text, c.Name, c.Takes)
		}
		if s, err = s.With(name, value); err != nil {
			return nil, fmt.Errorf("in %.200q: %w", text, err)
		}
	}
	return s, nil
}

const maxText = 2000

// FromMap reads conditions as they stand in JSON or YAML: texts, numbers, and true or false for switches.
func FromMap(m map[string]any) (s Set, err error) {
	for _, name := range slices.Sorted(maps.Keys(m)) {
		var v string
		switch x := m[name].(type) {
		case string:
			v = x
		case bool:
			v = map[bool]string{true: On, false: Off}[x]
		case float64:
			v = strconv.FormatFloat(x, 'g', -1, 64)
		case int:
			v = strconv.Itoa(x)
		default:
			return nil, fmt.Errorf("the condition %.60q must be a text, a number, or true or false", name)
		}
		if s, err = s.With(name, v); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// UnmarshalJSON implements json.Unmarshaler.
func (s *Set) UnmarshalJSON(raw []byte) error {
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil {
		return err
	}
	out, err := FromMap(m)
	*s = out
	return err
}

// Sorted are the names of the set in the order of Table.
func (s Set) Sorted() (out []string) {
	for _, c := range Table {
		if _, ok := s[c.Name]; ok {
			out = append(out, c.Name)
		}
	}
	return out
}

// String writes the set as Parse reads it; an empty one is "".
func (s Set) String() string {
	var parts []string
	for _, n := range s.Sorted() {
		if s[n] == On {
			parts = append(parts, n)
		} else {
			parts = append(parts, n+":"+s[n])
		}
	}
	return strings.Join(parts, ",")
}

// Traits puts the conditions to a device's traits: on a leg they win over the device's own.
func (s Set) Traits(of map[string]string) map[string]string {
	out := maps.Clone(of)
	maps.Copy(out, s)
	larger, err1 := strconv.ParseFloat(s[DisplaySize], 64)
	dp, err2 := strconv.ParseFloat(of["width"], 64)
	if err1 == nil && err2 == nil && larger > 0 { // where all is shown larger, less of it fits
		out["width"] = strconv.Itoa(int(math.Round(dp / larger)))
	}
	return out
}

// Lack is a condition that a device can't be set to.
type Lack struct{ Name, Why, Remedy string }

// Lacks says what a device can't be set to, as far as its facts tell. App says whether a build is installed, whose language can be set.
func (s Set) Lacks(f devices.Facts, app bool) (out []Lack) {
	for _, name := range s.Sorted() {
		c, _ := Of(name)
		switch {
		case name == Language && Speaks(f, s[name]):
		case f.Lent && !slices.Contains(f.Sets, name):
			out = append(out, Lack{name, fmt.Sprintf("its lab can't set the device to %s:%s", name, s[name]), "leave the condition out, choose devices of another lab, or have the lab file say how it is set (docs/labs.md)"})
		case f.Lent:
		case name == Language && !app:
			out = append(out, Lack{name, "a language is set for an app, and there is no build", "give a build, or choose devices with --where language=" + s[name]})
		case f.Platform == "android" && f.API < c.Least:
			l := Lack{name, fmt.Sprintf("%s can't be set to %s:%s over adb: it can from API level %d on, the device has %d", f.System(), name, s[name], c.Least, f.API), fmt.Sprintf("add --where 'api>=%d'", c.Least)}
			if name == Language {
				l.Remedy += ", or set the whole device to that language by hand"
			}
			out = append(out, l)
		}
	}
	return out
}

// Speaks says whether a device has a language anyway.
func Speaks(f devices.Facts, wanted string) bool {
	return f.Language != "" && strings.EqualFold(f.Language, wanted)
}

func readLanguage(v string) (string, error) {
	t, err := language.Parse(v) // BCP 47
	if err != nil || len(v) > 35 || v == "" || t == language.Und {
		return "", fmt.Errorf("%.60q is none", v)
	}
	return t.String(), nil
}

// zoneForm is the form of the names of the time zone database (RFC 6557).
var zoneForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_+-]*(/[A-Za-z0-9_+-]+){0,2}$`)

func readZone(v string) (string, error) {
	if len(v) > 60 || !zoneForm.MatchString(v) {
		return "", fmt.Errorf("%.60q is none", v)
	}
	return v, nil
}

func readLocation(v string) (string, error) {
	a, b, ok := strings.Cut(v, ",")
	lat, err1 := degrees(a, 90)
	lon, err2 := degrees(b, 180)
	if !ok || errors.Join(err1, err2) != nil {
		return "", fmt.Errorf("%.60q is none; write it such as 38.7,-9.14 (degrees north, degrees east)", v)
	}
	return lat + "," + lon, nil
}

func degrees(s string, most float64) (string, error) {
	f, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	if err != nil || !(math.Abs(f) <= most) {
		return "", errors.New("out of range")
	}
	return strconv.FormatFloat(math.Round(f*1e6)/1e6, 'f', -1, 64), nil
}

func scale(least, most float64) func(string) (string, error) {
	return func(v string) (string, error) {
		f, err := strconv.ParseFloat(v, 64)
		if err != nil || !(f >= least && f <= most) {
			return "", fmt.Errorf("%.60q is not", v)
		}
		return strconv.FormatFloat(math.Round(f*100)/100, 'f', -1, 64), nil
	}
}

func readSwitch(v string) (string, error) {
	switch strings.ToLower(v) {
	case "on", "true", "yes":
		return On, nil
	case "off", "false", "no":
		return Off, nil
	}
	return "", fmt.Errorf("%.60q is neither", v)
}

func readNetwork(v string) (string, error) {
	p, err := netprofile.Parse(v)
	return p.Name, err
}

func readOrientation(v string) (string, error) {
	if v = strings.ToLower(v); v == "portrait" || v == "landscape" {
		return v, nil
	}
	return "", fmt.Errorf("%.60q is neither", v)
}

// Variant is a named set of conditions.
type Variant struct {
	Name       string `json:"name"`
	Conditions Set    `json:"conditions,omitempty"`
}

// Bounds of variants.
const (
	MaxVariants    = 20
	maxVariantName = 40
)

// ParseVariant reads name=conditions, such as wide=orientation:landscape,dark. The conditions may be left out: the device as it is.
func ParseVariant(text string) (v Variant, err error) {
	name, rest, _ := strings.Cut(text, "=")
	v.Name = strings.TrimSpace(name)
	if strings.TrimSpace(rest) != "" {
		v.Conditions, err = Parse(rest)
	}
	if err == nil {
		err = CheckVariants([]Variant{v})
	}
	return v, err
}

// CheckVariants says what is wrong with the names of variants.
func CheckVariants(all []Variant) error {
	if len(all) > MaxVariants {
		return fmt.Errorf("%d variants are too many; %d is the most", len(all), MaxVariants)
	}
	seen := map[string]bool{}
	for _, v := range all {
		bad := strings.ContainsFunc(v.Name, func(r rune) bool {
			return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-_.", r)
		})
		switch {
		case v.Name == "" || len(v.Name) > maxVariantName || bad:
			return fmt.Errorf("a variant can't be named %.80q: use up to %d letters, digits, dashes, dots and underscores", v.Name, maxVariantName)
		case seen[v.Name]:
			return fmt.Errorf("the variant %s is there twice", v.Name)
		}
		seen[v.Name] = true
	}
	return nil
}
