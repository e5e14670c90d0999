// Package host sits beside devices and carries out the work on them.
//
// A Host finds the devices behind an adb server, tells the service of them,
// and takes the holds that the service gives it: it prepares the device, runs the
// package's cases, records what happens, hands the evidence in and leaves the
// device clean. It never sees the database: Link is all it knows of the
// service. All that it has to say of an attempt lies in its own folder first (see
// spool.go), until the service has it: a service that is away delays a leg's end, and nothing else.
// In: holds. Out: reports, numbered, and artifacts.
package host

import (
	"context"
	"errors"
	"io"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

// Protocol is the number of what hosts and the service say to each other. The
// service takes this one and the one before.
const Protocol = 1

// ErrOver says that the service has no use for what it was told: the attempt is not known
// any more. What was for it can be thrown away.
var ErrOver = errors.New("the service does not know this attempt")

// ErrFull says that the service has no room for evidence.
var ErrFull = errors.New("the service's storage is full")

// ErrUnfit says that the service can't take this piece, now or later: it is too long, or of no kind that is known there. It is left out, and said; trying again would not help.
var ErrUnfit = errors.New("the service can't take this")

// Link is the service as a host sees it.
type Link interface {
	// Devices tells what the host is and which devices it sees now; those it no longer names are away. It answers
	// the serials of those that must pass a check before they get work again.
	Devices(ctx context.Context, host string, about About, seen []Seen) (check []string, err error)
	// Holds lists the holds in force for this host; of those that are in hand already, it says no more than
	// their ids and whether they are to be stopped.
	Holds(ctx context.Context, host string, inHand []string) ([]Hold, error)
	// Renew makes holds last longer, and answers those that are still this host's.
	Renew(ctx context.Context, host string, holds []string) ([]string, error)
	// Report tells of progress. A report with a number that was told before changes nothing.
	Report(ctx context.Context, hold Hold, p []Progress) error
	// Live tells those who watch what has just happened; it may be lost.
	Live(ctx context.Context, hold Hold, now Live) error
	// Beside says that a folder of the host's lies on the disk on which the service keeps what is handed in: parts would be kept twice.
	Beside(dir string) bool
	// Append hands in a part of an artifact that is still being written: the bytes from offset on.
	Append(ctx context.Context, hold Hold, a Artifact, offset int64, part []byte) error
	// Keep hands in an artifact; again, it takes the place of the first, and of its parts.
	Keep(ctx context.Context, hold Hold, a Artifact, r io.Reader) error
	// Close ends a hold.
	Close(ctx context.Context, hold Hold, c Closing) error
	// Fetch reads the hold's build or package.
	Fetch(ctx context.Context, hold Hold, what Content) (io.ReadCloser, error)
	// FetchBuild reads any build of the hold's workspace, by its reference.
	FetchBuild(ctx context.Context, hold Hold, ref string) (io.ReadCloser, error)
	// Wake gives a channel on which something comes when there is new work.
	Wake(host string) (<-chan []byte, func())
	// Serve answers the orders that the service hands on to a host, until stop is called.
	Serve(host string, answer func(context.Context, Order) Result) (stop func(), err error)
}

// Content is what a hold is about.
type Content string

// What a host fetches.
const (
	Build   Content = "build"
	Package Content = "package"
)

// About is what a host can do besides.
type About struct {
	Isolation string            `json:",omitempty"` // of programs: tight, open; "": it runs none
	Why       string            `json:",omitempty"` // why not tight
	Runtimes  map[string]string `json:",omitempty"` // name → version
}

// Seen is a device that a host sees.
type Seen struct {
	Facts   devices.Facts
	State   string // ready or unusable
	Why     string // of an unusable one, with the remedy
	Checked bool   // it has just passed the check that the service asked for
}

// Hold is one device given to a host for a leg, or for a session, whose leg has its id, with all that the work needs.
type Hold struct {
	ID, RunID, LegID, AttemptID, WorkspaceID string
	Epoch                                    int // grows with each hold of the device
	Serial                                   string
	AppID, Activity                          string
	BuildSize                                int64
	BuildSHA, PackageSHA                     string // "": there is none
	LimitSeconds                             int
	Cases                                    []string // by name; those to be run
	Confirm                                  int      // how often a failed case is tried again
	Inputs                                   map[string]string
	Secrets                                  []string // to be masked wherever they come
	Stop                                     bool     // a person stopped the run
	Begun                                    bool     // something was reported of it already
	Session                                  *Session `json:",omitempty"` // nil: it is a leg's
	Program                                  bool     `json:",omitempty"` // the package is one
	Network                                  bool     `json:",omitempty"` // and may use it
	Build, Package                           string   `json:",omitempty"` // their references
	Besides                                  []string `json:",omitempty"` // ids of apps that were installed while it was worked on
}

// Session is what a session wants of its host.
type Session struct {
	Limit, Idle  time.Duration
	Video, Log   bool
	Landscape    *bool
	Dark         *bool
	Capabilities map[string]any // those of the standard that were asked for
	Answer       map[string]any // those of ours that are answered
}

// Progress is what changed: the stage, or a case that began or ended.
type Progress struct {
	Seq   int64
	Stage string      `json:",omitempty"`
	Case  *CaseResult `json:",omitempty"`
	Cases *int        `json:",omitempty"` // so many cases there are in the end: those behind were only seen for a time
}

// CaseResult is how a case stands; without a verdict it has just begun.
type CaseResult struct {
	Ordinal int
	Name    string
	Try
	Tries []Try `json:",omitempty"` // where there was more than one; the result is made of them
}

// Try is how one try of a case came out.
type Try struct {
	Verdict                         verdict.Verdict
	Message, Line, Expected, Actual string
	Trace                           string
	Shot, Tree                      string // artifacts
	StartMS, TookMS                 int64
}

// Live is what has just happened in an attempt.
type Live struct {
	Events  []timeline.Event // since the last time
	Frame   []byte           // the newest picture, as JPEG; nil: it has not changed
	FrameAt int64            // ms on the attempt's clock
}

// Bounds of what a host says, in bytes. The service cuts what is longer.
const (
	MaxCaseName = 500
	MaxText     = 60_000  // of each text of a case
	MaxMessage  = 4 << 10 // of a leg, or of a session
)

// Artifact is a file to be kept.
type Artifact struct{ Name, Kind, ContentType string }

// Closing is how an attempt ended.
type Closing struct {
	Verdict      verdict.Verdict
	Message      string
	ClockDoubtMS *int64
	// OurFault says that the host itself failed: it says nothing of the device, and another attempt would end the same.
	OurFault bool `json:",omitempty"`

	How           string          `json:",omitempty"` // a session ended: client, idle, limit, lost, stopped, crashed, never
	Marked        verdict.Verdict `json:",omitempty"` // what a session's client said of the whole
	MarkedMessage string          `json:",omitempty"`
}
