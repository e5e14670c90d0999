package answers

// How an answer is found and kept.

import (
	"cmp"
	"context"
	"encoding/json"
	"regexp"
	"slices"

	"tessellant/internal/core/report"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/store"
)

// found is an answer with what it was made of.
type found struct {
	Answer
	app     store.App
	pkg     string
	results []store.Result
}

// Bounds of an answer. What is beyond is counted, and not listed.
const (
	maxFamilies = 200
	maxJoined   = 20
	maxListed   = 1000  // legs and cases of a family
	maxText     = 2000  // characters of a message
	maxResults  = 2000  // of a case's history that are looked at
	lately      = 30    // runs by which a case's rate is found
	maxOthers   = 2000  // devices that might tell
	maxGone     = 50    // families of before
	maxBuilds   = 500   // that a history goes back
	maxSpots    = 5_000 // failures of before that are looked at
)

// again is what a host puts behind the message of a failure that was seen in several tries.
var again = regexp.MustCompile(` \(the same in \d+ tries\)$`)

// failureOf is a failure as core/triage wants it: of a case that passed at last, its first.
func failureOf(leg int, b store.Bad) triage.Failure {
	f := triage.Failure{Leg: leg, Case: b.Name, Kind: b.Verdict, Message: again.ReplaceAllString(b.Message, ""), Trace: b.Trace}
	if b.Verdict == verdict.Flaky {
		for _, t := range b.Tries.V {
			if t.Verdict != verdict.Passed {
				f.Message, f.Trace = t.Message, t.Trace
				break
			}
		}
	}
	return f
}

// shotOf is the picture of a failure: of a case that passed at last, of its first failed try.
func shotOf(b store.Bad) string {
	for _, t := range b.Tries.V {
		if t.Verdict != verdict.Passed && t.Shot != "" {
			return t.Shot
		}
	}
	return b.Shot
}

// find works out what a run says as it stands.
func (s *Answers) find(ctx context.Context, r store.Run) (f found, err error) {
	build, err := s.Store.BuildByID(ctx, r.WorkspaceID, r.BuildID)
	if err != nil {
		return f, err
	}
	pkg, err := s.Store.PackageByID(ctx, r.WorkspaceID, r.PackageID)
	if err != nil {
		return f, err
	}
	f.app, f.pkg = store.App{WorkspaceID: r.WorkspaceID, Slug: build.Slug, Platform: build.Platform}, pkg.Name
	rows, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return f, err
	}
	legs := make([]triage.Leg, len(rows))
	var attempts []string
	at := map[string]int{} // legs by their attempts
	for i, l := range rows {
		legs[i] = triage.Leg{Device: l.Facts.V, Conditions: l.Set()}
		if l.AttemptID.Valid {
			attempts, at[l.AttemptID.String] = append(attempts, l.AttemptID.String), i
		}
	}
	judged := make([][]triage.Judged, len(rows))
	names := map[string]string{} // each once
	var of []string              // the results' cases
	err = s.Store.EachOutcome(ctx, attempts, func(o store.Outcome) error {
		name, ok := names[o.Name]
		if !ok {
			name, names[o.Name] = o.Name, o.Name
		}
		i := at[o.AttemptID]
		judged[i] = append(judged[i], triage.Judged{Case: name, Verdict: o.Verdict})
		if !counted(o.Verdict) {
			return nil
		}
		subject := Subject(f.app, f.pkg, name)
		of = append(of, name)
		f.results = append(f.results, store.Result{Subject: subject[:], RunID: r.ID, WorkID: rows[i].ID, DeviceID: rows[i].OnDevice, BuildID: r.BuildID, AttemptID: o.AttemptID, Variant: rows[i].Variant, Conditions: rows[i].Conditions, Verdict: o.Verdict, TookMS: o.TookMS})
		return nil
	})
	if err != nil {
		return f, err
	}
	var all triage.Gathered
	type seen struct {
		leg     int
		example store.Bad
	}
	first := map[string]seen{} // by signature
	signed := map[string]string{}
	err = s.Store.EachBad(ctx, attempts, func(b store.Bad) error {
		fail := failureOf(at[b.AttemptID], b)
		id := all.Add(fail)
		signed[b.AttemptID+"\x00"+b.Name] = id
		if have, ok := first[id]; !ok || fail.Leg < have.leg {
			b.Shot = shotOf(b)
			b.Message, b.Trace, b.Tries.V = cut(fail.Message), "", nil
			first[id] = seen{fail.Leg, b}
		}
		return nil
	})
	if err != nil {
		return f, err
	}
	for i := range f.results {
		f.results[i].Signature = signed[f.results[i].AttemptID+"\x00"+of[i]]
	}
	families := all.Families()
	others, serials, err := s.others(ctx, rows)
	if err != nil {
		return f, err
	}
	explained := triage.Explain(families[:min(len(families), maxFamilies)], legs, judged, others)
	f.LayBy = triage.LayBy(explained)
	f.Families, f.Gone, f.Over = []Family{}, []Gone{}, r.Ended.Valid
	for _, e := range explained {
		f.Families = append(f.Families, familyOf(e, rows, serials, func(id string) Example {
			x := first[id]
			return Example{Leg: rows[x.leg].ID, Attempt: x.example.AttemptID, Case: x.example.Name, Shot: x.example.Shot}
		}, first[e.ID].example.Message))
	}
	if err := s.standings(ctx, r, &f, rows, judged, families); err != nil {
		return f, err
	}
	for i := range f.Families {
		if x := &f.Families[i]; x.Kind == verdict.Flaky {
			if x.Rate, err = s.rate(ctx, f, x.Cases, r); err != nil {
				return f, err
			}
		}
	}
	// Of those that are as grave and as large, what is new comes first.
	slices.SortStableFunc(f.Families, func(a, b Family) int {
		isNew := func(x Family) int { return map[bool]int{true: 0, false: 1}[x.Standing == triage.New] }
		return cmp.Or(cmp.Compare(slices.Index(verdict.Order, a.Kind), slices.Index(verdict.Order, b.Kind)), cmp.Compare(len(b.Legs), len(a.Legs)), isNew(a)-isNew(b))
	})
	if err := s.marked(ctx, r, &f); err != nil {
		return f, err
	}
	f.Sentence = sentence(r, rows, f.Families)
	return f, nil
}

// counted says whether a verdict says something of the app.
func counted(v verdict.Verdict) bool {
	return v == verdict.Passed || v == verdict.Flaky || v == verdict.Failed || v == verdict.Crashed || v == verdict.Expired
}

func cut(text string) string {
	if r := []rune(text); len(r) > maxText {
		return string(r[:maxText]) + "…"
	}
	return text
}

// label is how a leg is called: its device, and how that was set where there are variants.
func label(l store.LegRow) string {
	serial := l.Serial
	if l.RanOn.Valid && l.RanOn.String != "" {
		serial = l.RanOn.String
	}
	if l.Variant != "" {
		serial += "/" + l.Variant
	}
	return serial
}

func familyOf(e triage.Explained, rows []store.LegRow, others []string, example func(string) Example, message string) Family {
	out := Family{ID: e.ID, Kind: e.Signature.Kind, Message: message, Pattern: e.Signature.Message, Cause: e.Signature.Cause, Frames: e.Signature.Frames, Cases: e.Cases[:min(len(e.Cases), maxListed)], Failures: len(e.Failures),
		Example: example(e.ID), Legs: []string{}, Devices: []string{}, signatures: []string{e.ID}}
	out.Title = e.Signature.Title(message)
	for _, i := range e.Legs[:min(len(e.Legs), maxListed)] {
		out.Legs, out.Devices = append(out.Legs, rows[i].ID), append(out.Devices, label(rows[i]))
	}
	for _, j := range e.Joined {
		out.signatures = append(out.signatures, j.Signature.ID())
		if len(out.Joined) < maxJoined {
			out.Joined = append(out.Joined, Joined{Pattern: j.Signature.Message, Own: j.Own, Other: j.Other, Failures: j.Failures})
		}
	}
	if r := e.Rule; r != nil {
		out.Rule = &Rule{Sentence: r.Sentence(out.Kind), Phrase: r.Phrase(), Literals: r.Literals, FailIn: r.FailIn, PassIn: r.PassIn, FailOut: r.FailOut, PassOut: r.PassOut, Chance: r.Chance}
		told := map[string]bool{r.Literals[0].Trait: true} // of a trait's threshold and its one value, the first
		for _, a := range r.Also {
			if !told[a[0].Trait] {
				told[a[0].Trait] = true
				out.Rule.Also = append(out.Rule.Also, (&triage.Rule{Literals: a}).Phrase())
			}
		}
	}
	if h := e.Hint; h != nil {
		out.Hint = &Hint{Device: others[h.Device], Sentence: h.Sentence(others[h.Device])}
	}
	return out
}

// others are devices that took no part, and could.
func (s *Answers) others(ctx context.Context, rows []store.LegRow) (out []triage.Leg, serials []string, err error) {
	took := map[string]bool{}
	for _, l := range rows {
		took[l.OnDevice] = true
	}
	all, err := s.Store.Devices(ctx, "", 0)
	for _, d := range all {
		if !took[d.ID] && len(out) < maxOthers {
			out, serials = append(out, triage.Leg{Device: d.Facts.V}), append(serials, d.Serial)
		}
	}
	return out, serials, err
}

// standings says of each family how it stands against the last legs before on the same devices, and since which build it shows.
func (s *Answers) standings(ctx context.Context, r store.Run, f *found, rows []store.LegRow, judged [][]triage.Judged, families []triage.Family) error {
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
	then := triage.Ran{Judged: map[triage.Spot]bool{}, Shown: map[string][]triage.Spot{}}
	newest := map[triage.Spot]string{} // the attempt that counts: ids are in the order of time, and so are the outcomes
	if err := s.Store.EachOutcome(ctx, attempts, func(o store.Outcome) error {
		if b := before[at[o.AttemptID]]; counted(o.Verdict) {
			spot := triage.Spot{Device: b.DeviceID, Set: b.Conditions, Case: o.Name}
			then.Judged[spot], newest[spot] = true, o.AttemptID
		}
		return nil
	}); err != nil {
		return err
	}
	var gathered triage.Gathered
	var spots []triage.Spot
	messages := map[string]string{}
	if err := s.Store.EachBad(ctx, attempts, func(b store.Bad) error {
		o := before[at[b.AttemptID]]
		spot := triage.Spot{Device: o.DeviceID, Set: o.Conditions, Case: b.Name}
		if len(spots) >= maxSpots || newest[spot] != b.AttemptID {
			return nil
		}
		fail := failureOf(at[b.AttemptID], b)
		if id := gathered.Add(fail); messages[id] == "" {
			messages[id] = cut(fail.Message)
		}
		spots = append(spots, spot)
		return nil
	}); err != nil {
		return err
	}
	old := gathered.Families()
	same := triage.Match(families, old)
	for i, o := range old {
		id := cmp.Or(same[i], o.ID)
		for _, j := range o.Failures {
			then.Shown[id] = append(then.Shown[id], spots[j])
		}
	}
	now := triage.Ran{Judged: map[triage.Spot]bool{}, Shown: map[string][]triage.Spot{}}
	for i, l := range rows {
		for _, c := range judged[i] {
			if counted(c.Verdict) {
				now.Judged[triage.Spot{Device: l.OnDevice, Set: l.Conditions, Case: c.Case}] = true
			}
		}
	}
	for _, x := range families {
		for _, i := range x.Legs {
			for _, c := range x.Cases {
				now.Shown[x.ID] = append(now.Shown[x.ID], triage.Spot{Device: rows[i].OnDevice, Set: rows[i].Conditions, Case: c})
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
		g := Gone{ID: o.ID, Kind: o.Signature.Kind, Title: o.Signature.Title(messages[o.ID]), Cases: o.Cases[:min(len(o.Cases), maxListed)], Standing: stands[o.ID], Devices: []string{}}
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
	builds := map[string]*triage.Seen{r.BuildID: {Build: r.BuildID, Shown: len(x.Legs)}}
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
			case slices.Contains(x.signatures, o.Signature):
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

func (s *Answers) buildRef(ctx context.Context, workspace, id string) (*BuildRef, error) {
	if id == "" {
		return nil, nil
	}
	b, err := s.Store.BuildByID(ctx, workspace, id)
	if err != nil {
		return nil, err
	}
	return &BuildRef{ID: b.ID, Ref: b.Ref(), Version: cmp.Or(b.VersionName, b.Ref())}, nil
}

// sentence is what the run says in one sentence.
func sentence(r store.Run, rows []store.LegRow, families []Family) string {
	var vs []verdict.Verdict
	for _, l := range rows {
		if l.Stage != "done" {
			vs = append(vs, "")
			continue
		}
		vs = append(vs, l.Verdict)
	}
	var groups []report.Group
	for _, x := range families {
		g := report.Group{Kind: x.Kind, Legs: len(x.Legs), Cases: x.Cases, Known: x.Excused}
		if x.Rule != nil {
			g.Where, g.All = x.Rule.Phrase, x.Rule.FailOut == 0
		}
		switch {
		case x.Standing == triage.New:
			g.Since = "new"
		case x.FirstBad != nil && x.LastGood != nil:
			g.Since = "since " + x.FirstBad.Version
		case x.FirstBad != nil && x.FirstBad.ID != r.BuildID:
			g.Since = "at least since " + x.FirstBad.Version
		}
		groups = append(groups, g)
	}
	return report.Answer(r.Request.V.LegsAre(), vs, groups)
}

// keep puts an answer, and each case's result, where they are found again.
func (s *Answers) keep(ctx context.Context, r store.Run, f found) error {
	t := store.Told{App: f.app, Answer: store.Answer{RunID: r.ID, Version: version, Sentence: f.Sentence}, Results: f.results}
	var err error
	if t.Answer.Answer, err = json.Marshal(f.Answer); err != nil {
		return err
	}
	written := map[string]bool{}
	for _, x := range f.Families {
		for _, id := range x.signatures {
			if !written[id] {
				written[id] = true
				t.Families = append(t.Families, store.FamilyIn{RunID: r.ID, Signature: id, Family: x.ID, BuildID: r.BuildID})
			}
		}
	}
	at := map[string]int{}
	for _, x := range f.results {
		i, ok := at[string(x.Subject)]
		if !ok {
			i = len(t.Tallies)
			at[string(x.Subject)] = i
			t.Tallies = append(t.Tallies, store.CaseTally{Subject: x.Subject, RunID: r.ID})
		}
		t.Tallies[i].Judged++
		switch x.Verdict {
		case verdict.Flaky:
			t.Tallies[i].Flaky++
		case verdict.Failed, verdict.Crashed, verdict.Expired:
			t.Tallies[i].Bad++
		}
	}
	return s.Store.PutAnswer(ctx, t)
}
