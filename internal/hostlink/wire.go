package hostlink

// What a host and the service say to each other when they are not in one process:
// calls over the bus, as JSON, and bytes over HTTP.

import (
	"errors"
	"fmt"
	"time"
)

// Call is one call of a host; fields that its kind does not need are empty.
type Call struct {
	Protocol int
	Token    string     // of the session that joining gave
	Kind     string     // devices, holds, renew, report, live, release, close
	About    *About     `json:",omitempty"`
	Seen     []Seen     `json:",omitempty"`
	Holds    []string   `json:",omitempty"`
	Hold     string     `json:",omitempty"`
	Reports  []Progress `json:",omitempty"`
	Live     *Now       `json:",omitempty"` // without its picture, which goes over HTTP
	Closing  *Closing   `json:",omitempty"`
	Release  *Release   `json:",omitempty"`
}

// Answer is the service's.
type Answer struct {
	Problem string   `json:",omitempty"` // why not
	Kind    string   `json:",omitempty"` // of the problem: over, full, stranger, unfit; "": try again
	Names   []string `json:",omitempty"`
	Holds   []Hold   `json:",omitempty"`
}

// Kinds of problems.
const (
	KindOver     = "over"     // ErrOver
	KindFull     = "full"     // ErrFull
	KindStranger = "stranger" // this session is not known: join again
	KindUnfit    = "unfit"    // ErrUnfit
)

// Welcome is what joining gives.
type Welcome struct {
	Name        string    `json:"name"` // the key's
	Token       string    `json:"token"`
	BusURL      string    `json:"bus_url"` // without a user where it is somebody's server: the host has its own there
	BusUser     string    `json:"bus_user"`
	BusPassword string    `json:"bus_password"`
	Now         time.Time `json:"now"`
}

// KindOf is the kind of problem that an error is to a host; "": try again.
func KindOf(err error) string {
	for _, k := range kinds {
		if errors.Is(err, k.err) {
			return k.kind
		}
	}
	return ""
}

// Err is the answer's problem as an error, nil where there is none. A stranger's is ErrStranger.
func (a Answer) Err() error {
	if a.Problem == "" {
		return nil
	}
	for _, k := range kinds {
		if a.Kind == k.kind {
			return fmt.Errorf("%w: %s", k.err, a.Problem)
		}
	}
	return errors.New(a.Problem)
}

// ErrStranger says that the service does not know the session of the host that asks: it must join again.
var ErrStranger = errors.New("this session is not known: the host must join again")

var kinds = []struct {
	kind string
	err  error
}{{KindStranger, ErrStranger}, {KindOver, ErrOver}, {KindFull, ErrFull}, {KindUnfit, ErrUnfit}}
