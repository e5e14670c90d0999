// Package devices has the facts of a device, and the filters that select devices.
//
// Traits are the named facts that can explain a difference between two devices. A filter is a set of patterns over traits, or a set of
// serials. Standing says whether a device can get work, and why not. In: facts, filter text. Out: traits, yes or no.
package devices

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"tessellant/internal/core/versions"
)

// Facts is what a device says about itself.
type Facts struct {
	Serial    string   `json:"serial"`   // of the unit itself, not of its connection
	Platform  string   `json:"platform"` // "android"
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
	Place     string   `json:"place,omitempty"`  // where its lab stands
	Ways      []string `json:"ways,omitempty"`   // by which it is connected, where there are several: the one in use first
	Limits    []string `json:"limits,omitempty"` // what its maker does not let us do, and what is done instead
}

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

// Names are the traits that a filter may ask for, in the order they are shown.
var Names = []string{"serial", "platform", "os", "api", "maker", "model", "form", "origin", "simulated",
	"screen", "width", "density", "memory", "processor", "language", "place"}

// Traits gives each trait of Names its value. Width is in dp, memory in whole GB.
func (f Facts) Traits() map[string]string {
	abi := ""
	if len(f.ABIs) > 0 {
		abi = f.ABIs[0]
	}
	return map[string]string{
		"serial": f.Serial, "platform": f.Platform, "os": f.OS, "api": strconv.Itoa(f.API),
		"maker": f.Maker, "model": f.Model, "form": f.Form, "origin": f.Origin,
		"simulated": strconv.FormatBool(f.Simulated),
		"screen":    fmt.Sprintf("%dx%d", f.Width, f.Height), "width": strconv.Itoa(f.WidthDP()),
		"density": strconv.Itoa(f.Density), "memory": strconv.Itoa((f.MemoryMB + 512) / 1024),
		"processor": abi, "language": f.Language, "place": f.Place,
	}
}

// Like says whether two units can stand in for each other: the same model with the same system and settings.
func (f Facts) Like(o Facts) bool {
	return f.Platform == o.Platform && f.Maker == o.Maker && f.Model == o.Model && f.OS == o.OS && f.API == o.API && f.Form == o.Form && f.Origin == o.Origin &&
		f.Width == o.Width && f.Height == o.Height && f.Density == o.Density && f.Language == o.Language && f.MemoryMB == o.MemoryMB
}

// Condition is one pattern over one trait.
type Condition struct {
	Trait    string   `json:"trait"`
	Op       string   `json:"op"`       // = != >= <= > <
	Patterns []string `json:"patterns"` // any one will do; for the comparing ones just one
}

// Filter chooses devices: all conditions must hold, and the serial must be one
// of Units unless that is empty.
type Filter struct {
	Where []Condition `json:"where,omitempty"`
	Units []string    `json:"units,omitempty"`
}

// ParseCondition reads "os>=10", "maker=Orrery,Fennel", "model=Skerry*" or
// "form!=tablet". Patterns are case-blind globs; a comma means "or".
func ParseCondition(s string) (Condition, error) {
	i := strings.IndexAny(s, "=!<>")
	if i <= 0 {
		return Condition{}, fmt.Errorf("%q is not a device filter; write trait=pattern, such as maker=Orrery or os>=10", s)
	}
	c := Condition{Trait: strings.ToLower(strings.TrimSpace(s[:i]))}
	rest := s[i:]
	for _, op := range []string{">=", "<=", "!=", "=", ">", "<"} {
		if strings.HasPrefix(rest, op) {
			c.Op, rest = op, rest[len(op):]
			break
		}
	}
	known := false
	for _, n := range Names {
		known = known || n == c.Trait
	}
	switch {
	case !known:
		return c, fmt.Errorf("device filter %q: there is no trait %q; the traits are %s", s, c.Trait, strings.Join(Names, ", "))
	case c.Op == "":
		return c, fmt.Errorf("device filter %q: use one of = != >= <= > < after the trait", s)
	case strings.TrimSpace(rest) == "":
		return c, fmt.Errorf("device filter %q: enter a value for %s after %q", s, c.Trait, c.Op)
	}
	if strings.ContainsAny(c.Op, "<>") {
		c.Patterns = []string{strings.TrimSpace(rest)}
		if _, ok := versions.Compare(c.Patterns[0], c.Patterns[0]); !ok {
			return c, fmt.Errorf("device filter %q: %q is not a number; %s compares numbers", s, c.Patterns[0], c.Op)
		}
		return c, nil
	}
	for _, p := range strings.Split(rest, ",") {
		p = strings.TrimSpace(p)
		if _, err := path.Match(p, ""); err != nil {
			return c, fmt.Errorf("device filter %q: the pattern %q has an open bracket", s, p)
		}
		c.Patterns = append(c.Patterns, p)
	}
	return c, nil
}

// ParseFilter reads conditions as ParseCondition does, and takes units as they are.
func ParseFilter(where, units []string) (Filter, error) {
	f := Filter{Units: units}
	for _, w := range where {
		c, err := ParseCondition(w)
		if err != nil {
			return f, err
		}
		f.Where = append(f.Where, c)
	}
	return f, nil
}

// String writes the condition as ParseCondition reads it.
func (c Condition) String() string { return c.Trait + c.Op + strings.Join(c.Patterns, ",") }

// String writes the filter in one line; an empty one is "any device".
func (f Filter) String() string {
	var parts []string
	for _, c := range f.Where {
		parts = append(parts, c.String())
	}
	if len(f.Units) > 0 {
		parts = append(parts, "serial="+strings.Join(f.Units, ","))
	}
	if len(parts) == 0 {
		return "any device"
	}
	return strings.Join(parts, " ")
}

// Match reports whether the filter chooses this device.
func (f Filter) Match(d Facts) bool {
	traits := d.Traits()
	for _, c := range f.Where {
		if !c.holds(traits[c.Trait]) {
			return false
		}
	}
	if len(f.Units) == 0 {
		return true
	}
	for _, u := range f.Units {
		if u == d.Serial {
			return true
		}
	}
	return false
}

func (c Condition) holds(value string) bool {
	switch c.Op {
	case "=", "!=":
		any := false
		for _, p := range c.Patterns {
			ok, _ := path.Match(strings.ToLower(p), strings.ToLower(value))
			any = any || ok
		}
		return any == (c.Op == "=")
	}
	cmp, ok := versions.Compare(value, c.Patterns[0])
	if !ok {
		return false
	}
	switch c.Op {
	case ">=":
		return cmp >= 0
	case "<=":
		return cmp <= 0
	case ">":
		return cmp > 0
	}
	return cmp < 0
}
