package runs

// A run again, or the part of it that matters.

import (
	"context"
	"path"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// AgainRequest says what of a run is wanted again; nothing: all of it, on the same devices.
type AgainRequest struct {
	Failed   bool     // what did not pass
	Families []string // their ids: only where these showed
	Cases    []string // patterns
	Devices  []string // serials, with the variant behind a slash where one is meant
	Build    string   // another one; "": the same
	Name     string   // "": the same
	Labels   map[string]string
	Secrets  map[string]string
}

// Saving is what a part of a run costs less than the whole, by what that took.
type Saving struct {
	Legs, OfLegs   int
	Cases, OfCases int           // counted once for each leg
	Part, Whole    time.Duration // on devices
	Saves          time.Duration
}

// Again makes of a run the request for the part of it that is wanted again, and says what that saves.
func (s *Runs) Again(ctx context.Context, who store.Identity, id string, a AgainRequest) (q plans.Request, saves Saving, err error) {
	const title = "run it again"
	r, err := s.FindRun(ctx, who, id)
	if err != nil {
		return q, saves, err
	}
	for _, p := range a.Cases {
		if _, err := path.Match(p, ""); err != nil {
			return q, saves, refuse.New(refuse.Invalid, title, "close the bracket", "the pattern %.100q can't be read", p)
		}
	}
	v, err := s.View(ctx, r, nil)
	if err != nil {
		return q, saves, err
	}
	var shown map[string][]string
	if len(a.Families) > 0 {
		if shown, err = s.Answers.Places(ctx, r, a.Families); err != nil {
			return q, saves, err
		}
	}
	took, err := s.took(ctx, v)
	if err != nil {
		return q, saves, err
	}
	k := r.Request.V
	q = plans.Request{Build: r.BuildID, Package: r.PackageID, LimitSeconds: r.LimitSeconds, Confirm: k.Confirm, Attempts: k.Attempts, Inputs: k.Inputs, Secrets: a.Secrets, Name: r.Name, Labels: a.Labels, Others: k.Others, Beside: k.Beside, Helpers: k.Helpers, Routes: k.Routes, Put: k.Put, Fetch: k.Fetch, Recording: k.Recording, Bounds: k.Bounds, Remarks: k.Remarks}
	if a.Build != "" {
		q.Build = a.Build
	}
	if a.Name != "" {
		q.Name = a.Name
	}
	if q.Labels == nil {
		q.Labels = r.Labels.V
	}
	alike := !slices.ContainsFunc(v.Legs, func(l LegView) bool { return l.Names != nil })
	if alike { // of all cases, those patterns say which
		q.Cases, q.Tags = k.Cases, k.Tags
	}
	some := a.Failed || len(a.Families) > 0 || len(a.Cases) > 0
	for i, l := range v.Legs {
		all := v.namesOf(i)
		saves.OfLegs, saves.OfCases = saves.OfLegs+1, saves.OfCases+len(all)
		saves.Whole += took[l.ID].whole
		if !onOne(a.Devices, l) || shown != nil && len(shown[l.ID]) == 0 {
			continue
		}
		line := store.Line{Device: "serial=" + l.Serial, Variant: l.Variant, Conditions: l.Set()}
		if some && !took[l.ID].program {
			for n, name := range all {
				if a.wants(name, verdictAt(l, n), l.Stage == "done", shown[l.ID]) {
					line.Cases = append(line.Cases, name)
				}
			}
			if len(line.Cases) == 0 {
				continue
			}
		} else {
			if some && !(shown != nil || a.Failed && l.Verdict != verdict.Passed && l.Verdict != verdict.Skipped && l.Verdict != verdict.Flaky) {
				continue
			}
			if line.Cases = all; took[l.ID].program || alike {
				line.Cases = nil // all that there are
			}
		}
		if line.Cases != nil {
			q.Cases, q.Tags = nil, nil
			saves.Cases += len(line.Cases)
		} else {
			saves.Cases += len(all)
		}
		saves.Legs++
		saves.Part += took[l.ID].of(line.Cases)
		q.Lines = append(q.Lines, line)
	}
	saves.Saves = max(0, saves.Whole-saves.Part)
	if len(q.Lines) == 0 {
		return q, saves, refuse.New(refuse.Refused, title, "see how it came out with: tessellant run show "+id, "nothing of run %d is what was chosen", r.Number)
	}
	q.Again = &store.AgainOf{Run: r.ID, Number: r.Number, What: a.what()}
	return q, saves, nil
}

// what says in a few words which part it is.
func (a AgainRequest) what() string {
	var parts []string
	if a.Failed {
		parts = append(parts, "what did not pass")
	}
	if n := len(a.Families); n == 1 {
		parts = append(parts, "one family")
	} else if n > 1 {
		parts = append(parts, "chosen families")
	}
	if len(a.Cases) > 0 {
		parts = append(parts, "chosen cases")
	}
	if len(a.Devices) > 0 {
		parts = append(parts, "chosen devices")
	}
	if len(parts) == 0 {
		return "all"
	}
	return strings.Join(parts, ", ")
}

// onOne says whether a leg is on one of the devices; of none, it is.
func onOne(devices []string, l LegView) bool {
	if len(devices) == 0 {
		return true
	}
	return slices.ContainsFunc(devices, func(d string) bool {
		serial, variant, has := strings.Cut(d, "/")
		return serial == l.Serial && (!has || variant == l.Variant)
	})
}

// wants says whether a case of a leg is wanted. Shown are the cases in which a chosen family showed there.
func (a AgainRequest) wants(name string, v verdict.Verdict, done bool, shown []string) bool {
	if a.Failed && (v == verdict.Passed || v == verdict.Flaky || v == verdict.Skipped || v == "" && !done) {
		return false
	}
	if len(a.Families) > 0 && !slices.Contains(shown, name) {
		return false
	}
	return len(a.Cases) == 0 || slices.ContainsFunc(a.Cases, func(p string) bool {
		whole, _, _ := strings.Cut(name, "/")
		x, _ := path.Match(p, name)
		y, _ := path.Match(p, whole)
		return x || y
	})
}

// namesOf are the names of a leg's cases.
func (v RunView) namesOf(leg int) []string {
	if v.Legs[leg].Names != nil {
		return v.Legs[leg].Names
	}
	return v.CaseNames
}

func verdictAt(l LegView, ordinal int) verdict.Verdict {
	for _, c := range l.Cases {
		if c.Ordinal == ordinal {
			return c.Verdict
		}
	}
	return ""
}

// times is how long a leg and its cases took.
type times struct {
	whole   time.Duration
	cases   map[string]time.Duration
	program bool
}

// of is how long some of the cases would take: theirs, and what is besides.
func (t times) of(cases []string) time.Duration {
	if cases == nil {
		return t.whole
	}
	out, all := t.whole, time.Duration(0)
	for _, d := range t.cases {
		all += d
	}
	out = max(0, out-all)
	for _, c := range cases {
		out += t.cases[c]
	}
	return out
}

// took says how long the legs of a run took on their devices.
func (s *Runs) took(ctx context.Context, v RunView) (map[string]times, error) {
	_, kind, _, err := s.Specs.CasesOfRun(ctx, v.Run)
	if err != nil {
		return nil, err
	}
	out := map[string]times{}
	var attempts []string
	of := map[string]string{}
	for _, l := range v.Legs {
		t := times{cases: map[string]time.Duration{}, program: kind == work.Programs}
		if l.Started.Valid && l.Ended.Valid {
			t.whole = max(0, l.Ended.Time.Sub(l.Started.Time))
		}
		out[l.ID] = t
		if l.AttemptID.Valid {
			attempts, of[l.AttemptID.String] = append(attempts, l.AttemptID.String), l.ID
		}
	}
	err = s.Store.EachOutcome(ctx, attempts, func(o store.Outcome) error {
		out[of[o.AttemptID]].cases[o.Name] = time.Duration(o.TookMS) * time.Millisecond
		return nil
	})
	return out, err
}
