// Package runner has what all runners share. A runner carries out one kind of content: runner/script, runner/program, runner/session.
//
// An attempt prepares the device and starts the recorders; its Runner does the rest. To add a kind of content, add a package below this
// one and a line in host/runners. In: a Kit. Out: cases in the casebook of the Kit, events on its timeline, and an error that says why
// it ended.
package runner

import (
	"context"
	"io/fs"
	"log/slog"
	"os"

	"tessellant/internal/core/masking"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/w3c"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/film"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/record"
	"tessellant/internal/host/spool"
	"tessellant/internal/host/turns"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
	"tessellant/internal/sandbox"
)

// Runner carries out one attempt's content.
type Runner interface {
	// Prepare is called when the device is ready and its app installed.
	Prepare(ctx context.Context) error
	// Run carries the content out. The error says why it ended before its end.
	Run(ctx context.Context) error
	// Judge gives the attempt's verdict. Err is what Run ended with, or what kept it from being called.
	Judge(err error) (verdict.Verdict, string)
	// Close writes what has not been written yet, and adds to the closing what only this kind of content knows.
	Close(end *hostlink.Closing)
}

// Maker makes one.
type Maker = func(*Kit) (Runner, error)

// Kit is what a runner works with.
type Kit struct {
	Hold hostlink.Hold
	Dir  string // the attempt's folder
	Log  *slog.Logger
	Mask *masking.Mask
	Room *spool.Share

	Unit      *lab.Unit   // the device, as it is
	Phone     *phone.Unit // its commands are noted
	App       phone.App   // the build; without an id: there is none
	Apps      *Apps
	Timeline  *record.Timeline
	DeviceLog *record.DeviceLog
	Gauges    *record.Gauges  // nil: they are not read
	Network   *record.Network // nil: the device's apps go their own ways
	Film      *film.Film      // nil: there is none
	Book      *casebook.Book
	Package   *Package // nil: the content is none

	// Stage goes into a stage.
	Stage func(name string)
	// Routes are ways from the device's apps to people's own machines. Lead leads its apps so that they find them, where they are not led so yet.
	Routes *record.Routes
	Lead   func(ctx context.Context) error
	// Turns says whose turn it is, the test's or that of people beside it.
	Turns *turns.Turns
	// Open lets the session be commanded until shut is called.
	Open func(ctx context.Context, end orders.Carrier) (s *orders.Served, shut func())
	// Stream takes up a stream that the service opened.
	Stream func(id string) (hostlink.Stream, error)
	// Box is where programs run, and About what the host says of that.
	Box   *sandbox.Box
	About func() hostlink.About
}

// NewTurns makes the turns of a test; pauses stand on its timeline.
func NewTurns(on *record.Timeline) *turns.Turns {
	t := turns.New()
	t.Note = func(name, answer, line string) {
		on.Note(timeline.Event{Kind: timeline.Marker, Name: name, Answer: answer, Line: line})
	}
	return t
}

// RemoteEnd is what a remote end over the attempt's device is made of.
func (k *Kit) RemoteEnd(id string, answer w3c.Capabilities, timeouts w3c.Timeouts, notes remoteend.Notes) remoteend.Config {
	c := remoteend.Config{ID: id, Answer: answer, Timeouts: timeouts, Phone: k.Unit.Unit, App: k.App, Builds: k.Apps.AnyBuild, Puts: k.Apps.Puts, Reaches: k.Apps.Reaches, Facts: k.Unit.Known, Notes: notes}
	if k.Network != nil {
		c.Network = k.Network.Set
	}
	return c
}

// Package is the package of an attempt, read.
type Package struct {
	*testpkg.Package
	Files fs.FS
	Zip   *os.File
}
