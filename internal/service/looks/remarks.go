package looks

// Remarks on the screens of a run, put together into families.

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"tessellant/internal/core/remarks"
	"tessellant/internal/core/report"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/work"
	"tessellant/internal/store"
)

// RemarkFamily is the remarks that are the same: of one kind, on one element.
type RemarkFamily struct {
	ID       string
	Kind     remarks.Kind
	What     string // the element
	Says     string // of the first of them
	Rule     string // which devices, in a sentence; "": nothing sets them apart, or all have it
	On       int
	Legs     []string // the first of them
	Devices  []string // as they are called
	Steps    []StepName
	Example  RemarkExample
	Elements int // remarks in all
}

// RemarkExample is where a family was seen.
type RemarkExample struct {
	Leg, Device string
	Case, Step  string
	At          int64
	Picture     string // the artifact's id; "": there is none
	remarks.Remark
}

// RemarksView is what is wrong with the screens of a run, though nobody wrote a test for it.
type RemarksView struct {
	Run      store.Run
	Reading  bool // not all of its legs were read
	Sentence string
	Families []RemarkFamily
	Looked   int // screens
	Cut      bool
}

const (
	maxFamilies = 200
	maxListed   = 1000
	maxAcross   = 20_000 // screens that are held against each other
)

// spotted is a remark on a leg.
type spotted struct {
	leg int
	remarkSeen
}

// Remarks gives the remarks on the screens of a run.
func (s *Looks) Remarks(ctx context.Context, r store.Run) (v RemarksView, err error) {
	if v, ok := s.remembered(r.ID); ok {
		return v, nil
	}
	v.Run = r
	legs, err := s.rows(ctx, r, store.LookedSteps, store.LookedRemarks)
	if err != nil {
		return v, err
	}
	all, at, err := s.spotted(ctx, legs, &v)
	if err != nil {
		return v, err
	}
	type key struct {
		kind remarks.Kind
		key  string
	}
	families := map[key][]spotted{}
	var order []key
	for _, x := range all {
		k := key{x.Kind, x.Key}
		if families[k] == nil {
			order = append(order, k)
		}
		families[k] = append(families[k], x)
	}
	for _, k := range order {
		v.Families = append(v.Families, s.family(families[k], legs, at))
	}
	slices.SortStableFunc(v.Families, func(a, b RemarkFamily) int {
		return cmp.Or(remarks.Order(a.Kind, b.Kind), b.On-a.On, cmp.Compare(a.What, b.What))
	})
	v.Cut = len(v.Families) > maxFamilies
	v.Families = v.Families[:min(len(v.Families), maxFamilies)]
	for i := range v.Families {
		if err := s.picture(ctx, legs, &v.Families[i].Example); err != nil {
			return v, err
		}
	}
	v.Sentence = remarksSentence(v)
	if r.Ended.Valid && !v.Reading {
		s.remember(r.ID, v)
	}
	return v, nil
}

// spotted gives all remarks of a run: those of each screen, and those that the same step on other devices shows. At says which legs were looked at, by steps.
func (s *Looks) spotted(ctx context.Context, legs []leg, v *RemarksView) (all []spotted, at map[[2]string]map[int]bool, err error) {
	at = map[[2]string]map[int]bool{}
	places := map[StepName][]remarks.Place{}
	whose := map[StepName][]spotted{}
	var names []StepName
	for i, l := range legs {
		v.Reading = v.Reading || l.unread()
		if l.looked == nil {
			continue
		}
		if len(l.looked.Remarks) > 0 {
			var seen []remarkSeen
			if err := json.Unmarshal(l.looked.Remarks, &seen); err != nil {
				return nil, nil, err
			}
			for _, x := range seen {
				all = append(all, spotted{i, x})
			}
		}
		seen, err := l.steps()
		if err != nil {
			return nil, nil, err
		}
		if err := s.prints(ctx, l, seen, func(x stepSeen, k steps.Look) {
			if k.Seen == nil {
				return
			}
			v.Looked++
			if at[[2]string{x.Case, x.Name}] == nil {
				at[[2]string{x.Case, x.Name}] = map[int]bool{}
			}
			at[[2]string{x.Case, x.Name}][i] = true
			if v.Looked > maxAcross {
				return
			}
			n := StepName{x.Case, x.Name, x.Nth}
			if places[n] == nil {
				names = append(names, n)
			}
			places[n] = append(places[n], remarks.Place{Seen: *k.Seen, Device: l.OnDevice})
			whose[n] = append(whose[n], spotted{i, remarkSeen{Case: x.Case, Step: x.Name, At: x.At, File: x.File}})
		}); err != nil {
			return nil, nil, err
		}
	}
	for _, n := range names {
		for i, rs := range remarks.Across(places[n]) {
			for _, x := range rs {
				y := whose[n][i]
				y.Remark = x
				all = append(all, y)
			}
		}
	}
	return all, at, nil
}

// family is the remarks of one kind on one element.
func (s *Looks) family(of []spotted, legs []leg, at map[[2]string]map[int]bool) RemarkFamily {
	first := of[0]
	f := RemarkFamily{ID: remarkID(first.Remark), Kind: first.Kind, What: first.What, Says: first.Says, Elements: len(of),
		Example: RemarkExample{Leg: legs[first.leg].ID, Device: legs[first.leg].Label(), Case: first.Case, Step: first.Step, At: first.At, Picture: first.File, Remark: first.Remark}}
	shows, looked := map[int]bool{}, map[int]bool{}
	seen := map[StepName]bool{}
	for _, x := range of {
		shows[x.leg], looked[x.leg] = true, true
		for i := range at[[2]string{x.Case, x.Step}] {
			looked[i] = true
		}
		if n := (StepName{Case: x.Case, Name: x.Step}); !seen[n] && len(seen) < maxListed {
			seen[n] = true
			f.Steps = append(f.Steps, n)
		}
	}
	var has []bool
	var some []triage.Leg
	for i, l := range legs {
		if shows[i] {
			if f.On++; len(f.Legs) < maxListed {
				f.Legs, f.Devices = append(f.Legs, l.ID), append(f.Devices, l.Label())
			}
		}
		if looked[i] {
			has, some = append(has, shows[i]), append(some, triage.Leg{Device: l.Facts.V, Conditions: l.Set()})
		}
	}
	if rule := triage.Why(has, triage.TraitsOf(some)); rule != nil {
		f.Rule = rule.Says("shows it", "show it")
	}
	return f
}

// remarkID is by what a family of remarks is known in other runs.
func remarkID(r remarks.Remark) string {
	sum := sha256.Sum256([]byte(string(r.Kind) + "\x00" + r.Key))
	return hex.EncodeToString(sum[:8])
}

// picture finds the picture of an example; its name is where the id comes.
func (s *Looks) picture(ctx context.Context, legs []leg, x *RemarkExample) error {
	name := x.Picture
	x.Picture = ""
	if name == "" {
		return nil
	}
	for _, l := range legs {
		if l.ID != x.Leg {
			continue
		}
		files, err := s.Store.Artifacts(ctx, l.AttemptID.String)
		if err != nil {
			return err
		}
		for _, f := range files {
			if f.Name == name {
				x.Picture = f.ID
			}
		}
	}
	return nil
}

// Where says at which steps and on which devices a family was seen.
func (f RemarkFamily) Where() string { return f.At() + " on " + report.Few(f.Devices, f.On, 8) + "." }

// At says at which steps.
func (f RemarkFamily) At() string {
	var at []string
	for _, n := range f.Steps {
		name := "the end of “" + report.CaseTitle(n.Case) + "”"
		if n.Name != "" {
			name = "“" + n.Name + "”"
		}
		if !slices.Contains(at, name) {
			at = append(at, name)
		}
	}
	return "At " + report.Few(at, len(at), 4)
}

// remarksSentence says in one sentence what is wrong with the screens.
func remarksSentence(v RemarksView) string {
	if v.Looked == 0 && len(v.Families) == 0 {
		return "No screen was looked at: no tree of a step was at hand. With --record trees:steps there is one of each."
	}
	screens := report.Many(v.Looked, "screen")
	if len(v.Families) == 0 {
		return "Nothing is wrong with the " + screens + " that were looked at."
	}
	about := report.Many(len(v.Families), "thing")
	if v.Cut {
		about = fmt.Sprintf("More than %d things", maxFamilies)
	}
	verb := "are"
	if len(v.Families) == 1 {
		verb = "is"
	}
	counts := "No test asked for it, and no verdict counts it."
	if v.Run.Request.V.Remarks == work.RemarksFail {
		counts = "No test asked for it; with --remarks fail a case fails by what its own screens show."
	}
	return fmt.Sprintf("%s %s wrong with %s. %s", about, verb, screens, counts)
}
