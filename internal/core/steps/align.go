package steps

import "tessellant/internal/core/verdict"

// Pair is a case in two attempts, or in two tries. A side where it did not run is nil.
type Pair struct {
	Case      string
	Ours      *Try
	Theirs    *Try
	Steps     []Both
	Otherwise bool // it came out otherwise
}

// Both is a step on two sides, side by side. A side that never came to it is nil.
type Both struct {
	Name   string
	Nth    int
	Ours   *Step
	Theirs *Step
	// How long it took from the step before, or the case's beginning, ms; of a side that is nil, 0.
	OursTook, TheirsTook int64
}

// Align puts the tries of two sides beside each other, case by case and step by step. Each case is to be there once on a side.
func Align(ours, theirs []Try) (out []Pair) {
	at := map[string]*Try{}
	for i := range theirs {
		at[theirs[i].Case] = &theirs[i]
	}
	for i := range ours {
		o := &ours[i]
		out = append(out, pair(o.Case, o, at[o.Case]))
		delete(at, o.Case)
	}
	for i := range theirs {
		if t := at[theirs[i].Case]; t != nil {
			out = append(out, pair(t.Case, nil, t))
		}
	}
	return out
}

func pair(name string, ours, theirs *Try) Pair {
	p := Pair{Case: name, Ours: ours, Theirs: theirs, Otherwise: come(ours) != come(theirs)}
	a, b := spans(ours), spans(theirs)
	// The longest order of steps that both have; what one has alone stands where it happened.
	same := func(x, y span) bool { return x.Name == y.Name && x.Nth == y.Nth }
	longest := make([][]int, len(a)+1)
	for i := range longest {
		longest[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if same(a[i], b[j]) {
				longest[i][j] = longest[i+1][j+1] + 1
			} else {
				longest[i][j] = max(longest[i+1][j], longest[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < len(a) || j < len(b); {
		switch {
		case i < len(a) && j < len(b) && same(a[i], b[j]):
			p.Steps = append(p.Steps, Both{a[i].Name, a[i].Nth, a[i].Step, b[j].Step, a[i].took, b[j].took})
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && longest[i+1][j] >= longest[i][j+1]:
			p.Steps = append(p.Steps, Both{Name: a[i].Name, Nth: a[i].Nth, Ours: a[i].Step, OursTook: a[i].took})
			i++
		default:
			p.Steps = append(p.Steps, Both{Name: b[j].Name, Nth: b[j].Nth, Theirs: b[j].Step, TheirsTook: b[j].took})
			j++
		}
	}
	return p
}

func come(t *Try) verdict.Verdict {
	if t == nil {
		return ""
	}
	return t.Verdict
}

type span struct {
	*Step
	took int64
}

const maxAligned = 500 // steps of a case

func spans(t *Try) (out []span) {
	if t == nil {
		return nil
	}
	before := t.From
	for i := range t.Steps[:min(len(t.Steps), maxAligned)] {
		s := &t.Steps[i]
		out = append(out, span{s, s.At - before})
		before = s.At
	}
	return out
}
