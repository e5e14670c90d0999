// Package work says what is to be done on a device, and on which.
//
// A piece of work is a row of the queue: a leg of a run, or a session. Whoever plans it writes its Spec and what it
// Wants; whoever does it, shows it or compares it reads those, and works nothing out again.
package work

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/recording"
)

// Kind is a kind of work.
type Kind string

// The kinds of work.
const (
	Leg     Kind = "leg"     // part of a run, on one device
	Session Kind = "session" // commanded from outside
)

// The kinds of content. The first two are those of packages.
const (
	Scripts  = "script"
	Programs = "program"
	Commands = "session" // of a W3C WebDriver client
	Hands    = "hands"   // of a person
)

// Spec is what is to be done.
type Spec struct {
	App        App               `json:"app"`
	Content    Content           `json:"content"`
	Cases      []string          `json:"cases,omitempty"`      // by name, in their order; of scripts
	Inputs     map[string]string `json:"inputs,omitempty"`     // those that are not secret, with the package's own values where none was given
	Secrets    []string          `json:"secrets,omitempty"`    // names of the secret inputs; their values are kept apart
	Variant    string            `json:"variant,omitempty"`    // the name of its conditions
	Conditions conditions.Set    `json:"conditions,omitempty"` // how the device is set; what is not in it stays as it is
	Beside     []App             `json:"beside,omitempty"`     // builds that are installed besides
	Put        []File            `json:"put,omitempty"`        // files of the package that are put onto the device
	Fetch      []string          `json:"fetch,omitempty"`      // files of the device that are kept afterwards
	Recording  recording.Set     `json:"recording"`
	Limits     Limits            `json:"limits"`
	Bounds     []gauges.Bound    `json:"bounds,omitempty"`  // passing one fails the case
	Helpers    []string          `json:"helpers,omitempty"` // that are installed for it: HelperKeyboard
	Routes     []string          `json:"routes,omitempty"`  // that are to be open before it begins, such as route.test:3000
	Remarks    string            `json:"remarks,omitempty"` // RemarksFail: what is wrong with a screen fails the case; "": it is told alone
}

// HelperKeyboard is a keyboard of ours that types any text.
const HelperKeyboard = "keyboard"

// Helpers are what can be installed on a device for a piece of work, where it allows that.
var Helpers = []string{HelperKeyboard}

// CheckHelpers says what is wrong with a list of them.
func CheckHelpers(all []string) error {
	for i, h := range all {
		if !slices.Contains(Helpers, h) {
			return fmt.Errorf("there is no helper %.50q; there is %s", h, strings.Join(Helpers, ", "))
		}
		if slices.Contains(all[:i], h) {
			return fmt.Errorf("the helper %s is there twice", h)
		}
	}
	return nil
}

// What remarks on the screens of a case do.
const (
	RemarksTell = "tell" // they are told alone
	RemarksFail = "fail" // they fail the case
)

// App is the build under test; the zero App: there is none.
type App struct {
	Build    string `json:"build,omitempty"` // its id
	Ref      string `json:"ref,omitempty"`   // its reference
	ID       string `json:"id,omitempty"`    // of the app, such as org.kelpline.app
	Activity string `json:"activity,omitempty"`
	Page     string `json:"page,omitempty"` // the address, where it is a page
	Size     int64  `json:"size,omitempty"` // bytes
	SHA256   string `json:"sha256,omitempty"`
}

// Content is what tests the app.
type Content struct {
	Kind         string         `json:"kind"`              // Scripts, Programs or Commands
	Package      string         `json:"package,omitempty"` // its id
	Ref          string         `json:"ref,omitempty"`
	SHA256       string         `json:"sha256,omitempty"`
	Capabilities map[string]any `json:"capabilities,omitempty"` // of Commands: those of the standard that were asked for
}

// File is a file of the package, and where it is put on the device.
type File struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Limits bound the work.
type Limits struct {
	Whole    Seconds `json:"whole"`              // for all of it, once the device is ready
	Idle     Seconds `json:"idle,omitempty"`     // without a command, of a session
	Confirm  int     `json:"confirm,omitempty"`  // how often a failed case is tried again
	Attempts int     `json:"attempts,omitempty"` // that it may have when devices are lost
}

// Seconds is a time as it is written down.
type Seconds float64

// Duration gives it as a duration.
func (s Seconds) Duration() time.Duration { return time.Duration(float64(s) * float64(time.Second)) }

// Wants says which devices will do: a certain one (and once that was tried in vain, one like it), or any that fits.
type Wants struct {
	Device string         `json:"device,omitempty"` // its id
	Like   bool           `json:"like,omitempty"`   // any that is like that one will do from the beginning
	Where  []string       `json:"where,omitempty"`  // patterns over traits; where no device is named
	Units  []string       `json:"units,omitempty"`  // serials, one of which it must be; none: any
	Needs  *devices.Needs `json:"needs,omitempty"`  // what the app needs of one
}
