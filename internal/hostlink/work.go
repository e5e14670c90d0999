package hostlink

// What is to be done on a device, and what the host says of the devices.

import (
	"maps"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
)

// Content is what a hold is about.
type Content string

// What a host fetches.
const (
	Build   Content = "build"
	Package Content = "package"
	// References are the references of the package's steps for the hold's kind of device: a zip, as core/steps reads it.
	References Content = "references"
)

// About is what a host can do besides.
type About struct {
	Isolation string            `json:",omitempty"` // of programs: tight, open; "": it runs none
	Why       string            `json:",omitempty"` // why not tight
	Runtimes  map[string]string `json:",omitempty"` // name → version
	// Certificate is the one by which its proxies open HTTPS, as PEM; "": they open none.
	Certificate string        `json:",omitempty"`
	Labs        []devices.Lab `json:",omitempty"` // where its devices come from
}

// Seen is a device that a host sees.
type Seen struct {
	Lab     string        `json:",omitempty"` // of the host, through which it is reached; "": adb
	Facts   devices.Facts // Serial: the one by which its lab knows it
	State   string        // ready or unusable
	Why     string        // of an unusable one, with the remedy
	Checked bool          // it has just passed the check that the service asked for
}

// Hold is one device given to a host for a piece of work, with all that the work needs.
type Hold struct {
	ID, AttemptID, WorkspaceID string
	WorkID                     string // of the leg, or the session
	RunID                      string `json:",omitempty"` // of a leg
	Kind                       work.Kind
	Epoch                      int               // grows with each hold of the device
	Lab, Serial                string            // of the device, as its host knows it
	Spec                       work.Spec         // what is to be done
	Secrets                    map[string]string `json:",omitempty"` // the values of the secret inputs, to be masked wherever they come
	Network                    bool              `json:",omitempty"` // a program may use the network
	OtherApps                  bool              `json:",omitempty"` // a session may stop and clear apps that were not installed for it
	Stop                       bool              `json:",omitempty"` // a person wants it to end
	Begun                      bool              `json:",omitempty"` // something was reported of it already
	Besides                    []string          `json:",omitempty"` // ids of apps that were installed while it was worked on
}

// Inputs are all inputs of the work, the secret ones too.
func (h Hold) Inputs() map[string]string {
	out := maps.Clone(h.Spec.Inputs)
	if out == nil {
		out = map[string]string{}
	}
	maps.Copy(out, h.Secrets)
	return out
}

// Release says how a device is given back.
type Release struct {
	Clean bool   // it was put back as it was found
	Why   string `json:",omitempty"` // it was not; it gets no more work until it has passed a check
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
