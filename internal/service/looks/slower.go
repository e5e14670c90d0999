package looks

// What is slower, or needs more, than with the last good build.

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"tessellant/internal/core/report"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/triage"
	"tessellant/internal/service/answers"
	"tessellant/internal/store"
)

// SlowerThing is something that has grown on a device.
type SlowerThing struct {
	steps.Key
	triage.Change
	Leg, Device string
	Unit        string
	Build       answers.BuildRef // that it is held against
	Samples     [2]int           // before, now
}

// SlowerView is what of a run has grown.
type SlowerView struct {
	Run      store.Run
	Reading  bool
	Sentence string
	Things   []SlowerThing
	Looked   int // how many measures had values enough on both sides
	Measured int // how many there were
	Cut      bool
}

const (
	runsBack  = 30  // earlier runs on a device that are looked at
	maxThings = 500 // that are listed
)

// Slower holds what was measured in a run against what the same devices, set in the same way, measured with the last build before on which the same cases passed.
func (s *Looks) Slower(ctx context.Context, r store.Run) (v SlowerView, err error) {
	v.Run = r
	legs, err := s.rows(ctx, r, store.LookedMeasures)
	if err != nil {
		return v, err
	}
	var all []triage.Compared
	var things []SlowerThing
	builds := map[string]answers.BuildRef{}
	for _, l := range legs {
		v.Reading = v.Reading || l.unread()
		if l.looked == nil {
			continue
		}
		now, before, from, err := s.sides(ctx, r, l)
		if err != nil {
			return v, err
		}
		v.Measured += len(now)
		for _, k := range keys(now) {
			if len(before[k]) == 0 {
				continue
			}
			id := from[k]
			if _, ok := builds[id]; !ok {
				b, err := s.Store.BuildByID(ctx, r.WorkspaceID, id)
				if err != nil {
					return v, err
				}
				builds[id] = answers.RefOf(b)
			}
			all = append(all, triage.Compared{Before: before[k], Now: now[k]})
			things = append(things, SlowerThing{Key: k, Leg: l.ID, Device: l.Label(), Unit: unitOf(k.What), Build: builds[id], Samples: [2]int{len(before[k]), len(now[k])}})
		}
	}
	grown, looked := triage.SlowerOf(all)
	v.Looked = looked
	for i, c := range grown {
		things[i].Change = c
		v.Things = append(v.Things, things[i])
	}
	slices.SortFunc(v.Things, func(a, b SlowerThing) int {
		return cmp.Or(cmp.Compare(b.By/math.Max(b.Before, 1), a.By/math.Max(a.Before, 1)), cmp.Compare(a.Device, b.Device), cmp.Compare(a.Says(), b.Says()))
	})
	v.Cut = len(v.Things) > maxThings
	v.Sentence = slowerSentence(v)
	v.Things = v.Things[:min(len(v.Things), maxThings)]
	return v, nil
}

// sides gives the values of a leg's measures: those of its build, also of earlier runs on the device, and those of the last other build that has any. From says which that is.
func (s *Looks) sides(ctx context.Context, r store.Run, l leg) (now, before map[steps.Key][]float64, from map[steps.Key]string, err error) {
	now, before, from = map[steps.Key][]float64{}, map[steps.Key][]float64{}, map[steps.Key]string{}
	add := func(to map[steps.Key][]float64, raw []byte, wanted func(steps.Key) bool) error {
		var ms []steps.Measure
		if len(raw) == 0 {
			return nil
		}
		if err := json.Unmarshal(raw, &ms); err != nil {
			return err
		}
		for _, m := range ms {
			if wanted(m.Key()) {
				to[m.Key()] = append(to[m.Key()], m.Value)
			}
		}
		return nil
	}
	if err = add(now, l.looked.Measures, func(steps.Key) bool { return true }); err != nil {
		return now, before, from, err
	}
	mine := func(k steps.Key) bool { return len(now[k]) > 0 }
	old, err := s.Store.MeasuresBefore(ctx, l.looked.Subject, l.OnDevice, l.Conditions, r.ID, runsBack)
	if err != nil {
		return now, before, from, err
	}
	for _, o := range old {
		switch {
		case o.BuildID == r.BuildID:
			err = add(now, o.Measures, mine)
		case o.BuildID < r.BuildID: // ids are in the order of the uploads: what came later is no build before
			err = add(before, o.Measures, func(k steps.Key) bool {
				if mine(k) && from[k] == "" {
					from[k] = o.BuildID
				}
				return mine(k) && from[k] == o.BuildID
			})
		}
		if err != nil {
			break
		}
	}
	return now, before, from, err
}

func keys(of map[steps.Key][]float64) (out []steps.Key) {
	for k := range of {
		out = append(out, k)
	}
	slices.SortFunc(out, func(a, b steps.Key) int {
		return cmp.Or(cmp.Compare(a.What, b.What), cmp.Compare(a.Case, b.Case), cmp.Compare(a.Step, b.Step), a.Nth-b.Nth)
	})
	return out
}

func unitOf(what string) string {
	switch what {
	case steps.Memory:
		return "MB"
	case steps.LateFrames:
		return "%"
	}
	return "ms"
}

// What names what has grown.
func (t SlowerThing) What() string {
	at := ""
	if t.Step != "" {
		at = "“" + t.Step + "”"
		if t.Nth > 1 {
			at += fmt.Sprintf(" (%d)", t.Nth)
		}
	}
	switch t.Key.What {
	case steps.Start:
		return "the start of the app"
	case steps.ToStep:
		return "the way to " + at + " in “" + report.CaseTitle(t.Case) + "”"
	case steps.Memory:
		return "the memory at " + at + " in “" + report.CaseTitle(t.Case) + "”"
	}
	return "late frames in “" + report.CaseTitle(t.Case) + "”"
}

// Says says it in a sentence.
func (t SlowerThing) Says() string {
	value := func(v float64) string {
		if t.Unit == "ms" && v >= 10_000 {
			return fmt.Sprintf("%.1f s", v/1000)
		}
		return fmt.Sprintf("%.0f %s", v, t.Unit)
	}
	than := "takes %s longer than with %s (%s)"
	switch t.Key.What {
	case steps.Memory:
		than = "is %s more than with %s (%s)"
	case steps.LateFrames:
		than = "are %s more than with %s (%s)"
	}
	return fmt.Sprintf("%s: %s "+than+": %.0f %%.", t.Device, t.What(), value(t.By), t.Build.Version, value(t.Before), 100*t.By/math.Max(t.Before, 1e-9))
}

func slowerSentence(v SlowerView) string {
	switch n := len(v.Things); {
	case v.Looked == 0:
		return fmt.Sprintf("Nothing could be compared: no device has three values of a measure from this build, and three from a build before. This run took %s.", report.Many(v.Measured, "measure"))
	case n == 0:
		return fmt.Sprintf("Nothing is slower than before: %s were compared, and none has grown by more than noise.", report.Many(v.Looked, "measure"))
	case n == 1:
		return fmt.Sprintf("1 of %s has grown by more than noise.", report.Many(v.Looked, "measure"))
	default:
		return fmt.Sprintf("%d of %s have grown by more than noise.", n, report.Many(v.Looked, "measure"))
	}
}
