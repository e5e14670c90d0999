package hostlink

// What is gathered: how cases stand, and files, each known by its name.

import (
	"tessellant/internal/core/devices"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
)

// Progress is what changed: the stage, or a case that began or ended.
type Progress struct {
	Seq   int64
	Stage string      `json:",omitempty"`
	Case  *CaseResult `json:",omitempty"`
	Cases *int        `json:",omitempty"` // so many cases there are in the end: those behind were only seen for a time
	// Loan is what the device's lab knows of the attempt, where it lent the device.
	Loan *devices.Loan `json:",omitempty"`
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

// Now is what has just happened in an attempt.
type Now struct {
	Events  []timeline.Event // since the last time
	Frame   []byte           // the newest picture, as JPEG; nil: it has not changed
	FrameAt int64            // ms on the attempt's clock
}

// Artifact is a file to be kept.
type Artifact = tracks.Artifact
