package planning

// How long a run will wait and take.
//
// What a leg takes is drawn from how legs like it went: on the same device under the same conditions where there were any, else on the
// same device, on one like it, or on any. Times of work vary by factors, not by differences, so that they are taken as log-normal; a part of the
// factor is common to all legs of a draw, as a busy host slows all of them. Where past legs had fewer cases, each case more adds what a case
// of the package takes that passes: a leg with failures, which waits and tries again, would make others look slow. Many draws give the range that is right 8 times in 10: from the
// tenth of them to the ninetieth. The same request gives the same forecast.

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// Past is a leg that has ended.
type Past struct {
	Device  string // id
	Kind    string // devices.Facts.Kind of it
	Variant string
	Cases   int
	Took    time.Duration // on the device, with its evidence
	Flaky   bool
	Lost    bool // then it says nothing of how long one takes
}

// Range is a time as a range that is right 8 times in 10.
type Range struct{ Low, Likely, High time.Duration }

// Forecast is how long a run will take, from its start to its end.
type Forecast struct {
	Whole Range
	Wait  time.Duration // until the first device begins
	// Basis says what it is based on, in a sentence; Guess: nothing like it has run.
	Basis string
	Guess bool
}

const (
	begins   = 12 * time.Second // what a leg takes besides its cases, where nothing is known
	besides  = 20 * time.Second // of the time of a past leg: at most, and no more than half of it
	others   = 0.25             // how much surer one is of the cases that ran than of others: the spread for e times as many
	perCase  = 8 * time.Second
	common   = 0.10 // the part of the spread that all legs share
	mostPast = 8    // of legs alike that are looked at
	draws    = 400
	leastOf  = 24 // draws, however many legs there are
	work     = 400_000
)

// guess is what a leg will take: the logarithm's mean and spread, in ln seconds.
type guess struct {
	mean, spread float64
	shared       float64 // the part of the spread that all legs share: what is not known of cases that have not run yet
	like         int     // how alike the legs are that it comes from: 3 the same device and conditions … 0 none
}

// history finds past legs.
type history struct {
	device, variant, kind map[string][]Past
	all                   []Past
	more                  time.Duration // what a case more takes; 0: not known
}

func newHistory(past []Past, cases []Case) history {
	h := history{device: map[string][]Past{}, variant: map[string][]Past{}, kind: map[string][]Past{}}
	known := 0
	for _, c := range cases {
		if c.Took > 0 {
			known, h.more = known+1, h.more+c.Took
		}
	}
	h.more /= time.Duration(max(known, 1))
	add := func(to map[string][]Past, key string, x Past) {
		if len(to[key]) < mostPast {
			to[key] = append(to[key], x)
		}
	}
	for _, x := range past {
		if x.Lost || x.Took <= 0 {
			continue
		}
		add(h.device, x.Device, x)
		add(h.variant, x.Device+" "+x.Variant, x)
		add(h.kind, x.Kind, x)
		if len(h.all) < 200 {
			h.all = append(h.all, x)
		}
	}
	return h
}

func (h history) of(l Leg) guess {
	for _, c := range []struct {
		from   []Past
		spread float64 // at least, and more where there are few
		like   int
	}{{h.variant[l.Device.ID+" "+l.Variant.Name], 0.06, 3}, {h.device[l.Device.ID], 0.12, 2}, {h.kind[l.Device.Facts.Kind()], 0.18, 2}, {h.all, 0.25, 1}} {
		if len(c.from) == 0 {
			continue
		}
		mean, square, shared := 0.0, 0.0, 0.0
		for _, x := range c.from {
			v := math.Log(grown(x.Took, x.Cases, len(l.Cases), h.more).Seconds())
			mean += v
			square += v * v
			if x.Cases > 0 && len(l.Cases) > 0 {
				shared += math.Abs(math.Log(float64(len(l.Cases))/float64(x.Cases))) * others
			}
		}
		n := float64(len(c.from))
		mean /= n
		variance := max(0, square/n-mean*mean)
		return guess{mean, math.Sqrt(variance*(1+1/n) + c.spread*c.spread*(1+2/n)), math.Hypot(common, shared/n), c.like}
	}
	return guess{math.Log((begins + time.Duration(max(len(l.Cases), 5))*perCase).Seconds()), 0.25, 0.55, 0} // what is not known of the cases is the same for all legs
}

// grown says how long a leg takes with as many cases, by one that had others. What it takes besides its cases is the same for both; a case
// more takes what is known of cases, or as long as those that it had.
func grown(took time.Duration, had, has int, more time.Duration) time.Duration {
	if had <= 0 || has <= 0 {
		return took
	}
	if has > had && more > 0 {
		return took + time.Duration(has-had)*more
	}
	same := min(besides, took/2)
	return same + time.Duration(float64(took-same)*float64(has)/float64(had))
}

// forecast says how long the plan will take.
func (p *Plan) forecast(q Request) {
	if len(p.Legs) == 0 {
		return
	}
	h := newHistory(q.Past, q.Cases)
	guesses := make([]guess, len(p.Legs))
	likes := [4]int{}
	first := time.Duration(math.MaxInt64)
	devicesOf := map[string]int{}
	var order []int // of each leg: the number of its device
	var busy []float64
	lanes := newLanes(q)
	lane := make([]int, len(p.Legs))      // of each leg: the number of its lab's lanes; -1: it has none
	start := make([]float64, len(p.Legs)) // of each leg: the seconds until its device is up
	for i, l := range p.Legs {
		guesses[i] = h.of(l)
		likes[guesses[i].like]++
		g := guesses[i]
		at := func(z float64) time.Duration { return seconds(math.Exp(g.mean + z*math.Hypot(g.spread, g.shared))) }
		p.Legs[i].Likely = Range{at(-1.2816), at(0), at(1.2816)} // the quantiles of the normal distribution
		n, ok := devicesOf[l.Device.ID]
		if !ok {
			n = len(busy)
			devicesOf[l.Device.ID], busy = n, append(busy, l.Device.Busy.Seconds())
		}
		order = append(order, n)
		lane[i] = lanes.of(l.Device.Lab)
		if l.Device.Facts.Startable {
			start[i] = q.Labs[l.Device.Lab].Start.Seconds()
		}
		first = min(first, l.Device.Busy)
	}
	rnd := rand.New(rand.NewPCG(7, 11))
	times := make([]float64, min(draws, max(leastOf, work/len(p.Legs))))
	ends := make([]float64, len(busy))
	for n := range times {
		shared := rnd.NormFloat64()
		for d, b := range busy {
			if ends[d] = 0; b > 0 {
				ends[d] = b * math.Exp(rnd.NormFloat64()*0.5)
			}
		}
		lanes.begin(guesses)
		for i, g := range guesses {
			ends[order[i]] = lanes.run(lane[i], ends[order[i]], start[i]+math.Exp(g.mean+shared*g.shared+rnd.NormFloat64()*g.spread))
		}
		times[n] = slices.Max(ends)
	}
	slices.Sort(times)
	at := func(part float64) time.Duration { return seconds(times[int(part*float64(len(times)-1)+0.5)]) }
	p.Forecast = Forecast{Whole: Range{at(0.1), at(0.5), at(0.9)}, Wait: first}
	p.lanes(q)
	total := len(p.Legs)
	switch {
	case likes[0] == total:
		p.Forecast.Guess, p.Forecast.Basis = true, "a guess from the number of cases: nothing like it has run yet"
	case likes[3] == total:
		p.Forecast.Basis = "from past legs on the same devices"
	case likes[3]+likes[2] == total:
		p.Forecast.Basis = "from past legs on the same devices, or on devices like them"
	default:
		p.Forecast.Basis = fmt.Sprintf("from past legs of this package; %d of %d legs have none on a device like theirs", likes[0]+likes[1], total)
	}
	for i, l := range p.Legs {
		if q.Limit > 0 && guesses[i].like > 0 && l.Likely.Likely > q.Limit {
			p.Findings = append(p.Findings, Finding{Warns, l.Device.Facts.Serial, l.Variant.Name, fmt.Sprintf("it is likely to take %s here, and the limit is %s", rounded(l.Likely.Likely), rounded(q.Limit)), "allow more time with --limit, or choose fewer cases"})
		}
	}
}

func seconds(s float64) time.Duration { return time.Duration(min(s, 1e8) * float64(time.Second)) }

// rounded is a time as people say it.
func rounded(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}

// lately says of devices that did not do well in their last legs.
func (p *Plan) lately(q Request) {
	type of struct{ legs, flaky, lost int }
	last := map[string]*of{}
	for _, x := range q.Past {
		o := last[x.Device]
		if o == nil {
			o = &of{}
			last[x.Device] = o
		}
		if o.legs == mostPast {
			continue
		}
		o.legs++
		if x.Flaky {
			o.flaky++
		}
		if x.Lost {
			o.lost++
		}
	}
	var said []Finding
	for _, d := range p.Devices {
		o := cmp.Or(last[d.ID], &of{})
		switch {
		case o.lost > 0:
			said = append(said, Finding{Notes, d.Facts.Serial, "", fmt.Sprintf("the device was lost in %d of its last %d legs with this package", o.lost, o.legs), "check its cable with: tessellant device check " + d.Facts.Serial})
		case d.Lost > 0:
			said = append(said, Finding{Notes, d.Facts.Serial, "", "the device was lost in its last attempt", "check its cable with: tessellant device check " + d.Facts.Serial})
		case o.flaky > 1 && 2*o.flaky >= o.legs:
			said = append(said, Finding{Notes, d.Facts.Serial, "", fmt.Sprintf("%d of its last %d legs with this package were flaky", o.flaky, o.legs), "see which cases with: tessellant device show " + d.Facts.Serial})
		}
	}
	p.Findings = append(p.Findings, said...)
}

// Held says how a run came out against its forecast: "inside", "sooner" or "later".
func (r Range) Held(took time.Duration) string {
	switch {
	case took < r.Low:
		return "sooner"
	case took > r.High:
		return "later"
	}
	return "inside"
}
