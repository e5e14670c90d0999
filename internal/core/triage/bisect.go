package triage

import "math"

// Bisect finds the first bad build among builds in their order, by trying a case on some of them. A case that fails now and then for no reason does not mislead it: it
// keeps how likely each build is to be the first bad one, and each try counts as much as it tells. Source: Burnashev and Zigangirov, An interval estimation
// problem for controlled observations, Problems of Information Transmission 10, 1974; Karp and Kleinberg, Noisy binary search and its applications, SODA 2007.
type Bisect struct {
	likely []float64 // that the build is the first bad one; the first of all is known to be good, the last to be bad
	alarm  float64   // how often the case fails on a good build
	miss   float64   // how often it passes on a bad one
	tries  int
	no     []bool // builds on which the case can't be judged
}

// Unsure is the chance that a bisection's answer may have of being wrong.
const Unsure = 0.02

// leastNoise is how often a case that never was seen to waver is taken to do so: one more look confirms what it says.
const leastNoise = 0.01

// NewBisect begins a bisection of at least two builds. Alarm and miss are how often the case is known to fail, and to pass, for no reason: from 0 to below 0.5.
func NewBisect(builds int, alarm, miss float64) *Bisect {
	bounded := func(p float64) float64 { return min(max(p, leastNoise), 0.49) }
	b := &Bisect{likely: make([]float64, builds), alarm: bounded(alarm), miss: bounded(miss), no: make([]bool, builds)}
	for i := 1; i < builds; i++ {
		b.likely[i] = 1 / float64(builds-1)
	}
	return b
}

// Next is the build to try; false: the answer is known, or as well as it can be.
func (b *Bisect) Next() (build int, more bool) {
	if _, _, unsure := b.Answer(); unsure <= Unsure {
		return 0, false
	}
	bad, nearest := 0.0, math.Inf(1)
	for i := 1; i < len(b.likely)-1; i++ {
		bad += b.likely[i] // it is bad when it or one before is the first
		if d := math.Abs(bad - 0.5); !b.no[i] && d < nearest-1e-12 {
			build, nearest = i, d
		}
	}
	return build, nearest < 0.5-Unsure/2 // else all that can be tried is known
}

// Skip says that the case can't be judged on a build: it is not tried again.
func (b *Bisect) Skip(build int) { b.no[build] = true }

// Saw takes in how the case came out on a build.
func (b *Bisect) Saw(build int, failed bool) {
	sum := 0.0
	for i := range b.likely {
		bad := i <= build
		p := b.alarm
		if bad {
			p = 1 - b.miss
		}
		if !failed {
			p = 1 - p
		}
		b.likely[i] *= p
		sum += b.likely[i]
	}
	for i := range b.likely {
		b.likely[i] /= sum
	}
	b.tries++
}

// Tries is how often a build was tried by now.
func (b *Bisect) Tries() int { return b.tries }

// Answer is the pair of builds between which the case began to fail, as it looks now, and the chance that it is another one.
func (b *Bisect) Answer() (lastGood, firstBad int, unsure float64) {
	for i, p := range b.likely {
		if p > b.likely[firstBad] {
			firstBad = i
		}
	}
	return firstBad - 1, firstBad, max(0, 1-b.likely[firstBad])
}
