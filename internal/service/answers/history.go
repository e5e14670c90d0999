package answers

// How a case came out before: on which builds, on which devices, and how often for no reason.

import (
	"context"

	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
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
	low, high := rate.Interval()
	return &Rate{Times: rate.Times, Of: rate.Of, Low: low, High: high, Runs: len(runs)}, nil
}
