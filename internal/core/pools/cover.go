package pools

// The devices that differ most.
//
// What is to be covered are the values of the traits by which apps break, and the pairs of values of two traits; each weighs as much as the
// share of users that have it. What a set of devices covers is then a monotone submodular function of the set, for which taking the device
// that adds most, again and again, gives at least 1 − 1/e of the best (Nemhauser, Wolsey and Fisher 1978, "An analysis of approximations for
// maximizing submodular set functions"). What devices add is looked up lazily (Minoux 1978). Then single devices are exchanged as long as
// that covers more.

import (
	"cmp"
	"container/heap"
	"slices"
	"strconv"
	"strings"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/versions"
)

// covered are the traits by which apps break. Those that shares are given for come besides.
var covered = []string{"platform", "os", "maker", "model", "form", "origin", "width", "memory", "processor", "language"}

const (
	maxExchanges = 40
	// mostPaired is up to how many values of a trait are paired with others: pairs with a model's name say no more than the model.
	mostPaired = 64
)

// Cover says what a set of devices covers.
type Cover struct {
	Share  float64 // of what can be covered, 0 to 1
	Traits []TraitCover
	Next   *Next // the device that would add most; nil: none would add anything
}

// TraitCover is what is covered of one trait.
type TraitCover struct {
	Trait            string
	Share            float64 // 0 to 1, by users where that is known
	Covered, Missing []string
}

// Next is a device that would add something.
type Next struct {
	Serial string
	Adds   []string // trait=value
	Pairs  int      // pairs of values that none has yet
	Share  float64  // by which Cover.Share would grow
}

// Value gives the value by which a device counts for a trait: widths in dp are put together to those that layouts differ by.
func Value(f devices.Facts, trait string) string {
	if trait != "width" {
		return f.Trait(trait)
	}
	switch w := f.WidthDP(); {
	case w < 360:
		return "0 to 359"
	case w < 600:
		return "360 to 599"
	case w < 840:
		return "600 to 839"
	}
	return "840 and more"
}

// field is all that can be covered, with numbers in place of values.
type field struct {
	traits []string
	values [][]string // of each trait, in their order
	weight []float64  // of each single value, and then of each pair
	single []int      // of each trait: where its values begin in weight
	pairs  []pair
	kinds  []kind
	total  float64 // of all that some device has
}

type pair struct{ a, b, at int } // traits, and where the pairs of their values begin in weight

// kind are the devices that have all values alike.
type kind struct {
	elements []int // of weight
	devices  []int // by number
}

// newField puts devices into numbers.
func newField(from []Device, shares []Share) *field {
	f := &field{traits: slices.Clone(covered)}
	for _, s := range shares {
		if !slices.Contains(f.traits, s.Trait) {
			f.traits = append(f.traits, s.Trait)
		}
	}
	nt := len(f.traits)
	vector := make([][]int, len(from))
	for i := range vector {
		vector[i] = make([]int, nt)
	}
	for t, trait := range f.traits {
		number := map[string]int{}
		var values []string
		for i := range from {
			v := Value(from[i].Facts, trait)
			n, ok := number[v]
			if !ok {
				n = len(values)
				number[v] = n
				values = append(values, v)
			}
			vector[i][t] = n
		}
		f.values = append(f.values, values)
		f.single = append(f.single, len(f.weight))
		f.weight = append(f.weight, weights(trait, f.values[t], shares)...)
	}
	for a := range nt {
		for b := a + 1; b < nt; b++ {
			if na, nb := len(f.values[a]), len(f.values[b]); na > 1 && nb > 1 && na <= mostPaired && nb <= mostPaired {
				f.pairs = append(f.pairs, pair{a, b, len(f.weight)})
				f.weight = append(f.weight, make([]float64, na*nb)...)
			}
		}
	}
	for _, p := range f.pairs { // all pairs together weigh as much as all single values
		part := float64(nt) / float64(len(f.pairs))
		for x := range f.values[p.a] {
			for y := range f.values[p.b] {
				f.weight[p.at+x*len(f.values[p.b])+y] = part * f.weight[f.single[p.a]+x] * f.weight[f.single[p.b]+y]
			}
		}
	}
	known := map[string]int{}
	var key []byte
	some := make([]bool, len(f.weight))
	for i, v := range vector {
		key = key[:0]
		for _, n := range v {
			key = strconv.AppendInt(append(key, ' '), int64(n), 36)
		}
		k, ok := known[string(key)]
		if !ok {
			k = len(f.kinds)
			known[string(key)] = k
			elements := make([]int, 0, nt+len(f.pairs))
			for t, n := range v {
				elements = append(elements, f.single[t]+n)
			}
			for _, p := range f.pairs {
				elements = append(elements, p.at+v[p.a]*len(f.values[p.b])+v[p.b])
			}
			for _, e := range elements {
				if !some[e] {
					some[e] = true
					f.total += f.weight[e]
				}
			}
			f.kinds = append(f.kinds, kind{elements: elements})
		}
		f.kinds[k].devices = append(f.kinds[k].devices, i)
	}
	return f
}

// weights says how much each value of a trait weighs; together 1. Values whose share nobody knows have what is left, in equal parts.
func weights(trait string, values []string, shares []Share) []float64 {
	out := make([]float64, len(values))
	given := map[string]float64{}
	sum := 0.0
	for _, s := range shares {
		if s.Trait == trait {
			given[strings.ToLower(s.Value)] = s.Of
			sum += s.Of
		}
	}
	unknown := 0
	for _, v := range values {
		if _, ok := given[strings.ToLower(v)]; !ok {
			unknown++
		}
	}
	rest := max(0, 1-sum)
	for i, v := range values {
		if of, ok := given[strings.ToLower(v)]; ok {
			out[i] = of / max(1, sum)
		} else {
			out[i] = rest / float64(unknown)
		}
	}
	return out
}

// set is a choice of kinds, and how often each element is covered by it.
type set struct {
	*field
	chosen []int
	in     []bool
	count  []int
	sum    float64
}

func (f *field) none() *set {
	return &set{field: f, in: make([]bool, len(f.kinds)), count: make([]int, len(f.weight))}
}

func (s *set) gain(k int) (g float64) {
	for _, e := range s.kinds[k].elements {
		if s.count[e] == 0 {
			g += s.weight[e]
		}
	}
	return g
}

func (s *set) add(k int) {
	s.sum += s.gain(k)
	s.in[k], s.chosen = true, append(s.chosen, k)
	for _, e := range s.kinds[k].elements {
		s.count[e]++
	}
}

func (s *set) remove(k int) {
	s.in[k] = false
	s.chosen = slices.DeleteFunc(s.chosen, func(x int) bool { return x == k })
	for _, e := range s.kinds[k].elements {
		if s.count[e]--; s.count[e] == 0 {
			s.sum -= s.weight[e]
		}
	}
}

// hope is what a kind would add at most: what it added when that was last looked up.
type hope struct {
	kind int
	gain float64
}

type hopes []hope

func (h hopes) Len() int { return len(h) }
func (h hopes) Less(i, j int) bool {
	if h[i].gain != h[j].gain {
		return h[i].gain > h[j].gain
	}
	return h[i].kind < h[j].kind
}
func (h hopes) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *hopes) Push(x any)   { *h = append(*h, x.(hope)) }
func (h *hopes) Pop() any {
	x := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return x
}

// greedy takes kinds that add most, up to n.
func (s *set) greedy(n int) {
	h := make(hopes, len(s.kinds))
	for k := range s.kinds {
		h[k] = hope{k, s.gain(k)}
	}
	heap.Init(&h)
	for len(s.chosen) < n && len(h) > 0 {
		top := heap.Pop(&h).(hope)
		if g := s.gain(top.kind); g < top.gain-1e-12 {
			heap.Push(&h, hope{top.kind, g})
			continue
		}
		s.add(top.kind)
	}
}

// exchange puts another kind in the place of one that was chosen, where that covers most more; false: it would cover no more.
func (s *set) exchange() bool {
	place := make([]int, len(s.kinds))
	loss := make([]float64, len(s.chosen)) // what only this one covers
	owner := make([]int, len(s.weight))    // of what only one covers: its place
	for i := range owner {
		owner[i] = -1
	}
	for i, k := range s.chosen {
		place[k] = i
		for _, e := range s.kinds[k].elements {
			if s.count[e] == 1 {
				owner[e] = i
				loss[i] += s.weight[e]
			}
		}
	}
	best, out, in := 1e-9, -1, -1
	again := make([]float64, len(s.chosen)) // what the new one covers of what only this one covers
	for k := range s.kinds {
		if s.in[k] {
			continue
		}
		clear(again)
		g := 0.0
		for _, e := range s.kinds[k].elements {
			switch {
			case s.count[e] == 0:
				g += s.weight[e]
			case owner[e] >= 0:
				again[owner[e]] += s.weight[e]
			}
		}
		for i := range s.chosen {
			if more := g + again[i] - loss[i]; more > best {
				best, out, in = more, i, k
			}
		}
	}
	if out < 0 {
		return false
	}
	s.remove(s.chosen[out])
	s.add(in)
	return true
}

// cover chooses the n devices that differ most, by their numbers, and says what they cover.
func cover(from []Device, shares []Share, n int) ([]int, *Cover) {
	f := newField(from, shares)
	s := f.none()
	s.greedy(n)
	for range maxExchanges {
		if len(s.chosen) < len(s.kinds) && s.exchange() {
			continue
		}
		break
	}
	var out []int
	for _, k := range s.chosen {
		alike := f.kinds[k].devices
		out = append(out, alike[max(0, slices.IndexFunc(alike, func(i int) bool { return from[i].Free }))]) // a free one, where there is one
	}
	taken := map[int]bool{}
	for _, i := range out {
		taken[i] = true
	}
	for i := 0; i < len(from) && len(out) < n; i++ { // more units of what is there
		if !taken[i] {
			out = append(out, i)
		}
	}
	return out, s.says(from)
}

// CoverOf says what devices cover of all that there are; chosen by serial.
func CoverOf(from []Device, shares []Share, chosen []string) *Cover {
	f := newField(from, shares)
	s := f.none()
	for k, x := range f.kinds {
		if slices.ContainsFunc(x.devices, func(i int) bool { return slices.Contains(chosen, from[i].Facts.Serial) }) {
			s.add(k)
		}
	}
	return s.says(from)
}

// says puts into words what is covered.
func (s *set) says(from []Device) *Cover {
	c := &Cover{Share: 1}
	if s.total > 0 {
		c.Share = min(1, s.sum/s.total)
	}
	for t, trait := range s.traits {
		x := TraitCover{Trait: trait}
		order := make([]int, len(s.values[t]))
		for i := range order {
			order[i] = i
		}
		slices.SortFunc(order, func(a, b int) int { return inOrder(s.values[t][a], s.values[t][b]) })
		all := 0.0
		for _, v := range order {
			all += s.weight[s.single[t]+v]
			if s.count[s.single[t]+v] > 0 {
				x.Covered = append(x.Covered, s.values[t][v])
				x.Share += s.weight[s.single[t]+v]
			} else {
				x.Missing = append(x.Missing, s.values[t][v])
			}
		}
		if all > 0 {
			x.Share = min(1, x.Share/all)
		}
		if len(s.values[t]) > 0 && !(len(s.values[t]) == 1 && s.values[t][0] == "") {
			c.Traits = append(c.Traits, x)
		}
	}
	next, gain := -1, 1e-9
	for k := range s.kinds {
		if g := s.gain(k); !s.in[k] && g > gain {
			next, gain = k, g
		}
	}
	if next < 0 {
		return c
	}
	c.Next = &Next{Serial: from[s.kinds[next].devices[0]].Facts.Serial, Share: gain / s.total}
	for i, e := range s.kinds[next].elements {
		switch {
		case s.count[e] > 0 || s.weight[e] == 0:
		case i < len(s.traits):
			c.Next.Adds = append(c.Next.Adds, s.traits[i]+"="+s.values[i][e-s.single[i]])
		default:
			c.Next.Pairs++
		}
	}
	return c
}

// inOrder orders values as people do: versions and numbers by their size.
func inOrder(a, b string) int {
	if order, ok := versions.Compare(a, b); ok {
		return order
	}
	return cmp.Compare(a, b)
}
