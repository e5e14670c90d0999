package triage

// Hint is a device that would tell which of several rules is the cause.
type Hint struct {
	Device        int         // of the others
	Fails, Passes [][]Literal // what is the cause if it fails, and if it passes
}

// maxRivals is how many rules may explain the same, for one device more to tell.
const maxRivals = 8

// Tell looks among devices that took no part for one that would tell, where several rules of one trait explain which legs failed, each wrong about none of them.
// Others has the same traits as those of the legs, by name. Nil: there is none, or there is nothing to be told.
func Tell(failed []bool, traits, others []Trait) *Hint {
	n := len(failed)
	fails, k := setOf(failed)
	if k == 0 || k == n || len(others) == 0 {
		return nil
	}
	t := newTable(n, k)
	var rivals [][]Literal
	told := map[string]bool{} // a trait's threshold goes before one of its values
	for _, c := range literals(traits, n) {
		if t.errors(c.in, fails) != 0 {
			continue
		}
		for _, r := range append([][]Literal{c.literals}, c.also...) {
			if !told[r[0].Trait] {
				told[r[0].Trait] = true
				rivals = append(rivals, r)
			}
		}
	}
	if len(rivals) < 2 || len(rivals) > maxRivals {
		return nil
	}
	byName := map[string]Trait{}
	for _, o := range others {
		byName[o.Name] = o
	}
	var best *Hint
	for d := range others[0].Values {
		h := Hint{Device: d}
		known := true
		for _, r := range rivals {
			in, ok := holdsFor(r[0], traits, byName[r[0].Trait], d)
			if known = ok; !ok {
				break
			}
			if in {
				h.Fails = append(h.Fails, r)
			} else {
				h.Passes = append(h.Passes, r)
			}
		}
		if !known || len(h.Fails) == 0 || len(h.Passes) == 0 {
			continue
		}
		if best == nil || max(len(h.Fails), len(h.Passes)) < max(len(best.Fails), len(best.Passes)) { // it splits them most evenly
			best = &h
		}
	}
	return best
}

// holdsFor says whether a literal is true of another device. A threshold is known to be between two values of the legs: between them nothing is known.
func holdsFor(l Literal, traits []Trait, other Trait, d int) (in, known bool) {
	if d >= len(other.Values) || other.Values[d].Text == "" {
		return false, false
	}
	v := other.Values[d]
	if l.Op == Is {
		return v.Text == l.Value, true
	}
	for _, t := range traits {
		if t.Name != l.Trait {
			continue
		}
		at, next, has := 0.0, 0.0, false
		for _, x := range t.Values {
			if x.Text == l.Value {
				at = x.Number
			}
		}
		for _, x := range t.Values { // the nearest on the other side
			if beyond := x.Number > at; x.Text != "" && x.Number != at && beyond == (l.Op == AtMost) && (!has || (x.Number < next) == (l.Op == AtMost)) {
				next, has = x.Number, true
			}
		}
		switch {
		case l.Op == AtMost && v.Number <= at, l.Op == AtLeast && v.Number >= at:
			return true, true
		case l.Op == AtMost && v.Number >= next, l.Op == AtLeast && v.Number <= next:
			return false, true
		}
	}
	return false, false
}
