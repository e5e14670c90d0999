package looks

// Two attempts side by side, by cases and steps; or one with its second try.

import (
	"context"
	"fmt"
	"io"
	"slices"

	"tessellant/internal/core/likeness"
	"tessellant/internal/core/report"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// Side says which attempt, and which try of its cases.
type Side struct {
	Leg     string
	Attempt int // 0: the last
	Try     int // 0: the last of each case
}

// SideView is a side, found.
type SideView struct {
	Leg     runs.LegDetail
	Attempt runs.AttemptDetail
	Try     int
}

// ComparedLegs is two sides, held against each other.
type ComparedLegs struct {
	Ours, Theirs SideView
	Sentence     string
	Cases        []ComparedCase
	Cut          bool
}

// ComparedCase is a case on both sides.
type ComparedCase struct {
	steps.Pair
	Looks []Alike // of each of its steps
}

// Alike says whether a step looks alike on both sides; nil: that is not known.
type Alike struct {
	Is    *bool
	Apart float64
}

const maxCompared = 500 // cases

// CompareLegs holds two attempts against each other, or two tries of one. Name "": all cases.
func (s *Looks) CompareLegs(ctx context.Context, who store.Identity, ours, theirs Side, name string) (c ComparedLegs, err error) {
	if c.Ours, err = s.side(ctx, who, ours); err != nil {
		return c, err
	}
	if c.Theirs, err = s.side(ctx, who, theirs); err != nil {
		return c, err
	}
	if c.Ours.Attempt.ID == c.Theirs.Attempt.ID && ours.Try == theirs.Try {
		return c, refuse.New(refuse.Invalid, "compare the legs", "name another leg, another attempt, or two tries of a case", "both sides are the same")
	}
	a, looksA, err := s.chosen(ctx, c.Ours, name)
	if err != nil {
		return c, err
	}
	b, looksB, err := s.chosen(ctx, c.Theirs, name)
	if err != nil {
		return c, err
	}
	if name != "" && len(a)+len(b) == 0 {
		return c, refuse.New(refuse.NotFound, "compare the legs", "see the cases of a leg with: tessellant leg show "+c.Ours.Leg.ID, "neither side ran the case %.200q", name)
	}
	pairs := steps.Align(a, b)
	c.Cut = len(pairs) > maxCompared
	for _, p := range pairs[:min(len(pairs), maxCompared)] {
		x := ComparedCase{Pair: p}
		for _, st := range p.Steps {
			x.Looks = append(x.Looks, alike(st, looksA, looksB))
		}
		c.Cases = append(c.Cases, x)
	}
	// What came out otherwise is first.
	slices.SortStableFunc(c.Cases, func(a, b ComparedCase) int {
		return map[bool]int{true: 0, false: 1}[a.Otherwise] - map[bool]int{true: 0, false: 1}[b.Otherwise]
	})
	c.Sentence = legsSentence(c)
	return c, nil
}

func alike(st steps.Both, ours, theirs map[string]*likeness.Print) (out Alike) {
	if st.Ours == nil || st.Theirs == nil {
		return out
	}
	p, q := ours[st.Ours.File], theirs[st.Theirs.File]
	if p == nil || q == nil || st.Ours.File == "" || st.Theirs.File == "" {
		return out
	}
	d := likeness.Compare(*p, *q)
	return Alike{Is: &d.Alike, Apart: d.Apart}
}

func (s *Looks) side(ctx context.Context, who store.Identity, x Side) (v SideView, err error) {
	const title = "compare the legs"
	if v.Leg, err = s.Runs.Leg(ctx, who, x.Leg); err != nil {
		return v, err
	}
	if len(v.Leg.Attempts) == 0 {
		return v, refuse.New(refuse.Refused, title, "wait until it has begun", "the leg %s has no attempt yet", v.Leg.ID)
	}
	number := x.Attempt
	if number == 0 {
		number = len(v.Leg.Attempts)
	}
	for _, a := range v.Leg.Attempts {
		if a.Number == number {
			v.Attempt, v.Try = a, x.Try
			return v, nil
		}
	}
	return v, refuse.New(refuse.NotFound, title, "see the attempts with: tessellant leg show "+v.Leg.ID, "the leg has no attempt %d", number)
}

// chosen gives the tries of a side, each case once, and the prints of their steps by their pictures.
func (s *Looks) chosen(ctx context.Context, v SideView, name string) ([]steps.Try, map[string]*likeness.Print, error) {
	all, err := s.tries(ctx, v.Attempt.Artifacts)
	if err != nil {
		return nil, nil, err
	}
	if v.Try > 0 {
		all = slices.DeleteFunc(all, func(t steps.Try) bool { return t.Number != v.Try })
	}
	all = steps.Last(all)
	if name != "" {
		all = slices.DeleteFunc(all, func(t steps.Try) bool { return t.Case != name })
	}
	prints := map[string]*likeness.Print{}
	err = s.each(ctx, v.Attempt.Artifacts, tracks.Looks, func(in io.Reader) error {
		return steps.ReadLooks(in, func(k steps.Look, _, _ int64) error {
			if k.File != "" && k.Print != nil {
				prints[k.File] = k.Print
			}
			return nil
		})
	})
	return all, prints, err
}

// legsSentence says what differs: "3 of 20 cases came out otherwise; 2 steps look otherwise, the first is “review” in “send a survey”."
func legsSentence(c ComparedLegs) string {
	both, otherwise, alone, unlike := 0, 0, 0, 0
	first := ""
	for _, x := range c.Cases {
		if x.Ours == nil || x.Theirs == nil {
			alone++
			continue
		}
		both++
		if x.Otherwise {
			otherwise++
		}
		for i, l := range x.Looks {
			if l.Is != nil && !*l.Is {
				if unlike++; first == "" {
					first = fmt.Sprintf("“%s” in “%s”", x.Steps[i].Name, report.CaseTitle(x.Case))
				}
			}
		}
	}
	out := "All " + report.Many(both, "case") + " came out alike"
	switch {
	case both == 0:
		out = "No case ran on both sides"
	case both == 1 && otherwise == 1:
		out = fmt.Sprintf("The case came out otherwise: %s here, %s there", come(c.Cases[0].Ours), come(c.Cases[0].Theirs))
	case both == 1:
		out = "The case came out alike"
	case otherwise > 0:
		out = fmt.Sprintf("%d of %s came out otherwise", otherwise, report.Many(both, "case"))
	}
	switch {
	case unlike == 1:
		out += "; 1 step looks otherwise: " + first
	case unlike > 1:
		out += fmt.Sprintf("; %d steps look otherwise, the first is %s", unlike, first)
	}
	if alone > 0 {
		out += fmt.Sprintf("; %s ran on one side alone", report.Many(alone, "case"))
	}
	return out + "."
}

func come(t *steps.Try) string {
	if t == nil || t.Verdict == verdict.Verdict("") {
		return "cut off"
	}
	return string(t.Verdict)
}
