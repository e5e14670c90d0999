package answers

// How a case came out before: on which builds, on which devices, and how often for no reason.

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/nearest"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// rate says how often some cases failed for no reason in a run and the last ones before it. Nil: nothing is known.
func (s *Answers) rate(ctx context.Context, f found, names []string, r store.Run) (*Rate, error) {
	var subjects []store.Subject
	mine := map[string]bool{}
	for _, n := range names[:min(len(names), 20)] {
		x := Subject(f.app, f.pkg, n)
		subjects, mine[string(x[:])] = append(subjects, x), true
	}
	var rate triage.Rate
	for _, x := range f.results {
		if mine[string(x.Subject)] {
			if rate.Of++; x.Verdict == verdict.Flaky {
				rate.Times++
			}
		}
	}
	tallies, err := s.Store.CaseTallies(ctx, subjects, r.ID, lately*len(subjects))
	if err != nil {
		return nil, err
	}
	runs := map[string]bool{r.ID: true}
	for _, t := range tallies {
		if !runs[t.RunID] && len(runs) >= lately {
			break
		}
		runs[t.RunID] = true
		rate.Times, rate.Of = rate.Times+t.Flaky, rate.Of+t.Judged
	}
	if rate.Of == 0 {
		return nil, nil
	}
	return rateOf(rate, len(runs)), nil
}

// History is how a case came out on builds and devices.
type History struct {
	Case, Package string
	App           string       // kelpline/android
	Builds        []BuildRef   // the newest first
	Devices       []HistoryRow // by serial
	Rate          *Rate        // how often it failed for no reason
	Quiet         int          // times in a row that it passed since it last failed for no reason
	QuietChance   float64      // of so many, were it still as flaky as before
	Bad           *Rate        // how often it failed
	Cut           bool         // older results are there, and are not shown
}

// HistoryRow is a device, set in some way.
type HistoryRow struct {
	Serial, Model, OS string
	System            string // as people write it
	Set               string // how it was set; "": as it is
	Cells             []HistoryCell
}

// HistoryCell is the newest result on a build.
type HistoryCell struct {
	Build     string // its id
	Verdict   verdict.Verdict
	Run, Leg  string
	Number    int
	Signature string
	Took      time.Duration
	Times     int // judged on this build
	Bad       int // of those, failed
	Flaky     int
}

// HistoryOf says of which case a history is wanted. Where app or package are empty, they are those of the newest run that there is.
type HistoryOf struct{ App, Package, Case string }

const maxHistoryBuilds = 60

// CaseHistory gives how a case came out.
func (s *Answers) CaseHistory(ctx context.Context, who store.Identity, q HistoryOf) (h History, err error) {
	const title = "show the history of the case"
	tried, err := s.Store.LastTried(ctx, who.WorkspaceID, q.App, q.Package)
	switch {
	case err != nil:
		return h, err
	case len(tried) == 0 && q.App+q.Package == "":
		return h, refuse.New(refuse.NotFound, title, "start one with: tessellant run start", "there is no run yet")
	case len(tried) == 0:
		return h, refuse.New(refuse.NotFound, title, "write the app as kelpline/android and the package by its name, or see the runs with: tessellant run list", "no run has the app %.200q and the package %.200q", cmp.Or(q.App, "any"), cmp.Or(q.Package, "any"))
	}
	var names, packages []string
	for _, t := range tried { // the newest that knows it
		p, err := s.Store.PackageByID(ctx, who.WorkspaceID, t.PackageID)
		if err != nil {
			return h, err
		}
		called, words := testpkg.Called(p.Cases.V, q.Case)
		names = append(names, words...)
		if len(called) == 0 { // a program's, or one that newer revisions no longer have
			called = []string{q.Case}
		}
		packages = append(packages, t.Package)
		for _, name := range called {
			rows, err := s.Store.Results(ctx, Subject(t.App, t.Package, name), "", maxResults+1)
			if err != nil {
				return h, err
			}
			if len(rows) == 0 {
				continue
			}
			h = History{Case: name, Package: t.Package, App: t.Slug + "/" + t.Platform}
			if len(rows) > maxResults {
				rows, h.Cut = rows[:maxResults], true
			}
			return h, s.lay(ctx, who, &h, rows)
		}
	}
	return h, refuse.New(refuse.NotFound, title, "see the cases with: tessellant package show "+packages[0]+"@newest"+nearest.Meant(q.Case, names), "no run that is over has a case %.300q of %s", q.Case, strings.Join(packages, ", "))
}

// lay lays results, the newest first, by builds and devices.
func (s *Answers) lay(ctx context.Context, who store.Identity, h *History, rows []store.Result) error {
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return err
	}
	devices := map[string]store.Device{}
	for _, d := range all {
		devices[d.ID] = d
	}
	builds := map[string]bool{}
	for _, r := range rows {
		builds[r.BuildID] = true
	}
	var ids []string
	for id := range builds {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b string) int { return cmp.Compare(b, a) })
	if len(ids) > maxHistoryBuilds {
		ids, h.Cut = ids[:maxHistoryBuilds], true
	}
	for _, id := range ids {
		b, err := s.buildRef(ctx, who.WorkspaceID, id)
		if err != nil {
			return err
		}
		h.Builds = append(h.Builds, *b)
	}
	numbers := map[string]int{}
	at := map[[2]string]int{}
	var flaky, bad triage.Rate
	runs, quiet, over := map[string]bool{}, 0, false
	for _, r := range rows {
		runs[r.RunID] = true
		bad.Of, flaky.Of = bad.Of+1, flaky.Of+1
		switch {
		case r.Verdict == verdict.Flaky:
			flaky.Times++
			over = true
		case r.Verdict != verdict.Passed:
			bad.Times++
		case !over:
			quiet++
		}
		if !slices.Contains(ids, r.BuildID) {
			continue
		}
		key := [2]string{r.DeviceID, r.Conditions}
		i, ok := at[key]
		if !ok {
			d := devices[r.DeviceID]
			i = len(h.Devices)
			at[key] = i
			h.Devices = append(h.Devices, HistoryRow{Serial: cmp.Or(d.Serial, "a device that is gone"), Model: strings.TrimSpace(d.Facts.V.Maker + " " + d.Facts.V.Model), OS: d.Facts.V.OS, System: d.Facts.V.System(), Set: r.Conditions})
		}
		row := &h.Devices[i]
		j := slices.IndexFunc(row.Cells, func(c HistoryCell) bool { return c.Build == r.BuildID })
		if j < 0 {
			if numbers[r.RunID] == 0 {
				run, err := s.Store.RunByID(ctx, who.WorkspaceID, r.RunID)
				if err != nil {
					return err
				}
				numbers[r.RunID] = run.Number
			}
			j = len(row.Cells)
			row.Cells = append(row.Cells, HistoryCell{Build: r.BuildID, Verdict: r.Verdict, Run: r.RunID, Leg: r.WorkID, Number: numbers[r.RunID], Signature: r.Signature, Took: time.Duration(r.TookMS) * time.Millisecond})
		}
		c := &row.Cells[j]
		c.Times++
		switch {
		case r.Verdict == verdict.Flaky:
			c.Flaky++
		case r.Verdict != verdict.Passed:
			c.Bad++
		}
	}
	slices.SortFunc(h.Devices, func(a, b HistoryRow) int { return cmp.Or(cmp.Compare(a.Serial, b.Serial), cmp.Compare(a.Set, b.Set)) })
	h.Rate, h.Bad = rateOf(flaky, len(runs)), rateOf(bad, len(runs))
	if flaky.Times > 0 {
		h.Quiet = quiet
		h.QuietChance = triage.Rate{Times: flaky.Times, Of: flaky.Of - quiet}.Quiet(quiet)
	}
	return nil
}

func rateOf(r triage.Rate, runs int) *Rate {
	low, high := r.Interval()
	return &Rate{Times: r.Times, Of: r.Of, Low: low, High: high, Runs: runs}
}
