package answers

// How a run stands against what was before, and since which build its families show.

import (
	"cmp"
	"context"
	"slices"

	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/store"
)

const (
	maxGone   = 50    // families of before
	maxBuilds = 500   // that a history goes back
	maxSpots  = 5_000 // failures of before that are looked at
)

// standings says of each family how it stands against the last legs before on the same devices, and since which build it shows.
func (s *Answers) standings(ctx context.Context, r store.Run, f *found, rows []store.LegRow, judged [][]triage.Judged, families []triage.Family, all *gathered) error {
	before, err := s.Store.LastBefore(ctx, f.app, f.pkg, r.ID)
	if err != nil {
		return err
	}
	here := map[[2]string]bool{}
	for _, l := range rows {
		here[[2]string{l.OnDevice, l.Conditions}] = true
	}
	before = slices.DeleteFunc(before, func(b store.Before) bool { return !here[[2]string{b.DeviceID, b.Conditions}] })
	if len(before) == 0 {
		return nil
	}
	f.Before = baseline(before)
	if old, err := s.Store.RunByID(ctx, r.WorkspaceID, f.Before.Run); err == nil {
		f.Before.Number, f.Before.Build = old.Number, old.Request.V.Build
	}
	at := map[string]int{}
	var attempts []string
	for i, b := range before {
		attempts, at[b.AttemptID] = append(attempts, b.AttemptID), i
	}
	slices.Sort(attempts)
	then := triage.Ran{Judged: map[triage.Spot]bool{}}
	newest := map[triage.Spot]string{} // the attempt that counts: ids are in the order of time, and so are the outcomes
	if err := s.Store.EachOutcome(ctx, attempts, func(o store.Outcome) error {
		if b := before[at[o.AttemptID]]; o.Verdict.OfTheApp() {
			spot := triage.Spot{Device: b.DeviceID, Set: b.Conditions, Case: o.Name}
			then.Judged[spot], newest[spot] = true, o.AttemptID
		}
		return nil
	}); err != nil {
		return err
	}
	var was gathered
	if err := s.Store.EachBad(ctx, attempts, func(b store.Bad) error {
		o := before[at[b.AttemptID]]
		spot := triage.Spot{Device: o.DeviceID, Set: o.Conditions, Case: b.Name}
		if len(was.spots) < maxSpots && newest[spot] == b.AttemptID {
			was.add(at[b.AttemptID], spot, b)
		}
		return nil
	}); err != nil {
		return err
	}
	old := was.Families()
	same := triage.Match(families, old)
	then.Shown = was.shown(old, func(i int) string { return cmp.Or(same[i], old[i].ID) })
	now := triage.Ran{Judged: map[triage.Spot]bool{}, Shown: all.shown(families, func(i int) string { return families[i].ID })}
	for i, l := range rows {
		for _, c := range judged[i] {
			if c.Verdict.OfTheApp() {
				now.Judged[spotOf(l, c.Case)] = true
			}
		}
	}
	stands := triage.Since(now, then)
	for i := range f.Families {
		f.Families[i].Standing = stands[f.Families[i].ID]
		if err := s.history(ctx, r, f, &f.Families[i], rows); err != nil {
			return err
		}
	}
	serials := map[string]string{}
	for _, l := range rows {
		serials[l.OnDevice] = cmp.Or(l.RanOn.String, l.Serial)
	}
	for i, o := range old {
		if same[i] != "" || len(f.Gone) >= maxGone || o.Signature.Kind == verdict.Flaky {
			continue
		}
		g := Gone{ID: o.ID, Kind: o.Signature.Kind, Title: o.Signature.Title(was.first[o.ID].Message), Cases: o.Cases[:min(len(o.Cases), maxListed)], Standing: stands[o.ID], Devices: []string{}}
		for _, j := range o.Legs[:min(len(o.Legs), maxListed)] {
			name := serials[before[j].DeviceID]
			if before[j].Variant != "" {
				name += "/" + before[j].Variant
			}
			g.Devices = append(g.Devices, name)
		}
		f.Gone = append(f.Gone, g)
	}
	return nil
}

func baseline(before []store.Before) *Baseline {
	b, runs := &Baseline{}, map[string]bool{}
	for _, x := range before {
		b.Run, runs[x.RunID] = max(b.Run, x.RunID), true
	}
	b.Runs = len(runs)
	return b
}

// history says since which build a family shows, where it shows now: by its cases on these devices.
func (s *Answers) history(ctx context.Context, r store.Run, f *found, x *Family, rows []store.LegRow) error {
	shows := map[[2]string]bool{}
	in := map[string]bool{}
	for _, id := range x.Legs {
		in[id] = true
	}
	for _, l := range rows {
		if in[l.ID] {
			shows[[2]string{l.OnDevice, l.Conditions}] = true
		}
	}
	builds := map[string]*triage.Seen{r.BuildID: {Build: r.BuildID, Shown: x.On}}
	seen := func(build string) *triage.Seen {
		if builds[build] == nil {
			builds[build] = &triage.Seen{Build: build}
		}
		return builds[build]
	}
	if x.Kind == verdict.Flaky { // that it passes says nothing
		return nil
	}
	for _, name := range x.Cases[:min(len(x.Cases), 3)] {
		old, err := s.Store.Results(ctx, Subject(f.app, f.pkg, name), r.ID, maxResults)
		if err != nil {
			return err
		}
		for _, o := range old {
			switch {
			case !shows[[2]string{o.DeviceID, o.Conditions}]:
			case slices.Contains(x.Signatures, o.Signature):
				seen(o.BuildID).Shown++
			case o.Verdict == verdict.Passed:
				seen(o.BuildID).Passed++
			}
		}
	}
	var line []triage.Seen
	for _, b := range builds {
		if b.Build <= r.BuildID { // what was uploaded later is no past
			line = append(line, *b)
		}
	}
	slices.SortFunc(line, func(a, b triage.Seen) int { return cmp.Compare(a.Build, b.Build) }) // ids are in the order of the uploads
	good, bad, _ := triage.FirstBad(line[max(0, len(line)-maxBuilds):])
	var err error
	if x.FirstBad, err = s.buildRef(ctx, r.WorkspaceID, bad); err == nil {
		x.LastGood, err = s.buildRef(ctx, r.WorkspaceID, good)
	}
	return err
}

// RefOf gives a build as answers name it.
func RefOf(b store.Build) BuildRef {
	return BuildRef{ID: b.ID, Ref: b.Ref(), Version: cmp.Or(b.VersionName, b.Ref())}
}

func (s *Answers) buildRef(ctx context.Context, workspace, id string) (*BuildRef, error) {
	if id == "" {
		return nil, nil
	}
	b, err := s.Store.BuildByID(ctx, workspace, id)
	if err != nil {
		return nil, err
	}
	ref := RefOf(b)
	return &ref, nil
}
