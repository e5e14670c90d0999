// Package verdict says how a test came out, and rolls many verdicts up into one.
//
// It is the only place where the order of verdicts is written: a leg's verdict
// comes from its cases, a run's from its legs, and the exit code of the command
// line from the run's. In: verdicts. Out: a verdict, counts, an exit code.
package verdict

import (
	"fmt"
	"slices"
	"strings"
)

// Verdict is how a case, an attempt, a leg or a run came out. The empty
// verdict means that there is none yet.
type Verdict string

const (
	Crashed Verdict = "crashed" // the app died
	Failed  Verdict = "failed"  // the test says no
	Expired Verdict = "expired" // out of time
	Invalid Verdict = "invalid" // the package could not be started
	Lost    Verdict = "lost"    // device, host or lab went away: says nothing about the app
	Stopped Verdict = "stopped" // ended by a person
	Flaky   Verdict = "flaky"   // failed, then passed on the same device with nothing changed
	Passed  Verdict = "passed"
	Skipped Verdict = "skipped"
)

// Bounds of what is said with a verdict, in bytes. What is longer is cut.
const (
	MaxCaseName = 500
	MaxText     = 60_000  // of each text of a case
	MaxMessage  = 4 << 10 // of a leg, or of a session
)

// Order lists all verdicts, the one that decides a roll-up first.
var Order = []Verdict{Crashed, Failed, Expired, Invalid, Lost, Stopped, Flaky, Passed, Skipped}

// Known says whether v is one of the verdicts.
func (v Verdict) Known() bool { return slices.Contains(Order, v) }

// Bad says whether a verdict speaks against the app.
func (v Verdict) Bad() bool { return v == Crashed || v == Failed || v == Expired }

// OfTheApp says whether a verdict says anything of the app; what was lost, stopped, skipped or never started does not.
func (v Verdict) OfTheApp() bool { return v.Bad() || v == Passed || v == Flaky }

// Roll returns the first verdict of Order that occurs among vs; "skipped" only
// when all are. Empty verdicts are passed over; of nothing it makes nothing.
func Roll(vs ...Verdict) Verdict {
	for _, o := range Order {
		for _, v := range vs {
			if v == o {
				return o
			}
		}
	}
	return ""
}

// Counts says how often each verdict occurs.
type Counts map[Verdict]int

// Count tallies vs; empty verdicts are passed over.
func Count(vs ...Verdict) Counts {
	c := Counts{}
	for _, v := range vs {
		if v != "" {
			c[v]++
		}
	}
	return c
}

// String says how often each verdict occurs: "1 failed, 7 passed".
func (c Counts) String() string {
	var parts []string
	for _, v := range Order {
		if c[v] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c[v], v))
		}
	}
	return strings.Join(parts, ", ")
}

// Exit codes of the command line.
const (
	ExitPassed      = 0 // passed or flaky
	ExitAppFailed   = 1 // the app failed somewhere, whatever else happened
	ExitUsage       = 2 // wrong usage
	ExitNothingSaid = 3 // nothing worse than invalid, lost or stopped
	ExitUnreachable = 4 // the service can't be reached or refuses
)

// ExitCode is the command line's exit code for a run that ended with v.
func ExitCode(v Verdict) int {
	switch v {
	case Passed, Flaky:
		return ExitPassed
	case Crashed, Failed, Expired:
		return ExitAppFailed
	}
	return ExitNothingSaid
}
