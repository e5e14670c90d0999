package host

// What a host and the service say to each other when they are not in one process:
// calls over the bus, as JSON, and bytes over HTTP.

import "time"

// Call is one call of a host; fields that its kind does not need are empty.
type Call struct {
	Protocol int
	Token    string     // of the session that joining gave
	Kind     string     // devices, holds, renew, report, live, close
	Seen     []Seen     `json:",omitempty"`
	Holds    []string   `json:",omitempty"`
	Hold     string     `json:",omitempty"`
	Reports  []Progress `json:",omitempty"`
	Live     *Live      `json:",omitempty"` // without its picture, which goes over HTTP
	Closing  *Closing   `json:",omitempty"`
}

// Answer is the service's.
type Answer struct {
	Problem string   `json:",omitempty"` // why not
	Kind    string   `json:",omitempty"` // of the problem: over, full, stranger, protocol; "": try again
	Names   []string `json:",omitempty"`
	Holds   []Hold   `json:",omitempty"`
}

// Kinds of problems.
const (
	KindOver     = "over"     // ErrOver
	KindFull     = "full"     // ErrFull
	KindStranger = "stranger" // this session is not known: join again
	KindProtocol = "protocol" // the service does not speak this host's protocol
)

// Welcome is what joining gives.
type Welcome struct {
	Name        string    `json:"name"` // the key's
	Token       string    `json:"token"`
	BusURL      string    `json:"bus_url"`
	BusUser     string    `json:"bus_user"`
	BusPassword string    `json:"bus_password"`
	Now         time.Time `json:"now"`
}
