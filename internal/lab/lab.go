// Package lab is where devices come from.
//
// A Lab knows the devices that it can reach, says of each how it stands, and gives control of one. Who asks a lab knows
// neither adb nor any other way to a device: a Unit can do what its interfaces say. A unit is known by its lab and the
// serial that the lab gives it. lab/adblab is the lab of what an adb server sees.
package lab

import (
	"context"
	"errors"
	"time"

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
}

// Lab is a source of devices. It is safe for use by several goroutines.
type Lab interface {
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

// First is the lab of devices that hosts told of before labs had names.
const First = "adb"

// None is a lab without devices.
type None struct{}

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
