// Package refuse says no to a person: what was tried, on what, why not, and what to do.
//
// Every room of the service refuses with an *Error; the caller at the rim turns it into a problem over HTTP (RFC 9457) or a line on a terminal.
package refuse

import (
	"errors"
	"fmt"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/store"
)

// Kind sorts errors by what the caller may do.
type Kind string

const (
	NotFound  Kind = "not-found"
	Invalid   Kind = "invalid"   // the request makes no sense
	Refused   Kind = "refused"   // it makes sense, and can't be done: see the findings
	TooLarge  Kind = "too-large" // the upload
	CutOff    Kind = "cut-off"   // the upload did not come whole
	Denied    Kind = "denied"    // no key, or not this key
	Forbidden Kind = "forbidden" // a key whose role does not allow it
	Foreign   Kind = "foreign"   // a page of another site asked for it
	Outdated  Kind = "outdated"  // host and service speak different protocols

	Unsupported Kind = "unsupported" // a body of a kind that is not taken here
	Unavailable Kind = "unavailable" // not now: later it may be
)

// Finding is what is wrong, for people: a package's, a plan's.
type Finding struct {
	Level, Device, File string
	Variant             string // of the device
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

// New makes a refusal.
func New(kind Kind, title, remedy, why string, args ...any) *Error {
	return &Error{Kind: kind, Title: title, Why: foreign.Fit(fmt.Sprintf(why, args...), maxWhy), Remedy: remedy}
}

// Missing turns the store's ErrNotFound into one that says what was looked for.
func Missing(err error, what, ref, remedy string) error {
	if errors.Is(err, store.ErrNotFound) {
		return New(NotFound, "find the "+what, remedy, "there is no %s %.200q in this workspace", what, ref)
	}
	return err
}

// Labels says what is wrong with labels.
func Labels(why error) *Error {
	return New(Invalid, "set the labels", "write name=value, such as branch=main", "%v", why)
}

// PlanFindings gives what was found with a plan.
func PlanFindings(in []planning.Finding) []Finding {
	out := make([]Finding, 0, len(in))
	for _, f := range in {
		out = append(out, Finding{Level: string(f.Level), Device: f.Device, Variant: f.Variant, What: f.What, Remedy: f.Remedy})
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
