// Package host sits beside devices and carries out the work on them.
//
// A Host finds the devices behind an adb server, tells the service of them,
// and takes the holds that the service gives it: it prepares the device, runs the
// package's cases, records what happens, hands the evidence in and leaves the
// device clean. It never sees the database: Link is all it knows of the
// service. What it gathers lies in its own folder until the service has it.
// In: holds. Out: reports, numbered, and artifacts.
package host

import (
	"context"
	"io"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

// Link is the service as a host sees it.
type Link interface {
	// Devices tells which devices the host sees now; those it no longer names are away.
	Devices(ctx context.Context, host string, seen []Seen) error
	// Holds lists the holds in force for this host.
	Holds(ctx context.Context, host string) ([]Hold, error)
	// Renew makes holds last longer, and answers those that are still this host's.
	Renew(ctx context.Context, host string, holds []string) ([]string, error)
	// Report tells of progress. A report with a number that was told before changes nothing.
	Report(ctx context.Context, hold string, p Progress) error
	// Live tells those who watch what has just happened; it may be lost.
	Live(ctx context.Context, hold Hold, now Live) error
	// Keep hands in an artifact; again, it takes the place of the first.
	Keep(ctx context.Context, hold Hold, a Artifact, r io.Reader) error
	// Close ends a hold.
	Close(ctx context.Context, hold string, c Closing) error
	// Fetch reads a build or a package.
	Fetch(ctx context.Context, key string) (io.ReadCloser, error)
	// Wake gives a channel on which something comes when there is new work.
	Wake(host string) (<-chan []byte, func())
}

// Seen is a device that a host sees.
type Seen struct {
	Facts devices.Facts
	State string // ready or unusable
	Why   string // of an unusable one, with the remedy
}

// Hold is one device given to a host for a leg, with all that the work needs.
type Hold struct {
	ID, RunID, LegID, AttemptID, WorkspaceID string
	Serial                                   string
	AppID, Activity                          string
	BuildKey                                 string
	BuildSize                                int64
	BuildSHA                                 string
	PackageKey                               string
	PackageSize                              int64
	LimitSeconds                             int
}

// Progress is what changed: the stage, or a case that began or ended.
type Progress struct {
	Seq   int64
	Stage string
	Case  *CaseResult
}

// CaseResult is how a case stands; without a verdict it has just begun.
type CaseResult struct {
	Ordinal                         int
	Name                            string
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

// Artifact is a file to be kept.
type Artifact struct{ Name, Kind, ContentType string }

// Closing is how an attempt ended.
type Closing struct {
	Verdict      verdict.Verdict
	Message      string
	ClockDoubtMS *int64
}
