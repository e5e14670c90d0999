package android

// What a device can't do, as it was found out: makers close gates before the shell, until a person opens them in the
// developer options.

import "slices"

// gate is something that is forbidden.
type gate string

const (
	gateGrant  gate = "granting permissions"
	gateClear  gate = "clearing an app's data"
	gateInject gate = "touching and typing"
	gateChange gate = "changing settings"
)

// gates say what is done instead, and what a person can do about it.
var gates = map[gate]struct{ instead, remedy string }{
	gateGrant: {"the dialogs that ask for them are answered with Allow",
		`in its developer options switch on "Disable permission monitoring" or "USB debugging (Security settings)"`},
	gateClear: {"the app is reinstalled",
		`in its developer options switch on "USB debugging (Security settings)" or "Disable permission monitoring"`},
	gateChange: {"its screen may go off, or turn by itself", `in its developer options switch on "USB debugging (Security settings)" or "Disable permission monitoring"`},
	gateInject: {"nothing", `in its developer options switch on "USB debugging (Security settings)"; where there is no such switch, sign in to the maker's account there first`},
}

// gate notes that a gate is closed.
func (d *Device) gate(g gate) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !slices.Contains(d.closedGates, g) {
		d.closedGates = append(d.closedGates, g)
	}
}

func (d *Device) gated(g gate) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Contains(d.closedGates, g)
}

// Limits are what was found that the device does not let us do, what is done instead, and what a person can do about it: one sentence each.
func (d *Device) Limits() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []string
	for _, g := range d.closedGates {
		out = append(out, "its maker forbids "+string(g)+": "+gates[g].instead+"; "+gates[g].remedy)
	}
	return out
}
