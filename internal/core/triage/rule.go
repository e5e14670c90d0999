package triage

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
)

// A rule is looked for among all that one trait can say (it is a value; it is at most, at least a value), and all that two traits can say together. A rule is
// taken only when it is no luck: the test is Fisher's exact one, one-sided (Fisher, Statistical Methods for Research Workers, 1934, section 21.02), whose
// chance is corrected for the number of rules that were tried, by asking how often the best of the same rules would do as well if the same number of legs
// had failed, but any of them (Westfall and Young, Resampling-Based Multiple Testing, 1993, algorithm 2.5, the smallest p alone). Rules that are plainer count
// more: their chance is divided by a weight before it is compared (Genovese, Roeder and Wasserman, False discovery control with p-value weighting, Biometrika 93, 2006).

// Value is what a leg has of a trait.
type Value struct {
	Text   string  // as people write it: "9", "360 dp", "de"
	Number float64 // by which it is ordered
	Orders bool    // thresholds make sense
}

// Trait is something by which legs differ.
type Trait struct {
	Name   string
	Plain  bool // people think of it first: the system's version, language, form, width, memory, conditions
	Values []Value
}

// Op is how a literal compares.
type Op string

// The comparisons.
const (
	Is      Op = "is"
	AtMost  Op = "at most"
	AtLeast Op = "at least"
)

// Literal says one thing of a trait.
type Literal struct {
	Trait string
	Op    Op
	Value string
}

// Rule sets legs that fail apart from those that pass.
type Rule struct {
	Literals []Literal // one or two, which all hold
	FailIn   int       // legs that it holds for, and that fail
	PassIn   int
	FailOut  int // that it does not hold for
	PassOut  int
	Chance   float64     // of being luck, corrected; at most Luck
	Also     [][]Literal // what sets the same legs apart, as plainly
	Lacking  bool        // some legs have no value of the trait that it is about, such as a version of iOS
	inside   set
}

// Certain says that it holds for all legs that fail and for none that pass.
func (r *Rule) Certain() bool { return r.PassIn == 0 && r.FailOut == 0 }

// Luck is the chance of being luck that a rule of one trait may have at most; one of two traits, of which there are so many more, LuckOfTwo.
const (
	Luck      = 0.04
	LuckOfTwo = 0.01
)

const (
	plainWeight = 3.0
	otherWeight = 1.0
	manyValues  = 12   // of a trait that orders, above which none of its values is looked at alone
	maxLiterals = 100  // the best by themselves, of which pairs are made
	least       = 2    // legs that fail, for a rule
	covers      = 0.75 // of the legs that fail, a rule must hold for
)

// set is a set of legs.
type set []uint64

func newSet(n int) set { return make(set, (n+63)/64) }

func (s set) add(i int)      { s[i/64] |= 1 << (i % 64) }
func (s set) has(i int) bool { return s[i/64]>>(i%64)&1 == 1 }

func (s set) count() (n int) {
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

func (s set) and(o set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] & o[i]
	}
	return out
}

func (s set) common(o set) (n int) {
	for i := range s {
		n += bits.OnesCount64(s[i] & o[i])
	}
	return n
}

// setOf is the set of the legs that failed, and how many they are.
func setOf(failed []bool) (fails set, k int) {
	fails = newSet(len(failed))
	for i, f := range failed {
		if f {
			fails.add(i)
			k++
		}
	}
	return fails, k
}

// candidate is a rule that may be.
type candidate struct {
	literals []Literal
	in       set
	size     int
	weight   float64
	also     [][]Literal
}

// candidates are those that were found, each set of legs once: by the plainest words.
type candidates struct {
	all []candidate
	at  map[string]int // by their sets; -1: it is no candidate
}

func (c *candidates) add(literals []Literal, in set, size int, weight float64) {
	key := keyOf(in)
	i, ok := c.at[key]
	switch {
	case !ok:
		c.at[key] = len(c.all)
		c.all = append(c.all, candidate{literals: literals, in: in, size: size, weight: weight})
	case i < 0:
	case weight > c.all[i].weight:
		x := &c.all[i]
		x.literals, x.also, x.weight = literals, append([][]Literal{x.literals}, x.also...), weight
	default:
		c.all[i].also = append(c.all[i].also, literals)
	}
}

// Why finds the rule that sets apart the legs that failed. Failed says of each leg whether it did; only legs of which it is known whether they show the fault
// belong here. Traits give each leg's value, in the legs' order; an empty text is none. Nil: nothing separates them.
func Why(failed []bool, traits []Trait) *Rule {
	r := why(failed, traits)
	if r != nil {
		i := slices.IndexFunc(traits, func(t Trait) bool { return t.Name == r.Literals[0].Trait })
		r.Lacking = i >= 0 && slices.ContainsFunc(traits[i].Values, func(v Value) bool { return v.Text == "" })
	}
	return r
}

func why(failed []bool, traits []Trait) *Rule {
	n := len(failed)
	fails, k := setOf(failed)
	if k < least || k == n {
		return nil
	}
	t := newTable(n, k)
	ones := literals(traits, n)
	single := t.best(ones, fails, Luck)
	if single != nil && single.Certain() { // two traits can't say more
		return single
	}
	pairs := together(ones, fails, t)
	double := t.best(pairs, fails, LuckOfTwo)
	if double != nil && single != nil && !t.refines(double, ones, fails) {
		double = nil
	}
	switch {
	case double != nil && (single == nil || t.errors(double.inside, fails) < t.errors(single.inside, fails)):
		return double
	default:
		return single
	}
}

// literals are all that one trait can say.
func literals(traits []Trait, n int) []candidate {
	found := candidates{at: map[string]int{}}
	add := func(t Trait, op Op, value string, in set, plain bool) {
		weight := otherWeight
		if plain && t.Plain {
			weight = plainWeight
		}
		if size := in.count(); size > 0 && size < n {
			found.add([]Literal{{t.Name, op, value}}, in, size, weight)
		}
	}
	for _, t := range traits {
		values := map[string]set{}
		var texts []Value
		for i, v := range t.Values {
			if v.Text == "" {
				continue
			}
			if values[v.Text] == nil {
				values[v.Text] = newSet(n)
				texts = append(texts, v)
			}
			values[v.Text].add(i)
		}
		slices.SortFunc(texts, func(a, b Value) int {
			return cmp.Or(cmp.Compare(a.Number, b.Number), cmp.Compare(a.Text, b.Text))
		})
		orders := len(texts) > 0 && !slices.ContainsFunc(texts, func(v Value) bool { return !v.Orders })
		if orders {
			below := newSet(n)
			for i, v := range texts[:len(texts)-1] {
				for j, w := range values[v.Text] {
					below[j] |= w
				}
				if texts[i+1].Number == v.Number {
					continue
				}
				above := newSet(n)
				for j, x := range t.Values {
					if x.Text != "" && !below.has(j) {
						above.add(j)
					}
				}
				add(t, AtMost, v.Text, slices.Clone(below), true)
				add(t, AtLeast, texts[i+1].Text, above, true)
			}
		}
		if !orders || len(texts) <= manyValues {
			for _, v := range texts {
				add(t, Is, v.Text, values[v.Text], !orders) // "exactly 11" is rarer than "11 and newer"
			}
		}
	}
	return found.all
}

func keyOf(s set) string {
	b := make([]byte, 0, len(s)*8)
	for _, w := range s {
		for range 8 {
			b = append(b, byte(w))
			w >>= 8
		}
	}
	return string(b)
}

// together are all that two traits can say that one can't.
func together(ones []candidate, fails set, t *table) []candidate {
	found := candidates{at: map[string]int{}}
	for _, c := range ones {
		found.at[keyOf(c.in)] = -1
	}
	some := slices.Clone(ones)
	if len(some) > maxLiterals {
		slices.SortStableFunc(some, func(a, b candidate) int {
			return cmp.Compare(t.chance(a.size, a.in.common(fails)), t.chance(b.size, b.in.common(fails)))
		})
		some = some[:maxLiterals]
	}
	for i, a := range some {
		for _, b := range some[i+1:] {
			if a.literals[0].Trait == b.literals[0].Trait {
				continue
			}
			if in := a.in.and(b.in); in.count() >= least {
				found.add([]Literal{a.literals[0], b.literals[0]}, in, in.count(), a.weight*b.weight)
			}
		}
	}
	return found.all
}

// best is the best of the candidates, unless it is luck.
func (t *table) best(all []candidate, fails set, most float64) *Rule {
	best, least := -1, math.Inf(1)
	for i, c := range all {
		a := c.in.common(fails)
		if float64(a) < covers*float64(t.k) || a*(t.n-c.size) <= (t.k-a)*c.size { // it holds for too few, or for no more than chance has it
			continue
		}
		if p := t.chance(c.size, a) - math.Log(c.weight); p < least-asGood {
			best, least = i, p
		}
	}
	if best < 0 {
		return nil
	}
	luck := t.corrected(all, least)
	if luck > most {
		return nil
	}
	c := all[best]
	a := c.in.common(fails)
	r := &Rule{Literals: c.literals, FailIn: a, PassIn: c.size - a, FailOut: t.k - a, PassOut: t.n - t.k - (c.size - a), Chance: luck, Also: c.also, inside: c.in}
	return r
}

// refines says whether each of a rule's two halves tells something that the other does not: within the legs of either, the other sets apart those that fail.
func (t *table) refines(r *Rule, ones []candidate, fails set) bool {
	for _, l := range r.Literals {
		i := slices.IndexFunc(ones, func(c candidate) bool { return c.literals[0] == l })
		if i < 0 {
			return false
		}
		n, k := ones[i].size, ones[i].in.common(fails)
		p := math.Exp(t.tail(n, k, r.inside.count(), r.FailIn))
		// As many other halves could have been tried as there are different sets within this one.
		tried := map[string]bool{}
		for _, o := range ones {
			if in := o.in.and(ones[i].in); o.literals[0].Trait != l.Trait {
				if c := in.count(); c > 0 && c < n {
					tried[keyOf(in)] = true
				}
			}
		}
		if p*float64(len(tried)) > Luck {
			return false
		}
	}
	return true
}

// errors is how many legs a rule is wrong about.
func (t *table) errors(in, fails set) int {
	a := in.common(fails)
	return in.count() - a + t.k - a
}
