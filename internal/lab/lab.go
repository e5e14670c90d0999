// Package lab is where devices come from.
//
// A Lab knows the devices that it can reach, says of each how it stands, and gives control of one. Who asks a lab knows
// neither adb nor any other way to a device: a Unit can do what its interfaces say. A unit is known by its lab and the
// serial that the lab gives it. A lab that is somebody else's lends its devices: a Loan begins and ends with a piece of
// work. lab/adblab is the lab of what an adb server sees.
package lab

import (
	"context"
	"errors"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/phone"
)

// ErrNotHere says that a device can't be reached at the moment.
var ErrNotHere = errors.New("the device is not there at the moment")

// Device is a device as its lab sees it.
type Device struct {
	Facts   devices.Facts // Serial is the one by which the lab knows it
	State   string        // devices.Ready or devices.Unusable
	Why     string        // of an unusable one, with the remedy
	Checked bool          // it has passed the check that Check asked for; said once
}

// ID is what a unit is known by: its lab, and the serial that this gives it.
type ID struct{ Lab, Serial string }

// Unit is a device under control. It stays the lab's: who has it does not close it.
type Unit struct {
	*phone.Unit
	Known devices.Facts // what it said of itself when it was last asked
	Loan  Loan          // of one that its lab lends for a piece of work; nil: it can be used at once
}

// Loan is how a lab lends a device for one piece of work. Nothing can be asked of the device before Begin and after End.
type Loan interface {
	// Begin takes the device, and waits as long as the lab has others before us. Waiting is told how that stands, in words. A lab
	// that does not give it is *phone.Refused where another try would end the same, else *phone.Lost.
	Begin(ctx context.Context, want Want, waiting func(string)) (Given, error)
	// End gives the device back. Ending it twice, or before it began, changes nothing.
	End(ctx context.Context) error
}

// Want is what a device is borrowed for.
type Want struct {
	Name       string         // of the work, for who looks at the lab
	App        phone.App      // the build; without an id: none
	SHA256     string         // of the build's file
	Conditions conditions.Set // that the device is to be set to
	// Again is told when the lab had to be asked anew for the same device, and knows the loan by something else now.
	Again func(Given)
}

// Given is what a lab gave.
type Given struct {
	Ref       string         // by which the lab knows the loan: who has it may be able to command the device
	Shown     string         // by which people find it at the lab
	Page      string         // address of a page about it, for people; "": the lab has none
	Installed bool           // the build is on the device, as new
	Set       conditions.Set // what of the conditions the lab has seen to
}

// Starter is a lab whose devices are started when they are wanted.
type Starter interface {
	// Start has a device started, and returns when it is ready; one that is up already is taken as it is. Until Done it is not stopped. The error is for people: it has what the
	// command said last.
	Start(ctx context.Context, serial string) (took time.Duration, err error)
	// Fresh says whether a device is thrown away after each piece of work: nothing has to be put back on it.
	Fresh(serial string) bool
	// Done says that the work is over. Saying it twice changes nothing.
	Done(serial string)
}

// Lender is a lab whose devices are lent.
type Lender interface {
	// Reclaim ends a loan that an earlier process of this host began. One that is over is no error.
	Reclaim(ctx context.Context, serial, ref string) error
}

// Lab is a source of devices. It is safe for use by several goroutines.
type Lab interface {
	// Name is by which its host knows it.
	Name() string
	// Kind says how its devices are reached, in a word: adb.
	Kind() string
	// Watch looks after the devices until ctx ends. It calls look at once, again and again, and as soon as something may have changed.
	Watch(ctx context.Context, look func(context.Context))
	// Devices lists the devices, by serial. It does not wait for those that do not answer.
	Devices(ctx context.Context) ([]Device, error)
	// Acquire gives control of a device that is there; ErrNotHere: it is not.
	Acquire(serial string) (*Unit, error)
	// Lost takes a device off the list at once: it has to be looked at anew before it gets more work.
	Lost(serial string)
	// Unfit notes that a device can't be tested, as was found at work.
	Unfit(serial string, why *phone.Refused)
	// Check asks that devices pass a check; Devices says when they have.
	Check(serials []string)
	// LookAgain has a device asked anew whether it is fit. Until it has answered, what it last said holds.
	LookAgain(serial string)
}

// Teller is a lab that says how it stands. What it does not say, its host does.
type Teller interface{ About() devices.Lab }

// awaitFor is how long a device is waited for that is just being connected.
const awaitFor = 10 * time.Second

// Await gives control of a device, and waits a little for one that is just being connected.
func Await(ctx context.Context, l Lab, serial string) (*Unit, error) {
	for deadline := time.Now().Add(awaitFor); ; {
		u, err := l.Acquire(serial)
		if !errors.Is(err, ErrNotHere) || time.Now().After(deadline) {
			return u, err
		}
		if err := phone.Pause(ctx, 100*time.Millisecond); err != nil {
			return nil, err
		}
	}
}

// First is the name of the lab of devices that hosts told of before labs had names.
const First = "adb"

// None is a lab without devices.
type None struct{}

// Name implements Lab.
func (None) Name() string { return "" }

// Kind implements Lab.
func (None) Kind() string { return "none" }

// Watch implements Lab.
func (None) Watch(ctx context.Context, _ func(context.Context)) { <-ctx.Done() }

// Devices implements Lab.
func (None) Devices(context.Context) ([]Device, error) { return nil, nil }

// Acquire implements Lab.
func (None) Acquire(string) (*Unit, error) { return nil, ErrNotHere }

// Lost implements Lab.
func (None) Lost(string) {}

// Unfit implements Lab.
func (None) Unfit(string, *phone.Refused) {}

// Check implements Lab.
func (None) Check([]string) {}

// LookAgain implements Lab.
func (None) LookAgain(string) {}

// Maker makes a lab of a host. Busy says whether a device is at work: then it is not disturbed.
type Maker func(busy func(serial string) bool) Lab

// Pairer is a lab that can be paired with phones over the network. An error that has a Remedy says what to do.
type Pairer interface {
	// Pair pairs with the phone at an address that shows a code.
	Pair(ctx context.Context, address, code string) error
	// PairByName pairs with the phone that has scanned a picture with this name and password.
	PairByName(ctx context.Context, name, password string) error
}
