package junit

// How a report's cases are brought together with what is known from elsewhere: by their names and by their times.

import (
	"time"
)

// clockSlack is how far a report's times may be off: runners write their suites' in whole seconds.
const clockSlack = 2 * time.Second

// On gives when a case began, in milliseconds after zero and at least 1. What it belongs to began at began: a case that seems
// to begin a little before did so with it, and one that is said to begin long before has a time that can't be
// believed. 0: it is not known.
func (c Case) On(zero, began time.Time) int64 {
	if c.Start.IsZero() || began.IsZero() || c.Start.Before(began.Add(-clockSlack)) {
		return 0
	}
	at := c.Start
	if at.Before(began) {
		at = began
	}
	return max(at.Sub(zero).Milliseconds(), 1)
}

// Apart tells cases with the same full name apart: the second is called name (2). Runners do write twins, for parameters or for loops, and nothing in a report says
// that one is another try of the other; where a runner says so, it does within one case.
func Apart(in []Case) []Case {
	taken := make(map[string]bool, len(in))
	next := map[string]int{}
	for i := range in {
		name := in[i].FullName()
		if !taken[name] {
			taken[name] = true
			continue
		}
		n := max(next[name], 2)
		for ; ; n++ {
			in[i].Twin = n
			if full := in[i].FullName(); !taken[full] {
				taken[full] = true
				break
			}
		}
		next[name] = n + 1
	}
	return in
}

// Mark is a case that was marked as such while it ran.
type Mark struct {
	Name string
	At   int64 // ms, when it began
}

// Pair finds for each case the mark that is its own: one of its name, in full or short. Of several (two classes have a test of the same
// name) it is the one that began nearest to when the case did, at[i] in milliseconds as On gives it; and the first that no other case has
// where that is not known. A case without a mark gets -1.
func Pair(cases []Case, at []int64, marks []Mark) []int {
	byName := map[string][]int{}
	for i, m := range marks {
		byName[m.Name] = append(byName[m.Name], i)
	}
	out := make([]int, len(cases))
	take := func(i int, name string) bool {
		left := byName[name]
		if len(left) == 0 {
			return false
		}
		best := 0
		if at[i] > 0 {
			for j, m := range left {
				if apart(marks[m].At, at[i]) < apart(marks[left[best]].At, at[i]) {
					best = j
				}
			}
		}
		out[i] = left[best]
		byName[name] = append(append([]int(nil), left[:best]...), left[best+1:]...)
		return true
	}
	for i, c := range cases {
		c.Twin = 0 // it is marked by its own name
		if !take(i, c.FullName()) && !take(i, c.Name) {
			out[i] = -1
		}
	}
	return out
}

func apart(a, b int64) int64 { return max(a-b, b-a) }
