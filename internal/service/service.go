// Package service holds the use cases: access, builds, packages, devices, runs,
// and the dispatcher.
//
// It knows nothing of HTTP: callers give an Identity and values, and get rows or
// an *Error that says what was tried, why not, and what to do. A Service is also
// the hostlink.Link of the hosts it is in one process with.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tessellant/internal/blobs"
	"tessellant/internal/bus"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/store"
)

// Service is the use cases over what keeps the records and the bytes.
type Service struct {
	Store    *store.Store
	Blobs    *blobs.Store
	Bus      bus.Bus
	Log      *slog.Logger
	Version  string
	MaxBuild int64 // bytes of an upload; 0: 4 GiB
	Feed     Feed  // what changes, for those who watch
	// QuarantineLasts is how long a device that quarantined itself rests before a check can release it; 0: a minute.
	QuarantineLasts time.Duration
	logs            logShelf
	linked          sync.Once
	links           *link
	door            door
	queue           queue
	readers         sync.Once
	reads           chan struct{}
	// Reach is how hosts in other processes reach the bus.
	Reach Reach
}

// Reach is where the bus is for hosts in other processes.
type Reach struct {
	External string // a server of somebody's: its URL
	Address  string // a server of our own: where it listens
	Secret   bus.Secret
}

// Kind sorts errors by what the caller may do.
type Kind string

const (
	NotFound Kind = "not-found"
	Invalid  Kind = "invalid"   // the request makes no sense
	Refused  Kind = "refused"   // it makes sense, and can't be done: see the findings
	TooLarge Kind = "too-large" // the upload
	CutOff   Kind = "cut-off"   // the upload did not come whole
	Denied   Kind = "denied"    // no key, or not this key
	Foreign  Kind = "foreign"   // a page of another site asked for it
	Outdated Kind = "outdated"  // host and service speak different protocols

	Unsupported Kind = "unsupported" // a body of a kind that is not taken here
	Unavailable Kind = "unavailable" // not now: later it may be
)

// Finding is what is wrong, for people: a package's, a plan's.
type Finding struct {
	Level, Device, File string
	Line                int
	What, Remedy        string
}

// Error is a refusal for the person who will read it.
type Error struct {
	Kind     Kind
	Title    string // what was tried
	Why      string
	Remedy   string
	Findings []Finding
}

func (e *Error) Error() string {
	s := e.Title + ": " + e.Why
	if e.Remedy != "" {
		s += "; " + e.Remedy
	}
	return s
}

// maxWhy is how many bytes a reason may have: what somebody sent may stand in it.
const maxWhy = 4 << 10

func fail(kind Kind, title, remedy, why string, args ...any) *Error {
	return &Error{Kind: kind, Title: title, Why: foreign.Fit(fmt.Sprintf(why, args...), maxWhy), Remedy: remedy}
}

// notFound turns the store's ErrNotFound into one that says what was looked for.
func notFound(err error, what, ref, remedy string) error {
	if errors.Is(err, store.ErrNotFound) {
		return fail(NotFound, "find the "+what, remedy, "there is no %s %.200q in this workspace", what, ref)
	}
	return err
}

// PlanFindings gives what was found with a plan.
func PlanFindings(in []planning.Finding) []Finding {
	out := make([]Finding, 0, len(in))
	for _, f := range in {
		out = append(out, Finding{Level: string(f.Level), Device: f.Device, What: f.What, Remedy: f.Remedy})
	}
	return out
}

// PackageFindings gives what was found with a package.
func PackageFindings(in []testpkg.Finding) []Finding {
	out := make([]Finding, 0, len(in))
	for _, f := range in {
		out = append(out, Finding{Level: f.Level, File: f.File, Line: f.Line, What: f.What, Remedy: f.Remedy})
	}
	return out
}

// Ready says whether the service can do its work: whether the database answers.
func (s *Service) Ready(ctx context.Context) error { return s.Store.Ping(ctx) }
