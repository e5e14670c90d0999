package timeline

import (
	"cmp"
	"slices"
)

// Span is a case that is known only afterwards: from a report.
type Span struct {
	Name, Mark string // what the report calls it; what it was called while it ran, "" where it was not marked
	From, To   int64  // ms on the attempt's clock
	End        Event  // its end, with verdict and message
}

// Marry puts cases that a report told of among the events of their time: each begins and ends where it did, and what happened between is
// its. Where it was marked while it ran, it takes the mark's place. The events come in the order of their times then, numbered anew.
func Marry(events []Event, cases []Span) []Event {
	marked := map[string][]int{} // by what they were called while they ran
	var timed []int              // that last
	byBegin := make([]int, len(cases))
	for i := range cases {
		byBegin[i] = i
	}
	slices.SortStableFunc(byBegin, func(a, b int) int { return cmp.Compare(cases[a].From, cases[b].From) })
	for _, i := range byBegin {
		if c := cases[i]; c.Mark != "" {
			marked[c.Mark] = append(marked[c.Mark], i)
		}
		if cases[i].To > cases[i].From {
			timed = append(timed, i)
		}
	}
	out := make([]placed, 0, len(events)+2*len(cases))
	began := map[string]int64{} // cases that the report does not know
	for _, e := range events {
		p := placed{Event: e, of: -1}
		switch {
		case e.Case != "":
			p.of = during(cases, marked[e.Case], e.At)
		case e.Kind != Stage:
			p.of = during(cases, timed, e.At)
		}
		if p.of >= 0 {
			if e.Case != "" && e.Kind == Case {
				continue // the report's own beginning and end take its place
			}
			p.Case = cases[p.of].Name
			if p.part = ofBefore; cases[p.of].From == e.At {
				p.part = ofItself
			}
		}
		if p.of < 0 && e.Case != "" {
			if e.Kind == Case && e.Verdict == "" {
				began[e.Case] = e.At
			}
			if at, ok := began[e.Case]; ok && at == e.At {
				p.part = beginOfRest
			}
		}
		out = append(out, p)
	}
	for i, c := range cases {
		end := c.End
		end.Kind, end.At, end.Case, end.Name = Case, max(c.To, c.From), c.Name, c.Name
		out = append(out, placed{Event{Kind: Case, At: c.From, Case: c.Name, Name: c.Name}, i, itsBegin})
		if end.At > c.From {
			out = append(out, placed{end, i, endOfBefore})
		} else {
			out = append(out, placed{end, i, itsEnd})
		}
	}
	slices.SortStableFunc(out, func(a, b placed) int {
		if c := cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(min(a.part, itsBegin), min(b.part, itsBegin))); c != 0 || a.part < endOfBefore || a.part == beginOfRest {
			return c
		}
		return cmp.Or(cmp.Compare(a.lasts(cases), b.lasts(cases)), cmp.Compare(a.of, b.of), cmp.Compare(a.part, b.part))
	})
	whole := make([]Event, len(out))
	for i, p := range out {
		whole[i] = p.Event
		whole[i].Seq = i + 1
	}
	return whole
}

// placed is an event with its place among those of the same moment: first what goes on, then what ends, then each case that begins.
type placed struct {
	Event
	of   int // which case; -1: none
	part part
}

// lasts is 1 where its case goes on after the moment in which it begins: those that are over at once come before.
func (p placed) lasts(cases []Span) int {
	if c := cases[p.of]; c.To > c.From {
		return 1
	}
	return 0
}

type part int

const (
	ofBefore    part = iota // of a case that began before, or of none
	endOfBefore             // the end of such a case
	beginOfRest             // a case begins that the report does not know, and what happens in it at that moment
	itsBegin                // a case begins: its beginning, what happens in it at that moment, its end where it ends at once
	ofItself
	itsEnd
)

// mostOver is how many cases can lie over each other: a device does one thing after the other, and clocks are off a little.
const mostOver = 16

// during finds the case that went on at a moment; of several the one that began last. Which are cases by when they began; -1: none.
func during(cases []Span, which []int, at int64) int {
	i, _ := slices.BinarySearchFunc(which, at+1, func(c int, at int64) int { return cmp.Compare(cases[c].From, at) })
	for j := i - 1; j >= max(i-mostOver, 0); j-- {
		if c := cases[which[j]]; at <= c.To {
			return which[j]
		}
	}
	return -1
}
