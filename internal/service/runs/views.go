package runs

// Runs as they stand: with their legs, and how those came out so far.

import (
	"context"
	"strconv"
	"strings"

	"tessellant/internal/core/report"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// RunView is a run with how its legs stand.
type RunView struct {
	store.Run
	Sentence  string
	Verdicts  []verdict.Verdict // of the legs, in no order; "" for those still going
	Stages    map[string]int    // legs that are not done
	CaseNames []string          // not in lists
	Legs      []LegView         // not in lists
	Lent      []store.LentTime  // not in lists
}

// LegView is a leg with its device, and the cases of its last attempt.
type LegView struct {
	store.LegRow
	Place int // of one that waits: in the queue, from 1
	Cases []store.CaseVerdict
	Names []string // of its cases, in the order of Cases' ordinals; nil: those of its run
}

// tallied puts to runs how their legs stand, without the legs.
func (s *Runs) tallied(ctx context.Context, runs []store.Run) ([]RunView, error) {
	var ids []string
	at := map[string]int{}
	out := make([]RunView, len(runs))
	for i, r := range runs {
		out[i] = RunView{Run: r, Stages: map[string]int{}}
		ids, at[r.ID] = append(ids, r.ID), i
	}
	tallies, err := s.Store.Tallies(ctx, ids)
	for _, t := range tallies {
		v := &out[at[t.RunID]]
		for range t.Legs {
			v.Verdicts = append(v.Verdicts, t.Verdict)
		}
		if t.Stage != "done" {
			v.Stages[t.Stage] += t.Legs
		}
	}
	if err != nil {
		return nil, err
	}
	said, err := s.Answers.Sentences(ctx, runs)
	for i := range out {
		out[i].Sentence = said[out[i].ID]
		if out[i].Sentence == "" {
			out[i].Sentence = report.Sentence(out[i].Request.V.LegsAre(), out[i].Verdicts)
		}
	}
	return out, err
}

// View is a run with those of its legs that wanted chooses; nil: all.
func (s *Runs) View(ctx context.Context, r store.Run, wanted map[string]bool) (RunView, error) {
	v := RunView{Run: r, Stages: map[string]int{}}
	names, kind, of, err := s.Specs.CasesOfRun(ctx, r)
	if err != nil {
		return v, err
	}
	v.CaseNames = names
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return v, err
	}
	if v.Lent, err = s.Store.LentTo(ctx, r.ID); err != nil {
		return v, err
	}
	var chosen []store.LegRow
	for _, l := range legs {
		if l.Stage == "done" {
			v.Verdicts = append(v.Verdicts, l.Verdict)
		} else {
			v.Verdicts = append(v.Verdicts, "")
			v.Stages[l.Stage]++
		}
		if wanted == nil || wanted[l.ID] {
			chosen = append(chosen, l)
		}
	}
	if v.Legs, err = s.legViews(ctx, chosen); err == nil && kind == work.Programs {
		err = s.asRun(ctx, &v, legs)
	}
	for i := range v.Legs {
		if of != nil {
			v.Legs[i].Names = of[string(v.Legs[i].SpecHash)]
		}
	}
	if err != nil {
		return v, err
	}
	if v.Sentence = report.Sentence(r.Request.V.LegsAre(), v.Verdicts); r.Ended.Valid {
		v.Sentence, err = s.Answers.Sentence(ctx, r)
	}
	return v, err
}

// asRun gives a run of a program the names of its cases: those that were seen to run, on whichever device. Each leg has names of its
// own, as what is said of it must stay true when another leg finds a case that it has not.
func (s *Runs) asRun(ctx context.Context, v *RunView, legs []store.LegRow) error {
	var attempts []string
	for _, l := range legs {
		if l.AttemptID.Valid {
			attempts = append(attempts, l.AttemptID.String)
		}
	}
	names, err := s.Store.CaseNames(ctx, attempts)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, a := range attempts {
		for _, n := range names[a] {
			if !seen[n] {
				seen[n] = true
				v.CaseNames = append(v.CaseNames, n)
			}
		}
	}
	for i := range v.Legs {
		l := &v.Legs[i]
		if l.Stage == "done" { // before, nobody knows how many there will be
			l.CasesTotal = len(v.CaseNames)
		}
		l.Names = names[l.AttemptID.String]
	}
	return nil
}

// legViews puts the cases to legs.
func (s *Runs) legViews(ctx context.Context, legs []store.LegRow) ([]LegView, error) {
	var attempts []string
	for _, l := range legs {
		if l.AttemptID.Valid {
			attempts = append(attempts, l.AttemptID.String)
		}
	}
	cases, err := s.Store.CaseVerdicts(ctx, attempts)
	if err != nil {
		return nil, err
	}
	out := make([]LegView, len(legs))
	for i, l := range legs {
		out[i] = LegView{LegRow: l, Cases: cases[l.AttemptID.String]}
		if out[i].Place, err = s.Queue.Place(ctx, l.Work); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Run finds a run by its id or its number; "newest" is the one started last.
func (s *Runs) Run(ctx context.Context, who store.Identity, id string) (RunView, error) {
	r, err := s.FindRun(ctx, who, id)
	if err != nil {
		return RunView{}, err
	}
	return s.View(ctx, r, nil)
}

// FindRun finds a run as Run does, without its legs.
func (s *Runs) FindRun(ctx context.Context, who store.Identity, id string) (r store.Run, err error) {
	if id == "newest" {
		var rows []store.Run
		if rows, err = s.Store.Runs(ctx, who.WorkspaceID, store.RunChoice{}, "", 1); err == nil && len(rows) == 0 {
			err = store.ErrNotFound
		} else if err == nil {
			r = rows[0]
		}
	} else if n, no := strconv.Atoi(strings.TrimPrefix(id, "#")); no == nil && n > 0 && len(id) < 11 {
		r, err = s.Store.RunByNumber(ctx, who.WorkspaceID, n)
	} else {
		r, err = s.Store.RunByID(ctx, who.WorkspaceID, id)
	}
	if err != nil {
		return r, refuse.Missing(err, "run", id, "see the runs with: tessellant run list")
	}
	return r, nil
}

// RunChoice says which runs are wanted: references or ids, a verdict; empty fields: any.
type RunChoice struct {
	Build, Package string
	Verdict        verdict.Verdict
	Labels         map[string]string
	StartedBy      string // the name of a key
	Search         string // words, all of which must occur in name, labels, references, pool or who started it
}

// ListRuns lists runs, the newest first.
func (s *Runs) ListRuns(ctx context.Context, who store.Identity, c RunChoice, after string, limit int) ([]RunView, string, error) {
	choice := store.RunChoice{Verdict: c.Verdict, Labels: c.Labels, StartedBy: c.StartedBy, Words: strings.Fields(strings.ToLower(c.Search))}
	if len(c.Labels)+len(choice.Words) > 20 || len(c.Search) > 500 {
		return nil, "", refuse.New(refuse.Invalid, "list the runs", "search for less", "that are too many words and labels; 20 is the most")
	}
	b, p, err := s.Plans.Named(ctx, who, c.Build, c.Package)
	if err != nil {
		return nil, "", err
	}
	choice.BuildID, choice.PackageID = b.ID, p.ID
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	rows, err := s.Store.Runs(ctx, who.WorkspaceID, choice, after, limit+1)
	rows, next, err := paging.Cut(rows, limit, err, func(r store.Run) string { return r.ID })
	if err != nil {
		return nil, "", err
	}
	views, err := s.tallied(ctx, rows)
	return views, next, err
}

// DeviceLegs lists the workspace's legs on a device, the newest first.
func (s *Runs) DeviceLegs(ctx context.Context, who store.Identity, serial, after string, limit int) ([]LegView, string, error) {
	d, err := s.Store.DeviceBySerial(ctx, serial)
	if err != nil {
		return nil, "", refuse.Missing(err, "device", serial, "see the devices with: tessellant device list")
	}
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	rows, err := s.Store.DeviceLegs(ctx, who.WorkspaceID, d.ID, after, limit+1)
	rows, next, err := paging.Cut(rows, limit, err, func(l store.LegRow) string { return l.ID })
	if err != nil {
		return nil, "", err
	}
	views, err := s.legViews(ctx, rows)
	return views, next, err
}

// Weight is about how many bytes a run's view takes, for the feed.
func (v RunView) Weight() (n int) {
	n = len(v.Legs) * feed.OneWeighs
	for _, l := range v.Legs {
		n += len(l.Message) + 16*len(l.Cases)
	}
	for _, c := range v.CaseNames {
		n += len(c)
	}
	return n
}
