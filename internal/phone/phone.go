// Package phone is what every device can do, whoever drives it.
//
// Phone is small: a driver must honour all of it. What only some devices can
// do are interfaces of their own: Logger, Clock, Keyboard, Settings, Settler, Waker, Permissions, Pixels, Fingers, Files,
// Heart, Storage, Fitness, Limited, Gauged, Proxied, Starter, Filmer, Touchable, Drawer, Passage. Of finds them once and gives a Unit, which is what the rest works with. Coordinates are pixels of the screen as it is held. Every call ends by
// the deadline of its context, and by one of the driver's own where that comes
// first. A device that has gone away gives *Lost; a device that says no gives
// *Refused; a text that it can't type gives *Untypable. All else is a fault of the driver
// or of the caller.
//
// phonetest is the suite that a driver passes.
package phone

import (
	"context"
	"crypto/x509"
	"fmt"
	"image"
	"io"
	"net"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
)

// App is a build to be installed.
type App struct {
	ID       string // the app's id, such as org.example.app
	Activity string // what a launcher starts; empty: the device is asked
	Page     string // the address of a page, which stands in place of an app
	Size     int64
	Open     func() (io.ReadCloser, error) // the build's file
	Args     map[string]string             // that Launch starts it with
}

// Key is a key of the device.
type Key string

const (
	Back   Key = "back"
	Home   Key = "home"
	Enter  Key = "enter"
	Delete Key = "delete" // deletes the character before the cursor
	End    Key = "end"    // moves the cursor behind the text
	Recent Key = "recent" // shows the apps that were used last
	Power  Key = "power"  // switches the screen off, and on
)

// Keys are all keys that can be pressed.
var Keys = []Key{Back, Home, Recent, Power, Enter, "tab", "escape", Delete, End, "search", "menu", "volume_up", "volume_down", "up", "down", "left", "right"}

// Phone is one device under control. It is safe for use by several goroutines.
type Phone interface {
	// Facts asks the device what it is.
	Facts(ctx context.Context) (devices.Facts, error)
	// Install installs the build, over an older one where there is one.
	Install(ctx context.Context, app App) error
	// Uninstall removes an app with its data. It is no error when there is none.
	Uninstall(ctx context.Context, id string) error
	// Launch starts the app, or brings it to the front, and returns when it is there.
	Launch(ctx context.Context, app App) error
	// Stop ends the app. It is no error when it does not run.
	Stop(ctx context.Context, id string) error
	// Clear ends the app and deletes its data.
	Clear(ctx context.Context, id string) error
	// Tree reads what is on the screen.
	Tree(ctx context.Context) (*uitree.Screen, error)
	// Screenshot gives the screen as a PNG.
	Screenshot(ctx context.Context) ([]byte, error)
	// Tap touches a point.
	Tap(ctx context.Context, x, y int) error
	// Swipe moves a finger from one point to another.
	Swipe(ctx context.Context, x1, y1, x2, y2 int, took time.Duration) error
	// Type enters text into what has the focus.
	Type(ctx context.Context, text string) error
	// Press presses keys, one after the other.
	Press(ctx context.Context, keys ...Key) error
	// Close lets go of the device. Calls after it fail.
	Close() error
}

// Logger is a phone with a log.
type Logger interface {
	// Log streams the device's log from a moment on its own clock, as text
	// lines that core/devicelog reads, until the reader is closed. A device that goes away ends it
	// with *Lost.
	Log(ctx context.Context, since time.Time) (io.ReadCloser, error)
	// Mark writes a line into the device's log, by which the stream can be
	// known to have come this far.
	Mark(ctx context.Context, text string) error
}

// Clock is a phone that tells its time.
type Clock interface {
	Now(ctx context.Context) (time.Time, error)
}

// Keyboard is a phone that says whether its keyboard covers the screen.
type Keyboard interface {
	KeyboardShown(ctx context.Context) (bool, error)
}

// Settings is a phone whose settings can be changed for a while.
type Settings interface {
	// Rotate turns the screen to landscape or portrait and returns when it is turned.
	Rotate(ctx context.Context, landscape bool) error
	// Dark switches the system's dark mode.
	Dark(ctx context.Context, on bool) error
	// Restore puts back all that was changed since the last time.
	Restore(ctx context.Context) error
}

// Conditioner is a phone that can be set as a test wants it.
type Conditioner interface {
	// Condition sets it so, and sees that it says so afterwards: until Restore, or, for the whole of an attempt, until Unsettle. App is the
	// app whose language is set; "": none. What it can't be set to is *Refused, and what was set by then is put back as all else is.
	Condition(ctx context.Context, app string, set conditions.Set, whole bool) error
}

// Settler is a phone that can be held still while a test runs: its screen stays on, and does not turn by itself.
type Settler interface {
	Settle(ctx context.Context) error
	// Unsettle puts everything back, also what Settings changed.
	Unsettle(ctx context.Context) error
	// UndoLeft puts back what a process left changed that has ended without Unsettle; nothing while a test runs.
	UndoLeft(ctx context.Context) error
}

// Waker is a phone whose screen may be off.
type Waker interface {
	// Wake switches the screen on and puts a lock away that has no secret. One that has is *Refused.
	Wake(ctx context.Context) error
}

// Permissions is a phone whose apps ask their user for permissions while they run. Install and Clear grant an app what its
// manifest asks for, as far as the phone lets them.
type Permissions interface {
	// Permitted says of each permission that the app asks its user for whether it has it; by the system's own names.
	Permitted(ctx context.Context, id string) (map[string]bool, error)
	// Named gives the system's own names for a permission by a plain word, such as location; nil: it knows none.
	Named(word string) []string
	// Answer answers the system's dialog that asks for a permission: for this one, as far as the caller knows. It says whether one was up.
	Answer(ctx context.Context, permission string, allow bool) (bool, error)
	// AsNew clears the app as Clear does, and leaves it without permissions: it asks for them.
	AsNew(ctx context.Context, id string) error
}

// Pixels is a phone that gives its screen without packing it. That saves both
// ends the work of a PNG, for ten times the bytes.
type Pixels interface {
	Pixels(ctx context.Context) (*image.RGBA, error)
	// QuickLink says whether the bytes cost less than the work.
	QuickLink() bool
}

// Filmer is a phone that films its own screen.
type Filmer interface {
	// Film streams the screen as H.264 in the byte stream format (ITU-T H.264, Annex B), a picture for each change, until the reader is closed; about so many
	// pixels along the screen's shorter side, and of at most so many bits a second. A phone may end it by itself, and many do after three minutes: io.EOF. One that
	// can't film is *Refused.
	Film(ctx context.Context, short, rate int) (io.ReadCloser, error)
}

// Gauged is a phone whose gauges (core/gauges) can be read while a test runs.
type Gauged interface {
	// Meter gives a way to read them that no command waits for. App is whose gauges are read besides the device's; "": none.
	Meter(app string) Meter
}

// Meter reads gauges. It is for use by one goroutine.
type Meter interface {
	// Read reads what there is to read in this moment, by the names of the gauges. Some cost the device more, and are read less often, unless all are wanted.
	Read(ctx context.Context, all bool) (map[string]float64, error)
	// Unread says how often what the phone said made no sense, by what was asked.
	Unread() map[string]int
	Close()
}

// Starter is a phone that says how an app came up.
type Starter interface {
	// Start is how Launch brought an app up last, such as "cold start, 412 ms"; "": it did not say.
	Start(id string) string
}

// Proxied is a phone whose apps can be led through a proxy of this machine.
type Proxied interface {
	// Proxy leads what its apps ask of the network to a port of this machine, until Unsettle. A phone that won't is *Refused.
	Proxy(ctx context.Context, port int) error
	// Trusts says whether somebody has told it to trust a certificate.
	Trusts(ctx context.Context, c *x509.Certificate) (bool, error)
}

// Contact is where a finger is at a moment.
type Contact struct {
	X, Y int
	At   time.Duration
}

// Stroke is the way of one finger, from where it touches to where it lifts. Between two contacts it moves in a straight line.
type Stroke []Contact

// Fingers is a phone that takes any way of a finger, and of several at once.
type Fingers interface {
	// Touch does all strokes, each at its times; the earliest contact is where time begins. What a device can't do is *Refused.
	Touch(ctx context.Context, strokes []Stroke) error
}

// Finger is where a finger is on the screen, told apart from others by its number.
type Finger struct{ ID, X, Y int }

// Hand is fingers on a phone's screen that move as a person moves theirs.
type Hand interface {
	// Place says which fingers touch now, and where. One that touched before and is not named lifts.
	Place(ctx context.Context, fingers []Finger) error
	// Close takes the hand away; fingers that touch still lift.
	Close() error
}

// Touchable is a phone on which fingers can be laid that move as a person moves theirs.
type Touchable interface {
	// LayHand makes a hand ready. One that is closed to it is *Refused: strokes that are over can still be done on it.
	LayHand(ctx context.Context) (Hand, error)
}

// Drawer is a phone that tells which apps its user has put on it.
type Drawer interface {
	Installed(ctx context.Context) ([]Installed, error)
}

// Installed is an app on a phone.
type Installed struct{ ID, Version string } // Version: its name; "": it was not told

// Files is a phone that takes and gives files.
type Files interface {
	// Put writes a file on the device.
	Put(ctx context.Context, path string, r io.Reader) error
	// Fetch reads a file of the device, of at most limit bytes. One that is not there, or is longer, is *Refused.
	Fetch(ctx context.Context, path string, limit int64) ([]byte, error)
	// Remove removes a file of the device; one that is not there, or that Put could not have written, is none.
	Remove(ctx context.Context, path string) error
}

// Lost says that the device went away, or does not answer any more: nothing is
// known about what it was doing.
type Lost struct {
	Serial string
	Doing  string
	Err    error
}

func (l *Lost) Error() string {
	return fmt.Sprintf("the device %s was lost while it should %s: %v", l.Serial, l.Doing, l.Err)
}

func (l *Lost) Unwrap() error { return l.Err }

// Refused says that the device would not do something, why, and what to do.
type Refused struct{ Doing, Code, Why, Remedy string }

func (r *Refused) Error() string {
	s := "the device would not " + r.Doing + ": " + r.Why
	if r.Code != "" {
		s += " (" + r.Code + ")"
	}
	if r.Remedy != "" {
		s += "; " + r.Remedy
	}
	return s
}

// Restless says that the screen moved all the time, so that what is on it could not be read.
type Restless struct {
	For  time.Duration  // how long it was waited for
	Last *uitree.Screen // the newest that could be read, nil when there is none
	Seen time.Time      // when that was read
}

func (r *Restless) Error() string {
	s := fmt.Sprintf("the screen has not come to rest for %d s", int(r.For.Round(time.Second).Seconds()))
	if r.Last == nil {
		return s + ", and was never read before"
	}
	return s + fmt.Sprintf("; what was on it %d s ago is known", int(time.Since(r.Seen).Round(time.Second).Seconds()))
}

// Webbed is a phone whose web views and browser can be spoken to by the DevTools protocol.
type Webbed interface {
	// WebViews lists where they listen now.
	WebViews(ctx context.Context) ([]WebView, error)
	// DialWeb connects to one.
	DialWeb(ctx context.Context, socket string) (net.Conn, error)
}

// WebView is where the web views of an app, or the browser, listen.
type WebView struct {
	Socket string // its name on the phone
	App    string // the app's id; "": it was not told
}

// Typist is a phone on which a keyboard of ours can be put, with which Type takes any text.
type Typist interface {
	// LayKeyboard installs the keyboard as an app, and chooses it until Unsettle. A phone that won't is *Refused.
	LayKeyboard(ctx context.Context) error
	// KeyboardApp is the id of that app, which stays until it is uninstalled.
	KeyboardApp() string
}

// Untypable says that the device can't type a text.
type Untypable struct {
	Text string
	Rune rune
}

func (u *Untypable) Error() string {
	return fmt.Sprintf("the device can't type %q: %q is not among the characters that its input command takes (printable ASCII); the keyboard helper types any text: --helper keyboard, or the capability tessellant:helpers", u.Text, u.Rune)
}

// Pause waits between two looks at a phone. It ends early, with the context's error, when that ends.
func Pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
