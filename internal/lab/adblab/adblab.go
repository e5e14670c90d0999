// Package adblab is the lab of what an adb server sees: phones at a cable, on the network, and emulators.
package adblab

import (
	"cmp"
	"context"
	"log/slog"
	"sync"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/core/devices"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
)

// Config is what the lab needs.
type Config struct {
	Called  string // its name; "": adb
	Server  *adb.Server
	Connect []string // devices on the network: address:port
	// Emulators are ports of this machine at which emulators are looked for: they tell the adb server at the usual port alone that they have started.
	Emulators []int
	Log       *slog.Logger
	// Apart says of a transport that its device is not to be listed: another lab looks after it (Apart gives it). Nil: all are listed.
	Apart func(transport string) bool
}

// Lab implements lab.Lab and lab.Pairer. A device is reached by a transport: what the adb server calls it.
type Lab struct {
	Config
	busy       func(serial string) bool
	connecting chan struct{}  // places for addresses that are tried
	care       sync.WaitGroup // looks at devices that go on beside the rest
	look       func(context.Context)

	mu       sync.Mutex
	ctx      context.Context          // of Watch
	retry    map[string]time.Time     // by address: when it is tried again
	units    map[string]*unit         // by transport: those under control
	said     map[string]devices.Facts // by transport: of all that ever said what they are
	asking   map[string]bool          // by transport: being asked what they are
	starting map[string]string        // by transport: the serial of one whose system is not up yet
	looks    map[string]closeLook     // by transport
	apart    map[string]lab.Device    // by transport: those that are not listed, as they were seen last
	toPass   map[string]bool          // serials that must pass a check; true: passed
}

type unit struct {
	device *android.Device
	phone  *phone.Unit
	facts  devices.Facts
	told   string // the serial that the device tells: others may tell the same
}

// Kind is how such devices are reached.
const Kind = "adb"

// Name implements lab.Lab.
func (l *Lab) Name() string { return cmp.Or(l.Called, lab.First) }

// Kind implements lab.Lab.
func (l *Lab) Kind() string { return Kind }

// Maker makes such labs.
func Maker(c Config) lab.Maker {
	return func(busy func(string) bool) lab.Lab { return New(c, busy) }
}

// New makes a lab. Busy says whether a device is at work.
func New(c Config, busy func(serial string) bool) *Lab {
	return &Lab{Config: c, busy: busy, connecting: make(chan struct{}, connectsAtOnce), look: func(context.Context) {}, ctx: context.Background(), retry: map[string]time.Time{}, units: map[string]*unit{},
		said: map[string]devices.Facts{}, asking: map[string]bool{}, starting: map[string]string{}, looks: map[string]closeLook{}, toPass: map[string]bool{}, apart: map[string]lab.Device{}}
}

// Pair implements lab.Pairer.
func (l *Lab) Pair(ctx context.Context, address, code string) error {
	return l.Server.Pair(ctx, address, code)
}

// PairByName implements lab.Pairer.
func (l *Lab) PairByName(ctx context.Context, name, password string) error {
	return l.Server.PairByName(ctx, name, password)
}
