package evidence

// Reports of test runners, as JUnit XML: taken in for sessions.

import (
	"context"
	"io"
	"time"

	"tessellant/internal/core/junit"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/sessions"
	"tessellant/internal/store"
)

const (
	maxReport      = 256 << 20 // bytes
	maxReportCases = 20_000    // that are kept of one
)

// ReportSession takes in a test runner's report of a session: its cases are put onto the session's clock by their times, and
// those the client marked itself keep their place.
func (s *Evidence) ReportSession(ctx context.Context, who store.Identity, id string, r io.Reader) (sessions.SessionView, error) {
	const title = "take in the report"
	x, err := s.Sessions.Session(ctx, who, id)
	if err != nil {
		return x, err
	}
	if !x.AttemptID.Valid {
		return x, refuse.New(refuse.Refused, title, "", "the session never had a device")
	}
	have, err := s.Store.Cases(ctx, x.AttemptID.String)
	if err != nil {
		return x, err
	}
	var told []junit.Case
	in := &io.LimitedReader{R: r, N: maxReport + 1}
	readErr := junit.Read(in, func(c junit.Case) error {
		if len(told) >= maxReportCases {
			return refuse.New(refuse.TooLarge, title, "report fewer cases per session", "it has more than %d cases", maxReportCases)
		}
		told = append(told, c)
		return nil
	})
	if in.N <= 0 {
		return x, refuse.New(refuse.TooLarge, title, "remove the output of the programs from it", "it is longer than %d bytes", maxReport)
	}
	if readErr != nil {
		return x, refuse.New(refuse.Invalid, title, "upload the complete JUnit XML of the test runner", "%v", readErr)
	}
	cases := married(told, have, x.Started.Time)
	if err := s.Store.PutCases(ctx, x.ID, x.AttemptID.String, "report", cases); err != nil {
		return x, err
	}
	s.Log.Info("a report was taken in", "session", x.ID, "cases", len(cases))
	s.Feed.SessionChanged(x.WorkspaceID, x.ID)
	return s.Sessions.Session(ctx, who, x.ID)
}

// married puts a report's cases onto a session's clock, and those that the client marked itself in their places.
func married(told []junit.Case, have []store.Case, began time.Time) []store.Case {
	told = junit.Apart(told)
	var marks []junit.Mark
	var marked []store.Case
	for _, c := range have {
		if c.Source != "report" {
			marks, marked = append(marks, junit.Mark{Name: c.Name, At: c.StartMS}), append(marked, c)
		}
	}
	at := make([]int64, len(told))
	for i, c := range told {
		at[i] = c.On(began, began)
	}
	out := make([]store.Case, len(told))
	pairs := junit.Pair(told, at, marks)
	for i, c := range told {
		one := store.Case{Ordinal: store.NewCase, Name: c.FullName(), Verdict: c.Verdict, Message: c.Message, Trace: c.Trace, Line: c.File, StartMS: at[i], TookMS: c.Took.Milliseconds()}
		if one.Verdict == verdict.Passed {
			one.Message, one.Trace = "", ""
		}
		if j := pairs[i]; j >= 0 { // it is called as the client called it: so it is on the timeline
			one.Ordinal, one.Name = marked[j].Ordinal, marked[j].Name
		}
		out[i] = one
	}
	return out
}
