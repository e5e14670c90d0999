// Package planning turns "this build, this package, these devices, these conditions" into legs, findings and a forecast.
//
// It is pure, and the same for a look before a run, for the page where one is made, and for its start. In: what was asked for, the devices that there
// are, how past legs went. Out: a leg for each device and variant that can take it, with its cases; a finding, with its remedy, for each that
// can't; how long it will wait and take (forecast.go); the cases shared out, where that was asked for (spread.go).
package planning

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/pools"
)

// Level says how grave a finding is.
type Level string

const (
	Blocks Level = "blocks"
	Warns  Level = "warns"
	Notes  Level = "notes"
)

// Finding is one thing wrong or worth knowing with a plan.
type Finding struct {
	Level   Level  `json:"level"`
	Device  string `json:"device,omitempty"`  // serial; empty: about the plan as a whole
	Variant string `json:"variant,omitempty"` // of that device; empty: all
	What    string `json:"what"`
	Remedy  string `json:"remedy"`
}

// Device is a device as the planner sees it.
type Device struct {
	ID    string
	Facts devices.Facts
	Away  string        // why it can't be used now; empty: it can
	Lacks string        // what its host lacks for the package; empty: nothing
	Free  bool          // it could begin now
	Busy  time.Duration // for about how long it has other work
	Lost  int           // attempts in a row that were lost on it
	Lab   string        // that lends it, where that lends only so many at a time: one of Request.Labs
}

// Lab is one that lends only so many devices at a time.
type Lab struct {
	Name   string
	AtOnce int
	Queue  int           // of others who wait there
	Start  time.Duration // that a device takes to start which is not up
}

// Case is a case of the package.
type Case struct {
	Name  string
	Needs []string      // of a device: patterns
	Took  time.Duration // in the past, where it passed; 0: not known
}

// Request is what is to be planned.
type Request struct {
	App     appfile.Facts
	Others  []appfile.Facts // for devices of other platforms
	Now     time.Time
	Needs   []string // of the package, of a device: patterns
	Cases   []Case
	Program bool // it decides itself which cases it runs
	Targets []Target
	Spread  bool
	Limit   time.Duration // of a leg on its device
	Devices []Device
	Past    []Past // legs of the same package, the newest first
	Labs    map[string]Lab
}

// app is the build that a device gets.
func (q Request) app(d Device) appfile.Facts {
	for _, a := range q.Others {
		if a.Platform == d.Facts.Platform {
			return a
		}
	}
	return q.App
}

// Target is where a run is to go: most have one.
type Target struct {
	Filter   devices.Filter
	Take     pools.Definition // how many of the devices that the filter chooses; the zero one: all
	Variants []conditions.Variant
	Cases    []string // those alone, by their names; nil: all of the request
	Optional bool     // where it can't go, the run goes to its other targets
}

// Leg is one leg of a plan.
type Leg struct {
	Device  Device
	Variant conditions.Variant
	Cases   []string // of a package of scripts
	AnyUnit bool     // one like the device will do, too
	Likely  Range    // how long it will take
}

// Plan is what a run would be.
type Plan struct {
	Legs     []Leg // by serial, then in the order of the variants
	Devices  []Device
	Findings []Finding
	Forecast Forecast
	Cover    *pools.Cover // of what those cover that differ most; nil: that was not asked for
}

// maxSaid is about how many devices something is said; the others are counted.
const maxSaid = 200

// Blocked returns the findings that keep the whole run from starting.
func (p Plan) Blocked() []Finding {
	var out []Finding
	for _, f := range p.Findings {
		if f.Level == Blocks && f.Device == "" {
			out = append(out, f)
		}
	}
	return out
}

func (p *Plan) add(level Level, remedy, what string, args ...any) {
	p.Findings = append(p.Findings, Finding{Level: level, What: fmt.Sprintf(what, args...), Remedy: remedy})
}

// Make plans.
func Make(q Request) Plan {
	var p Plan
	if len(q.Cases) == 0 && !q.Program {
		p.add(Blocks, "define at least one function whose name starts with test_", "the package has no test cases")
	}
	needs, err := devices.ParseFilter(q.Needs, nil)
	if err != nil {
		p.add(Blocks, "correct needs in tessellant.yaml", "%v", err)
	}
	known := map[string]bool{}
	for _, d := range q.Devices {
		known[d.Facts.Serial] = true
	}
	for _, a := range append([]appfile.Facts{q.App}, q.Others...) {
		if a.IOS != nil && !q.Now.IsZero() {
			for _, f := range a.IOS.Outdated(q.Now) {
				p.add(Level(f.Level), f.Remedy, "of the build for iOS %s", f.What)
			}
		}
	}
	seen := map[string]bool{} // device and conditions
	there, refused := 0, 0
	for _, t := range q.Targets {
		chosen := p.choose(q, t, needs, known)
		there += len(chosen)
		groups := p.cases(q, chosen)
		if t.Cases != nil {
			p.only(t, groups, q.Cases)
		}
		variants := t.Variants
		if len(variants) == 0 {
			variants = []conditions.Variant{{}}
		}
		for i, d := range chosen {
			for _, v := range variants {
				key := d.ID + " " + v.Name + " " + v.Conditions.String()
				if seen[key] {
					continue
				}
				seen[key] = true
				if lacks := v.Conditions.Lacks(d.Facts, true); len(lacks) > 0 {
					refused++
					p.Findings = append(p.Findings, Finding{Blocks, d.Facts.Serial, v.Name, lacks[0].Why, lacks[0].Remedy})
					continue
				}
				if len(groups[i]) > 0 || q.Program {
					p.Legs = append(p.Legs, Leg{Device: d, Variant: v, Cases: groups[i], AnyUnit: t.Take.Models})
				}
			}
		}
	}
	if len(q.Targets) > 1 {
		slices.SortStableFunc(p.Legs, func(a, b Leg) int { return cmp.Compare(a.Device.Facts.Serial, b.Device.Facts.Serial) })
	}
	if q.Spread && !q.Program {
		p.spread(q)
	}
	if len(p.Legs) == 0 && there == 0 && len(p.Blocked()) == 0 && len(q.Targets) > 0 {
		p.add(Blocks, "bring a device back, or choose others", "none of the devices that are wanted can take this run")
	}
	if len(p.Legs) == 0 && there > 0 && len(p.Blocked()) == 0 {
		if refused > 0 {
			p.add(Blocks, "see the findings of each device, or choose others", "none of the %d devices can be set to the conditions", there)
		} else {
			p.add(Blocks, "choose other devices, or other cases", "none of the %d devices can run any of the cases", there)
		}
	}
	on := map[string]bool{}
	for _, l := range p.Legs {
		if !on[l.Device.ID] {
			on[l.Device.ID] = true
			p.Devices = append(p.Devices, l.Device)
		}
	}
	p.forecast(q)
	p.lent(q)
	p.lately(q)
	p.shorten()
	return p
}

// choose finds the devices that are to take part, by serial.
func (p *Plan) choose(q Request, t Target, needs devices.Filter, known map[string]bool) (chosen []Device) {
	if t.Take.Take == "" {
		t.Take.Take = pools.All
	}
	matched := 0
	blocks := Blocks
	if t.Optional {
		blocks = Warns
	}
	var fit []Device
	var others []Finding // devices of other platforms
	for _, d := range q.Devices {
		if !t.Filter.Match(d.Facts) {
			continue
		}
		matched++
		if no := Unfit(q.app(d), needs, d); no != nil {
			if !d.Facts.Runs(q.app(d).Platform) && !slices.Contains(t.Filter.Units, d.Facts.Serial) {
				others = append(others, *no)
			} else {
				p.Findings = append(p.Findings, *no)
			}
			continue
		}
		fit = append(fit, d)
	}
	switch n := len(others); {
	case len(fit) == 0:
		p.Findings = append(p.Findings, others...)
	case n == 1:
		p.add(Notes, "nothing has to be done; a build for its platform is added with --other-build", "one device of another platform matches, too, and is left out")
	case n > 0:
		p.add(Notes, "nothing has to be done; a build for their platform is added with --other-build", "%d devices of other platforms match, too, and are left out", n)
	}
	for _, u := range t.Filter.Units {
		if !known[u] {
			p.add(blocks, "see the serials with: tessellant device list", "there is no device with the serial %q", u)
		}
	}
	switch {
	case matched == 0:
		p.add(blocks, "see what there is with: tessellant device list", "no device matches %s (%d known)", t.Filter, len(q.Devices))
		return nil
	case len(fit) == 0:
		p.add(blocks, "see the findings of each device, or choose others", "none of the %d devices that match %s can take this run", matched, t.Filter)
		return nil
	}
	if t.Take.Take == pools.All && !t.Take.Models {
		chosen = fit
	} else {
		from := make([]pools.Device, len(fit))
		by := map[string]Device{}
		for i, d := range fit {
			from[i] = pools.Device{Facts: d.Facts, Free: d.Free, Ready: true}
			by[d.Facts.Serial] = d
		}
		c := t.Take.Choose(from)
		p.Cover = c.Cover
		for _, serial := range c.Serials {
			chosen = append(chosen, by[serial])
		}
		if c.Wanted > len(chosen) {
			p.add(Warns, "choose more devices, or see the findings of those that can't take part", "%d devices were wanted, and %d can take part", c.Wanted, len(chosen))
		}
	}
	slices.SortFunc(chosen, func(a, b Device) int { return cmp.Compare(a.Facts.Serial, b.Facts.Serial) })
	return chosen
}

// cases says which cases each device runs: all but those that need another.
func (p *Plan) cases(q Request, chosen []Device) [][]string {
	type need struct {
		text   string
		filter devices.Filter
		cases  []string
		on     int // devices
	}
	var all []string
	var kinds []*need
	of := make([]int, len(q.Cases)) // number of its need in kinds; -1: none
	at := map[string]int{}
	for i, c := range q.Cases {
		of[i] = -1
		all = append(all, c.Name)
		if len(c.Needs) == 0 {
			continue
		}
		text := strings.Join(c.Needs, " ")
		n, ok := at[text]
		if !ok {
			f, err := devices.ParseFilter(c.Needs, nil)
			if err != nil { // was seen when the package was read
				p.add(Blocks, "correct what the case needs", "%s: %v", c.Name, err)
			}
			n = len(kinds)
			at[text], kinds = n, append(kinds, &need{text: text, filter: f})
		}
		of[i] = n
		kinds[n].cases = append(kinds[n].cases, c.Name)
	}
	out := make([][]string, len(chosen))
	known := map[string][]string{} // by which needs are met
	for i, d := range chosen {
		mask := make([]byte, len(kinds))
		for n, k := range kinds {
			if k.filter.Match(d.Facts) {
				mask[n] = 1
				k.on++
			}
		}
		cases, ok := known[string(mask)]
		if !ok {
			if cases = all; slices.Contains(mask, 0) {
				cases = nil
				for c, name := range all {
					if of[c] < 0 || mask[of[c]] == 1 {
						cases = append(cases, name)
					}
				}
			}
			known[string(mask)] = cases
		}
		out[i] = cases
	}
	for _, k := range kinds {
		switch {
		case len(chosen) == 0 || k.on == len(chosen):
		case k.on == 0:
			p.add(Warns, "add a device that has it, or leave the cases out with --case", "no device can run %s: %s %s", listed(k.cases, 5), map[bool]string{true: "it needs", false: "they need"}[len(k.cases) == 1], k.text)
		default:
			p.add(Notes, "nothing needs to be done", "%s only on %d of %d devices: %s %s", listed(k.cases, 5)+map[bool]string{true: " runs", false: " run"}[len(k.cases) == 1], k.on, len(chosen), map[bool]string{true: "it needs", false: "they need"}[len(k.cases) == 1], k.text)
		}
	}
	return out
}

// only leaves those cases in that a target names.
func (p *Plan) only(t Target, groups [][]string, cases []Case) {
	named := map[string]bool{}
	for _, n := range t.Cases {
		named[n] = true
	}
	for i := range groups {
		groups[i] = slices.DeleteFunc(slices.Clone(groups[i]), func(n string) bool { return !named[n] })
	}
	for _, c := range cases {
		delete(named, c.Name)
	}
	if len(named) > 0 {
		p.add(Warns, "see the cases with: tessellant package show", "the package has no case %s", listed(slices.Sorted(maps.Keys(named)), 5))
	}
}

// listed names the first few.
func listed(all []string, few int) string {
	if len(all) <= few {
		return strings.Join(all, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(all[:few], ", "), len(all)-few)
}

// shorten keeps what is said of the first devices, and counts the others.
func (p *Plan) shorten() {
	said, more := 0, map[Level]int{}
	p.Findings = slices.DeleteFunc(p.Findings, func(f Finding) bool {
		if f.Device == "" {
			return false
		}
		if said++; said > maxSaid {
			more[f.Level]++
			return true
		}
		return false
	})
	for _, level := range []Level{Blocks, Warns, Notes} {
		if n := more[level]; n > 0 {
			p.add(Notes, "choose fewer devices with --where, or ask about one with: tessellant device why", "%d more findings about single devices (%s) are not listed", n, level)
		}
	}
}

// Unfit says why a device can't take the build and the package; nil: it can.
func Unfit(app appfile.Facts, needs devices.Filter, d Device) *Finding {
	f := d.Facts
	switch {
	case d.Away != "":
		return &Finding{Level: Blocks, Device: f.Serial, What: "the device is not ready: " + d.Away, Remedy: "bring it back, or leave it out of the filter"}
	case d.Lacks != "":
		return &Finding{Level: Blocks, Device: f.Serial, What: "the device's host can't run the package: " + d.Lacks, Remedy: "see what hosts have with: tessellant host list"}
	}
	if what, remedy := NeedsOf(app).Unmet(f); what != "" {
		return &Finding{Level: Blocks, Device: f.Serial, What: what, Remedy: remedy}
	}
	for _, n := range needs.Where {
		if !(devices.Filter{Where: []devices.Pattern{n}}).Match(f) {
			return &Finding{Level: Blocks, Device: f.Serial, What: fmt.Sprintf("the package needs %s, the device has %s=%s", n, n.Trait, f.Trait(n.Trait)), Remedy: fmt.Sprintf("add --where '%s', or change needs in the package's tessellant.yaml", n)}
		}
	}
	return nil
}

// NeedsOf gives what a build needs of a device.
func NeedsOf(app appfile.Facts) devices.Needs {
	n := devices.Needs{Platform: app.Platform, MinAPI: app.MinAPI, MinCode: app.MinCode, ABIs: app.ABIs, Features: app.Features, NoScreens: app.NoScreens}
	if x := app.IOS; x != nil {
		n.MinOS, n.Forms, n.Simulator = x.MinOS, x.Families, x.Simulator
		if x.Profile != nil {
			n.UDIDs = x.Profile.Devices
		}
	}
	return n
}
