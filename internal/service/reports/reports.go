// Package reports writes what came of runs for people and tools elsewhere: a page that stands alone, rows of cases, JUnit XML.
//
// core/report and core/junit have the forms; this room gathers what they are filled with, leg by leg.
package reports

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"tessellant/internal/blobs"
	"tessellant/internal/core/report"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// Reports is that room.
type Reports struct {
	Store   *store.Store
	Blobs   *blobs.Store
	Runs    *runs.Runs
	Answers *answers.Answers
}

// maxTogether is how many runs one report may have.
const maxTogether = 50

// chosen finds the runs of a report, each once, in the order in which they are named.
func (s *Reports) chosen(ctx context.Context, who store.Identity, ids []string) (out []runs.RunView, err error) {
	if len(ids) > maxTogether {
		return nil, refuse.New(refuse.Invalid, "write the report", "name fewer", "%d runs are too many for one report; %d is the most", len(ids), maxTogether)
	}
	seen := map[string]bool{}
	for _, id := range ids {
		r, err := s.Runs.FindRun(ctx, who, id)
		if err != nil {
			return nil, err
		}
		if seen[r.ID] {
			continue
		}
		seen[r.ID] = true
		v, err := s.Runs.View(ctx, r, nil)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// EachRow gives every case of every leg of some runs.
func (s *Reports) EachRow(ctx context.Context, who store.Identity, ids []string, each func(report.Row) error) error {
	all, err := s.chosen(ctx, who, ids)
	if err != nil {
		return err
	}
	for _, v := range all {
		a, err := s.Answers.Of(ctx, v.Run)
		if err != nil {
			return err
		}
		of := map[string]answers.Family{} // by leg and case
		for _, f := range slices.Backward(a.Families) {
			for _, l := range f.Legs {
				for _, c := range f.Cases {
					of[l+"\x00"+c] = f
				}
			}
		}
		for _, l := range v.Legs {
			row := report.Row{Run: v.Number, RunID: v.ID, Build: v.Request.V.BuildFor(l.Facts.V.Platform), Package: v.Request.V.Package, Leg: l.ID, Device: cmp.Or(l.RanOn.String, l.Serial), Model: strings.TrimSpace(l.Facts.V.Maker + " " + l.Facts.V.Model), OS: l.Facts.V.OS, System: l.Facts.V.System(), Variant: l.Variant, Conditions: l.Conditions}
			n := 0
			if l.AttemptID.Valid {
				cases, err := s.Store.Cases(ctx, l.AttemptID.String)
				if err != nil {
					return err
				}
				for _, c := range cases {
					x := row
					x.Case, x.Verdict, x.TookMS, x.Message, x.Place = c.Name, c.Verdict, c.TookMS, c.Message, c.Line
					if c.Verdict == "" {
						continue // it still goes on
					}
					if f, ok := of[l.ID+"\x00"+c.Name]; ok && c.Verdict == f.Kind {
						x.Family, x.Excused = f.ID, f.Excused
					}
					n++
					if err := each(x); err != nil {
						return err
					}
				}
			}
			if n == 0 && l.Stage == "done" { // it says why there is nothing
				row.Case, row.Verdict, row.Message = "(no case)", l.Verdict, l.Message
				if err := each(row); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
