package triage

import (
	"cmp"
	"slices"

	"tessellant/internal/core/verdict"
)

// Placed is a leg as it is compared: where it ran, and how its cases came out.
type Placed struct {
	Place string // the device, and how it was set: legs of two runs at the same place are held against each other
	Cases []Judged
}

// Difference is a case that came out otherwise.
type Difference struct {
	Before, Now         int // legs, by their places in what was given
	Case                string
	BeforeWas, NowIs    verdict.Verdict
	Worse, SaysOfTheApp bool // worse: it fails now and did not; SaysOfTheApp: neither is lost, stopped, invalid or skipped
}

// Comparison is two runs, held against each other.
type Comparison struct {
	Differences             []Difference // the worse first, then by case and leg
	Alike                   int          // cases that came out alike
	OnlyBefore, OnlyNow     int          // cases that ran in one alone, at places that both have
	LegsBefore, LegsNow     int          // legs at places that the other run does not have
	Worse, Better, NewFlaky int
}

// Compare holds two runs against each other, leg by leg and case by case. Of several legs at one place the first counts.
func Compare(before, now []Placed) (c Comparison) {
	at := map[string]int{}
	for i, l := range before {
		if _, ok := at[l.Place]; !ok {
			at[l.Place] = i
		}
	}
	seen := map[string]bool{}
	for j, n := range now {
		i, ok := at[n.Place]
		if !ok || seen[n.Place] {
			c.LegsNow++
			continue
		}
		seen[n.Place] = true
		was := map[string]verdict.Verdict{}
		for _, x := range before[i].Cases {
			was[x.Case] = x.Verdict
		}
		for _, x := range n.Cases {
			v, ran := was[x.Case]
			delete(was, x.Case)
			switch {
			case !ran:
				c.OnlyNow++
			case v == x.Verdict:
				c.Alike++
			default:
				d := Difference{Before: i, Now: j, Case: x.Case, BeforeWas: v, NowIs: x.Verdict, SaysOfTheApp: v.OfTheApp() && x.Verdict.OfTheApp()}
				d.Worse = d.SaysOfTheApp && x.Verdict.Bad() && !v.Bad()
				switch {
				case d.Worse:
					c.Worse++
				case d.SaysOfTheApp && v.Bad() && !x.Verdict.Bad():
					c.Better++
				case d.SaysOfTheApp && x.Verdict == verdict.Flaky:
					c.NewFlaky++
				}
				c.Differences = append(c.Differences, d)
			}
		}
		c.OnlyBefore += len(was)
	}
	c.LegsBefore = len(before) - len(seen)
	rank := func(d Difference) int {
		switch {
		case d.Worse:
			return 0
		case d.SaysOfTheApp && d.NowIs.Bad(): // it fails in another way
			return 1
		case d.SaysOfTheApp && d.NowIs == verdict.Flaky:
			return 2
		case d.SaysOfTheApp:
			return 3
		}
		return 4
	}
	slices.SortStableFunc(c.Differences, func(a, b Difference) int {
		return cmp.Or(rank(a)-rank(b), cmp.Compare(a.Case, b.Case), a.Now-b.Now)
	})
	return c
}
