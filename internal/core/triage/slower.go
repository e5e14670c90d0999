package triage

import (
	"cmp"
	"math"
	"slices"
)

// Change is how what was measured differs from what was measured before.
type Change struct {
	By     float64 // the shift: so much more; in the measure's own unit
	Before float64 // the median
	Chance float64 // of being noise
}

const (
	noise       = 0.01 // the chance of being noise that a change may have at most
	fewest      = 3    // values on each side, for anything to be said
	worthSaying = 0.05 // of the median before: what is less is no matter
	exactly     = 12   // values on each side up to which the chance is counted out
)

// Slower says whether values have grown. False: they have not, by too little to matter, or it may be noise.
//
// The test is the rank sum test, one-sided: Mann and Whitney, On a test of whether one of two random variables is stochastically larger than the other, Annals of
// Mathematical Statistics 18, 1947; counted out where few values have no ties, else by the normal approximation with the correction for ties. The shift is the median of
// all differences: Hodges and Lehmann, Estimates of location based on rank tests, Annals of Mathematical Statistics 34, 1963.
func Slower(before, now []float64) (c Change, is bool) {
	m, n := len(before), len(now)
	if m < fewest || n < fewest {
		return c, false
	}
	differences := make([]float64, 0, m*n)
	u := 0.0 // how often a value of now is the greater one; ties count half
	for _, b := range before {
		for _, a := range now {
			differences = append(differences, a-b)
			switch {
			case a > b:
				u++
			case a == b:
				u += 0.5
			}
		}
	}
	c = Change{By: middle(differences), Before: middle(slices.Clone(before)), Chance: rankSum(before, now, u)}
	return c, c.Chance <= noise && c.By >= worthSaying*math.Abs(c.Before)
}

// Compared is one thing that was measured, before and now.
type Compared struct{ Before, Now []float64 }

// SlowerOf says which of many have grown, by their places in what was given. The more are looked at, the surer each has to be: Holm, A simple sequentially rejective
// multiple test procedure, Scandinavian Journal of Statistics 6, 1979, with the chance of a single false alarm among all at most that of noise. Looked is how many had values enough.
func SlowerOf(all []Compared) (grown map[int]Change, looked int) {
	type one struct {
		at int
		c  Change
		is bool
	}
	var ones []one
	for i, x := range all {
		if len(x.Before) < fewest || len(x.Now) < fewest {
			continue
		}
		c, is := Slower(x.Before, x.Now)
		ones = append(ones, one{i, c, is})
	}
	slices.SortStableFunc(ones, func(a, b one) int { return cmp.Compare(a.c.Chance, b.c.Chance) })
	grown = map[int]Change{}
	for i, o := range ones {
		if o.c.Chance*float64(len(ones)-i) > noise {
			break
		}
		if o.is {
			grown[o.at] = o.c
		}
	}
	return grown, len(ones)
}

func middle(of []float64) float64 {
	slices.Sort(of)
	n := len(of)
	if n%2 == 1 {
		return of[n/2]
	}
	return (of[n/2-1] + of[n/2]) / 2
}

// rankSum is the chance of a count of at least u, were both sides alike.
func rankSum(before, now []float64, u float64) float64 {
	m, n := len(before), len(now)
	all := slices.Sorted(slices.Values(slices.Concat(before, now)))
	ties := 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j] == all[i] {
			j++
		}
		t := float64(j - i)
		ties += t*t*t - t
		i = j
	}
	if ties == 0 && m <= exactly && n <= exactly {
		return atLeast(m, n, int(u))
	}
	total := float64(m + n)
	spread := float64(m) * float64(n) / 12 * (total + 1 - ties/(total*(total-1)))
	if spread <= 0 {
		return 1 // all are the same
	}
	z := (u - float64(m)*float64(n)/2 - 0.5) / math.Sqrt(spread)
	return math.Erfc(z/math.Sqrt2) / 2
}

// atLeast is the share of all orders of m and n values in which the count is at least u.
func atLeast(m, n, u int) float64 {
	// ways[k] is how many orders of i and j values have the count k: the greatest is one of now, with i below it, or one of before.
	ways := make([][]float64, n+1)
	for j := range ways {
		ways[j] = make([]float64, m*n+1)
		ways[j][0] = 1
	}
	for i := 1; i <= m; i++ {
		for j := 1; j <= n; j++ {
			next := make([]float64, m*n+1)
			copy(next, ways[j]) // the greatest is one of before
			for k := i; k <= m*n; k++ {
				next[k] += ways[j-1][k-i]
			}
			ways[j] = next
		}
	}
	sum, all := 0.0, 0.0
	for k, w := range ways[n] {
		if all += w; k >= u {
			sum += w
		}
	}
	return sum / all
}
