package answers

// How an answer is found and kept.

import (
	"cmp"
	"context"
	"encoding/json"
	"regexp"
	"slices"

	"tessellant/internal/core/planning"
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
	maxListed   = 1000 // legs and cases of a family
	maxText     = 2000 // characters of a message
	maxResults  = 2000 // of a case's history that are looked at
	lately      = 30   // runs by which a case's rate is found
	maxOthers   = 2000 // devices that might tell
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

// example is one failure of a signature, with where it was.
type example struct {
	leg int
	store.Bad
}

// gathered are the failures of some legs, with where each was.
type gathered struct {
	triage.Gathered
	spots  []triage.Spot
	first  map[string]example   // by signatures: of the first leg
	signed map[[2]string]string // signatures, by attempt and case
}

func (g *gathered) add(leg int, spot triage.Spot, b store.Bad) {
	if g.first == nil {
		g.first, g.signed = map[string]example{}, map[[2]string]string{}
	}
	fail := failureOf(leg, b)
	id := g.Add(fail)
	g.spots, g.signed[[2]string{b.AttemptID, b.Name}] = append(g.spots, spot), id
	if have, ok := g.first[id]; !ok || leg < have.leg {
		b.Shot = shotOf(b)
		b.Message, b.Trace, b.Tries.V = cut(fail.Message), "", nil
		g.first[id] = example{leg, b}
	}
}

// shown says where families showed; they are called as it says.
func (g *gathered) shown(families []triage.Family, called func(i int) string) map[string][]triage.Spot {
	out := map[string][]triage.Spot{}
	for i, f := range families {
		id := called(i)
		for _, n := range f.Failures {
			out[id] = append(out[id], g.spots[n])
		}
	}
	return out
}

// attemptsOf gives the last attempts of legs, and which leg is whose.
func attemptsOf(rows []store.LegRow) (attempts []string, leg map[string]int) {
	leg = map[string]int{}
	for i, l := range rows {
		if l.AttemptID.Valid {
			attempts, leg[l.AttemptID.String] = append(attempts, l.AttemptID.String), i
		}
	}
	return attempts, leg
}

func spotOf(l store.LegRow, name string) triage.Spot {
	return triage.Spot{Device: l.OnDevice, Set: l.Conditions, Case: name}
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
	for i, l := range rows {
		legs[i] = triage.Leg{Device: l.Facts.V, Conditions: l.Set()}
	}
	attempts, at := attemptsOf(rows)
	var all gathered
	if err = s.Store.EachBad(ctx, attempts, func(b store.Bad) error {
		all.add(at[b.AttemptID], spotOf(rows[at[b.AttemptID]], b.Name), b)
		return nil
	}); err != nil {
		return f, err
	}
	judged := make([][]triage.Judged, len(rows))
	names := map[string]string{} // each once
	if err = s.Store.EachOutcome(ctx, attempts, func(o store.Outcome) error {
		name, ok := names[o.Name]
		if !ok {
			name, names[o.Name] = o.Name, o.Name
		}
		i := at[o.AttemptID]
		judged[i] = append(judged[i], triage.Judged{Case: name, Verdict: o.Verdict})
		if o.Verdict.OfTheApp() {
			subject := Subject(f.app, f.pkg, name)
			f.results = append(f.results, store.Result{Subject: subject[:], RunID: r.ID, WorkID: rows[i].ID, DeviceID: rows[i].OnDevice, BuildID: r.BuildID, AttemptID: o.AttemptID, Variant: rows[i].Variant, Conditions: rows[i].Conditions,
				Verdict: o.Verdict, Signature: all.signed[[2]string{o.AttemptID, name}], TookMS: o.TookMS})
		}
		return nil
	}); err != nil {
		return f, err
	}
	families := all.Families()
	others, serials, err := s.others(ctx, r.ID, rows)
	if err != nil {
		return f, err
	}
	explained := triage.Explain(families[:min(len(families), maxFamilies)], legs, judged, others)
	f.LayBy = triage.LayBy(explained)
	f.Families, f.Gone, f.Over = []Family{}, []Gone{}, r.Ended.Valid
	for _, e := range explained {
		f.Families = append(f.Families, familyOf(e, rows, serials, all.first[e.ID]))
	}
	if err := s.standings(ctx, r, &f, rows, judged, families, &all); err != nil {
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
		return cmp.Or(cmp.Compare(slices.Index(verdict.Order, a.Kind), slices.Index(verdict.Order, b.Kind)), cmp.Compare(b.On, a.On), isNew(a)-isNew(b))
	})
	if err := s.marked(ctx, r, &f); err != nil {
		return f, err
	}
	f.Sentence = sentence(r, rows, f.Families)
	return f, nil
}

func cut(text string) string {
	if r := []rune(text); len(r) > maxText {
		return string(r[:maxText]) + "…"
	}
	return text
}

func familyOf(e triage.Explained, rows []store.LegRow, others []string, first example) Family {
	out := Family{ID: e.ID, Kind: e.Signature.Kind, Title: e.Signature.Title(first.Message), Message: first.Message, On: len(e.Legs), Pattern: e.Signature.Message, Cause: e.Signature.Cause, Frames: e.Signature.Frames, Cases: e.Cases[:min(len(e.Cases), maxListed)], Failures: len(e.Failures),
		Example: Example{Leg: rows[first.leg].ID, Attempt: first.AttemptID, Case: first.Name, Shot: first.Shot}, Legs: []string{}, Devices: []string{}, Signatures: []string{e.ID}}
	for _, i := range e.Legs[:min(len(e.Legs), maxListed)] {
		out.Legs, out.Devices = append(out.Legs, rows[i].ID), append(out.Devices, rows[i].Label())
	}
	for _, j := range e.Joined {
		out.Signatures = append(out.Signatures, j.Signature.ID())
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

// others are devices that took no part, and could: one of the run's builds runs there.
func (s *Answers) others(ctx context.Context, run string, rows []store.LegRow) (out []triage.Leg, serials []string, err error) {
	builds, err := s.Store.BuildsOf(ctx, run)
	if err != nil {
		return nil, nil, err
	}
	runs := func(d store.Device) bool {
		return slices.ContainsFunc(builds, func(b store.Build) bool {
			lacks, _ := planning.NeedsOf(b.Facts.V).Unmet(d.Facts.V)
			return lacks == ""
		})
	}
	took := map[string]bool{}
	for _, l := range rows {
		took[l.OnDevice] = true
	}
	all, err := s.Store.Devices(ctx, "", 0)
	for _, d := range all {
		if !took[d.ID] && len(out) < maxOthers && runs(d) {
			out, serials = append(out, triage.Leg{Device: d.Facts.V}), append(serials, d.Serial)
		}
	}
	return out, serials, err
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
		g := report.Group{Kind: x.Kind, Legs: x.On, Cases: x.Cases, Known: x.Excused}
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
	t := store.Told{App: f.app, Answer: store.Answer{RunID: r.ID, Version: Version, Sentence: f.Sentence}, Results: f.results}
	var err error
	if t.Answer.Answer, err = json.Marshal(f.Answer); err != nil {
		return err
	}
	written := map[string]bool{}
	for _, x := range f.Families {
		for _, id := range x.Signatures {
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
		switch {
		case x.Verdict == verdict.Flaky:
			t.Tallies[i].Flaky++
		case x.Verdict.Bad():
			t.Tallies[i].Bad++
		}
	}
	return s.Store.PutAnswer(ctx, t)
}
