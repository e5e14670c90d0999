// Package planning turns "this build, this package, these devices" into legs
// and findings.
//
// It is pure: the same function serves the start of a run and a look before it.
// In: facts of the build, the package's cases, the devices there are, a filter.
// Out: one leg for each device that can take it, and a finding, with its
// remedy, for each that can't.
package planning

import (
	"fmt"
	"sort"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
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
	Level  Level  `json:"level"`
	Device string `json:"device,omitempty"` // serial; empty: about the plan as a whole
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Device is a device as the planner sees it.
type Device struct {
	ID    string
	Facts devices.Facts
	Away  string // why it can't be used now; empty: it can
	Lacks string // what its host lacks for the package; empty: nothing
}

// Plan is what a run would be.
type Plan struct {
	Devices  []Device // one leg each, by serial
	Findings []Finding
}

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

// Make plans a run of the build with the package's cases on the devices that
// the filter chooses.
func Make(app appfile.Facts, cases int, all []Device, filter devices.Filter) Plan {
	var p Plan
	if cases == 0 {
		p.Findings = append(p.Findings, Finding{Blocks, "", "the package has no test cases",
			"define at least one function whose name starts with test_"})
	}
	chosen := 0
	known := map[string]bool{}
	for _, d := range all {
		known[d.Facts.Serial] = true
		if !filter.Match(d.Facts) {
			continue
		}
		chosen++
		if f := Unfit(app, d); f != nil {
			p.Findings = append(p.Findings, *f)
			continue
		}
		p.Devices = append(p.Devices, d)
	}
	for _, u := range filter.Units {
		if !known[u] {
			p.Findings = append(p.Findings, Finding{Blocks, "", fmt.Sprintf("there is no device with the serial %q", u),
				"see the serials with: tessellant device list"})
		}
	}
	switch {
	case chosen == 0:
		p.Findings = append(p.Findings, Finding{Blocks, "", fmt.Sprintf("no device matches %s (%d known)", filter, len(all)),
			"see what there is with: tessellant device list"})
	case len(p.Devices) == 0:
		p.Findings = append(p.Findings, Finding{Blocks, "", fmt.Sprintf("none of the %d devices that match %s can take this build", chosen, filter),
			"see the findings of each device, or choose others"})
	}
	sort.Slice(p.Devices, func(i, j int) bool { return p.Devices[i].Facts.Serial < p.Devices[j].Facts.Serial })
	return p
}

// Unfit says why a device can't take the build; nil: it can.
func Unfit(app appfile.Facts, d Device) *Finding {
	f := d.Facts
	switch {
	case d.Away != "":
		return &Finding{Blocks, f.Serial, "the device is not ready: " + d.Away, "bring it back, or leave it out of the filter"}
	case d.Lacks != "":
		return &Finding{Blocks, f.Serial, "the device's host can't run the package: " + d.Lacks, "see what hosts have with: tessellant host list"}
	}
	if what, remedy := NeedsOf(app).Unmet(f); what != "" {
		return &Finding{Blocks, f.Serial, what, remedy}
	}
	return nil
}

// NeedsOf gives what a build needs of a device.
func NeedsOf(app appfile.Facts) devices.Needs {
	return devices.Needs{Platform: app.Platform, MinAPI: app.MinAPI, MinCode: app.MinCode, ABIs: app.ABIs}
}
