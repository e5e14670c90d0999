package looks

// The same step on all devices, those that look alike stacked.

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"slices"

	"tessellant/internal/core/likeness"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// StepName is which step: of a case, the name, and of several of the name the number, from 1.
type StepName struct {
	Case, Name string
	Nth        int
}

// StepLine is a step of a run in the list of all.
type StepLine struct {
	StepName
	Legs   int // that came to it
	Stacks int // 0: too many to be counted in the list
	Odd    int // legs outside of the largest stack
	Moved  int // legs on which more differs from the reference than it allows
}

// StepsView is all steps of a run.
type StepsView struct {
	Run     store.Run
	Reading bool // not all of its legs were read: they go on, or came a moment ago
	Steps   []StepLine
	Cut     bool // there are more
}

const (
	maxLines    = 2000 // steps that are listed
	maxStacked  = 4000 // pictures whose stacks are counted in the list
	maxStepLegs = 2000 // on which one step is looked at
)

// StepOn is a step on one leg.
type StepOn struct {
	Leg     store.LegRow
	At      int64
	File    string // the picture's artifact, by its name
	Picture string // and by its id; "": it is gone, or none was kept
	Verdict verdict.Verdict
	Kind    string // of device; "": it is not known, and no reference can be kept
	Moved   *steps.Moved
	Remarks []remarks.Remark

	print *likeness.Print
}

// StepStack is legs on which a step looks alike.
type StepStack struct {
	Legs  []StepOn
	Apart float64 // from the largest stack
	Tint  bool    // its colours are others
}

// StepView is one step on all legs.
type StepView struct {
	Run store.Run
	StepName
	Stacks  []StepStack // the odd ones first, the largest last
	Unread  []StepOn    // whose pictures were not compared
	Without []string    // legs that never came to it, as they are called
	Reading bool
	Cut     bool // there are more legs
}

// steps reads what a leg showed.
func (l leg) steps() (out []stepSeen, err error) {
	if l.looked == nil || len(l.looked.Steps) == 0 {
		return nil, nil
	}
	return out, json.Unmarshal(l.looked.Steps, &out)
}

// Steps lists the steps of a run, each at the latest place that it had on a leg: so what some legs leave out stands before what all come to after it.
func (s *Looks) Steps(ctx context.Context, r store.Run) (v StepsView, err error) {
	v.Run = r
	legs, err := s.rows(ctx, r, store.LookedSteps)
	if err != nil {
		return v, err
	}
	type line struct {
		StepLine
		order  int
		prints []likeness.Print
	}
	at := map[StepName]*line{}
	pictures := 0
	seen := make([][]stepSeen, len(legs))
	for i, l := range legs {
		v.Reading = v.Reading || l.unread()
		if seen[i], err = l.steps(); err != nil {
			return v, err
		}
		for n, x := range seen[i] {
			name := StepName{x.Case, x.Name, x.Nth}
			if at[name] == nil {
				at[name] = &line{StepLine: StepLine{StepName: name}, order: n}
			}
			at[name].Legs++
			at[name].order = max(at[name].order, n)
			if x.Moved.Too() {
				at[name].Moved++
			}
			if x.Length > 0 {
				pictures++
			}
		}
	}
	if pictures <= maxStacked {
		for i, l := range legs {
			if err := s.prints(ctx, l, seen[i], func(x stepSeen, k steps.Look) {
				if k.Print != nil {
					p := at[StepName{x.Case, x.Name, x.Nth}]
					p.prints = append(p.prints, *k.Print)
				}
			}); err != nil {
				return v, err
			}
		}
		for _, x := range at {
			stacks := likeness.Stacks(x.prints)
			x.Stacks = len(stacks)
			for _, st := range stacks[:max(len(stacks)-1, 0)] {
				x.Odd += len(st.Of)
			}
		}
	}
	var all []*line
	for _, x := range at {
		all = append(all, x)
	}
	slices.SortFunc(all, func(a, b *line) int {
		return cmp.Or(a.order-b.order, cmp.Compare(a.Case, b.Case), cmp.Compare(a.Name, b.Name), a.Nth-b.Nth)
	})
	v.Cut = len(all) > maxLines
	for _, x := range all[:min(len(all), maxLines)] {
		v.Steps = append(v.Steps, x.StepLine)
	}
	return v, nil
}

// prints reads the looks of steps of a leg, whole.
func (s *Looks) prints(ctx context.Context, l leg, seen []stepSeen, each func(stepSeen, steps.Look)) error {
	by := map[int64]stepSeen{}
	for _, x := range seen {
		if x.Length > 0 {
			by[x.From] = x
		}
	}
	if len(by) == 0 {
		return nil
	}
	files, err := s.Store.Artifacts(ctx, l.AttemptID.String)
	if err != nil {
		return err
	}
	return s.each(ctx, files, tracks.Looks, func(in io.Reader) error {
		return steps.ReadLooks(in, func(k steps.Look, from, _ int64) error {
			if x, ok := by[from]; ok {
				each(x, k)
			}
			return nil
		})
	})
}

// Step gives one step on all legs of a run.
func (s *Looks) Step(ctx context.Context, r store.Run, name StepName) (v StepView, err error) {
	v.Run, v.StepName = r, name
	ons, err := s.ons(ctx, r, &v)
	if err != nil {
		return v, err
	}
	var prints []likeness.Print
	var read []StepOn
	for _, on := range ons {
		if on.print == nil {
			v.Unread = append(v.Unread, on)
			continue
		}
		prints, read = append(prints, *on.print), append(read, on)
	}
	for _, st := range likeness.Stacks(prints) {
		out := StepStack{Apart: st.Apart, Tint: st.Tint}
		for _, i := range st.Of {
			out.Legs = append(out.Legs, read[i])
		}
		v.Stacks = append(v.Stacks, out)
	}
	return v, nil
}

// ons gives the step of v on each leg that came to it, and says in v which others there are. It fails where none came and none can come any more.
func (s *Looks) ons(ctx context.Context, r store.Run, v *StepView) (ons []StepOn, err error) {
	legs, err := s.rows(ctx, r, store.LookedSteps)
	if err != nil {
		return nil, err
	}
	v.Nth = max(v.Nth, 1)
	v.Cut = len(legs) > maxStepLegs
	for _, l := range legs[:min(len(legs), maxStepLegs)] {
		v.Reading = v.Reading || l.unread()
		seen, err := l.steps()
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(seen, func(x stepSeen) bool { return (StepName{x.Case, x.Name, x.Nth}) == v.StepName })
		if i < 0 {
			v.Without = append(v.Without, l.Label())
			continue
		}
		on, err := s.on(ctx, l, seen[i])
		if err != nil {
			return nil, err
		}
		ons = append(ons, on)
	}
	if len(ons) == 0 && !v.Reading {
		return nil, refuse.New(refuse.NotFound, "show the step", "see all steps with: tessellant run steps "+r.ID, "no leg of this run came to the step %.100q of %.200q", v.Name, v.Case)
	}
	return ons, nil
}

// on is a step on a leg, with its look.
func (s *Looks) on(ctx context.Context, l leg, x stepSeen) (on StepOn, err error) {
	on = StepOn{Leg: l.LegRow, At: x.At, File: x.File, Verdict: x.Verdict, Moved: x.Moved}
	files, err := s.Store.Artifacts(ctx, l.AttemptID.String)
	if err != nil {
		return on, err
	}
	for _, f := range files {
		if f.Name == x.File {
			on.Picture = f.ID
		}
	}
	if x.Length > 0 {
		k, ok, err := s.lookAt(ctx, files, x)
		if err != nil {
			return on, err
		}
		if ok {
			on.print, on.Kind, on.Remarks = k.Print, k.Kind, k.Remarks
		}
	}
	return on, nil
}

// lookAt reads one look.
func (s *Looks) lookAt(ctx context.Context, files []store.Artifact, x stepSeen) (k steps.Look, ok bool, err error) {
	for _, f := range files {
		if f.Name != tracks.Looks || x.From+x.Length > f.Size {
			continue
		}
		in, err := s.Blobs.Read(ctx, f.BlobKey, x.From, x.Length)
		if err != nil {
			return k, false, err
		}
		defer in.Close()
		err = steps.ReadLooks(in, func(l steps.Look, _, _ int64) error { k, ok = l, true; return nil })
		return k, ok, err
	}
	return k, false, nil
}
