package likeness

import (
	"cmp"
	"math"
	"slices"
)

// Bounds within which two prints are alike. They were found by the labelled pairs of the test.
const (
	mostMore   = 120   // what there is more on one of them: a long word
	mostApart  = 0.105 // the share of what is there, by its size, that only one of them has
	sameShape  = 0.62  // the correlation of two shapes that are the same
	mostWeight = 140   // of a part: that of a long word
	sameColour = 0.60  // the share of colours that both have
	bySize     = 0.63  // the likeness of two wide parts of one size, whatever their shapes: just the same
	sameRun    = 0.60  // the correlation of two runs of parts that are the same: their shapes are put together from those of their parts
)

// Difference is what sets two prints apart.
type Difference struct {
	Apart float64 // how much is on one of them alone: 0, nothing; 1, everything
	Tint  bool    // the colours are others
	Alike bool    // they show the same
}

// Compare holds two prints against each other.
func Compare(a, b Print) Difference {
	apart, more := compare(a, b)
	tint := a.common(b) < sameColour
	return Difference{Apart: apart, Tint: tint, Alike: !tint && apart <= mostApart && more <= mostMore}
}

// compare says how much of two prints is on one of them alone, and how much more there is on one than on the other. A word that was taken apart otherwise leaves
// as much on both; a button that is missing does not.
func compare(a, b Print) (apart, more float64) {
	all := 0.0
	for _, p := range slices.Concat(a.Parts, b.Parts) {
		all += p.weight()
	}
	if all == 0 {
		return 0, 0
	}
	takenA, takenB := make([]bool, len(a.Parts)), make([]bool, len(b.Parts))
	for i, p := range a.Parts {
		if j := p.among(b.Parts, takenB, sameShape, i); j >= 0 {
			takenA[i], takenB[j] = true, true
		}
	}
	together(a.Parts, takenA, b.Parts, takenB)
	all -= belowFold(a, takenA, b.More) + belowFold(b, takenB, a.More)
	onA, onB := left(a.Parts, takenA), left(b.Parts, takenB)
	return (onA + onB) / max(all, 1), math.Abs(onA - onB)
}

// lastShared is how far down what both have goes. A part that has many others before it that only one has was taken for another one.
func lastShared(parts []Part, taken []bool) (y int) {
	const most = 2
	for i := len(parts) - 1; i >= 0; i-- {
		if !taken[i] {
			continue
		}
		alone := 0
		for j := i - 1; j >= 0 && !taken[j]; j-- {
			alone++
		}
		if alone <= most {
			for j := range i + 1 {
				if taken[j] {
					y = max(y, parts[j].Y+parts[j].H)
				}
			}
			return y
		}
	}
	return 0
}

const cutRow = 14 * 4 // what the fold of a screen that scrolls leaves of a line is not higher

// belowFold takes what may be there on the other screen, too, below its fold: what comes after all that both have, where the other one can be scrolled; and what the fold of
// this one cuts through. It gives its weight.
func belowFold(p Print, taken []bool, other bool) (sum float64) {
	if !p.More && !other {
		return 0
	}
	last, fold := lastShared(p.Parts, taken), 0
	for _, x := range p.Parts {
		if !x.wide() {
			fold = max(fold, x.Y+x.H)
		}
	}
	for i, x := range p.Parts {
		below := x.Y >= last-8
		if !taken[i] && below && (other || p.More && x.H <= cutRow && x.Y+x.H >= fold-8) {
			taken[i] = true
			sum += x.weight()
		}
	}
	return sum
}

// left is the weight of those that are not taken.
func left(parts []Part, taken []bool) (sum float64) {
	for i, p := range parts {
		if !taken[i] {
			sum += p.weight()
		}
	}
	return sum
}

// among finds the part that is most like p and is not taken; -1: none is like it. At is the place of p among its own: of words that occur more than once,
// the one at about that place is meant.
func (p Part) among(parts []Part, taken []bool, least float64, at int) int {
	best, found := math.Inf(-1), -1
	for j, q := range parts {
		if taken[j] || !p.sized(q) {
			continue
		}
		s := p.shaped(q)
		if s <= least {
			continue
		}
		if s -= math.Abs(float64(at-j)) / maxParts; s > best {
			best, found = s, j
		}
	}
	return found
}

// together takes what is left on both sides run by run: parts that follow each other in a line.
func together(a []Part, takenA []bool, b []Part, takenB []bool) {
	of, in := runs(a, takenA), runs(b, takenB)
	whole := make([]Part, len(in))
	for j, r := range in {
		whole[j] = r.joined(b)
	}
	used := make([]bool, len(in))
	for i, r := range of {
		j := r.joined(a).among(whole, used, sameRun, i)
		if j < 0 {
			continue
		}
		used[j] = true
		for _, i := range r {
			takenA[i] = true
		}
		for _, i := range in[j] {
			takenB[i] = true
		}
	}
}

// run is parts that follow each other in a line, by their places.
type run []int

// runs finds the longest runs of those that are not taken.
func runs(parts []Part, taken []bool) (out []run) {
	in := make([]bool, len(parts))
	order := make([]int, 0, len(parts))
	for i := range parts {
		if !taken[i] {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(i, j int) int { return cmp.Compare(parts[i].X, parts[j].X) })
	for at, i := range order {
		if in[i] {
			continue
		}
		r := run{i}
		for _, j := range order[at+1:] {
			if !in[j] && r.joined(parts).before(parts[j]) {
				r, in[j] = append(r, j), true
			}
		}
		out = append(out, r)
	}
	return out
}

func (r run) joined(parts []Part) Part {
	p := parts[r[0]]
	for _, i := range r[1:] {
		p = join(p, parts[i])
	}
	return p
}

// before says whether q follows p in its line.
func (p Part) before(q Part) bool {
	gap := q.X - (p.X + p.W)
	return gap >= -4*4 && gap <= 6*4 && q.Y < p.Y+p.H && p.Y < q.Y+q.H
}

// join makes one part of two.
func join(p, q Part) Part {
	x, y := min(p.X, q.X), min(p.Y, q.Y)
	out := Part{X: x, Y: y, W: max(p.X+p.W, q.X+q.W) - x, H: max(p.Y+p.H, q.Y+q.H) - y, Shape: make([]byte, shapeW*shapeH)}
	for v := range shapeH {
		for u := range shapeW {
			// The middle of the cell, in quarters of a dp.
			cx, cy := x+(2*u+1)*out.W/(2*shapeW), y+(2*v+1)*out.H/(2*shapeH)
			for _, r := range []Part{p, q} {
				if cx >= r.X && cx < r.X+r.W && cy >= r.Y && cy < r.Y+r.H {
					out.Shape[v*shapeW+u] = max(out.Shape[v*shapeW+u], r.Shape[(cy-r.Y)*shapeH/r.H*shapeW+(cx-r.X)*shapeW/r.W])
				}
			}
		}
	}
	return out
}

// common is the share of the colours that both have: the intersection of histograms, Swain and Ballard, Color indexing, International Journal of Computer Vision 7, 1991.
func (p Print) common(q Print) float64 {
	if len(p.Colours) != len(q.Colours) {
		return 0
	}
	sum, most := 0, 0
	for i, c := range p.Colours {
		sum += int(min(c, q.Colours[i]))
		most += int(max(c, q.Colours[i]))
	}
	if most == 0 {
		return 1
	}
	return float64(sum) / (float64(most+sum) / 2)
}

// weight is how much a part counts: by its size, but a large one not as much more as it is larger.
func (p Part) weight() float64 { return min(math.Sqrt(float64(p.W*p.H)), mostWeight) }

// wide says that a part is as wide as the screen lets it be: its width says nothing.
func (p Part) wide() bool { return p.W > 120*4 }

// sized says whether two parts may be the same by their sizes.
func (p Part) sized(q Part) bool {
	near := func(a, b, slack int) bool {
		d := a - b
		return max(d, -d) <= max(slack, max(a, b)/8)
	}
	return near(p.H, q.H, 12) && (p.wide() && q.wide() || near(p.W, q.W, 8))
}

// shaped is how far two parts have the same shape. Wide ones are stretched, and hold other parts: whether these or what is around them is the ground, is chance.
func (p Part) shaped(q Part) float64 {
	c := correlation(p.Shape, q.Shape)
	if p.wide() {
		return max(c, -c, correlation(p.rows(), q.rows()), bySize)
	}
	return c
}

func (p Part) rows() []byte {
	out := make([]byte, shapeH)
	for v := range out {
		sum := 0
		for u := range shapeW {
			sum += int(p.Shape[v*shapeW+u])
		}
		out[v] = byte(sum / shapeW)
	}
	return out
}

// correlation is that of Pearson, from -1 to 1; of two that are flat, 1.
func correlation(a, b []byte) float64 {
	n := float64(len(a))
	if len(a) != len(b) || n == 0 {
		return 0
	}
	var sa, sb, aa, bb, ab float64
	for i := range a {
		x, y := float64(a[i]), float64(b[i])
		sa, sb, aa, bb, ab = sa+x, sb+y, aa+x*x, bb+y*y, ab+x*y
	}
	va, vb := aa-sa*sa/n, bb-sb*sb/n
	const flat = 1e-9
	switch {
	case va < flat && vb < flat:
		return 1
	case va < flat || vb < flat:
		return 0
	}
	return (ab - sa*sb/n) / math.Sqrt(va*vb)
}

// Stack is pictures that show the same.
type Stack struct {
	Of         []int // by their places in what was given; the first is the one to show
	Difference       // from the largest stack
}

// Stacks puts prints that are alike together. The largest stack is the last: the odd ones come first, the fewest and then the most different.
func Stacks(prints []Print) []Stack {
	var out []Stack
	for i, p := range prints {
		at, best := -1, math.Inf(1)
		for j, s := range out {
			if d := Compare(prints[s.Of[0]], p); d.Alike && d.Apart < best {
				at, best = j, d.Apart
			}
		}
		if at < 0 {
			out = append(out, Stack{Of: []int{i}})
			continue
		}
		out[at].Of = append(out[at].Of, i)
	}
	if len(out) == 0 {
		return nil
	}
	at := 0
	for i, s := range out {
		if len(s.Of) > len(out[at].Of) {
			at = i
		}
	}
	usual := out[at]
	usual.Difference = Difference{Alike: true}
	odd := slices.Delete(out, at, at+1)
	for i, s := range odd {
		odd[i].Difference = Compare(prints[usual.Of[0]], prints[s.Of[0]])
	}
	slices.SortStableFunc(odd, func(x, y Stack) int {
		return cmp.Or(len(x.Of)-len(y.Of), cmp.Compare(y.Apart, x.Apart))
	})
	return append(odd, usual)
}
