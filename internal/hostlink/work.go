package hostlink

// What is to be done on a device, and what the host says of the devices.

import (
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
)

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
