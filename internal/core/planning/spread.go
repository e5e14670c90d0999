package planning

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// spread shares the cases out among devices that are alike, so that each runs on one of each kind: the longest case first, each to the device that has
// least to do by then (longest processing time first: Graham 1969, "Bounds on multiprocessing timing anomalies"; at most a third more than the best).
func (p *Plan) spread(q Request) {
	took := map[string]time.Duration{}
	place := map[string]int{}
	known, sum := 0, time.Duration(0)
	for i, c := range q.Cases {
		place[c.Name] = i
		if took[c.Name] = c.Took; c.Took > 0 {
			known, sum = known+1, sum+c.Took
		}
	}
	usual := perCase
	if known > 0 {
		usual = sum / time.Duration(known)
	}
	for name, d := range took {
		if d == 0 {
			took[name] = usual
		}
	}
	kinds := map[string][]int{} // legs, by what they have in common
	var order []string
	for i, l := range p.Legs {
		k := l.Device.Facts.Kind() + " " + l.Variant.Name + " " + strings.Join(l.Cases, "\x00") // what a case needs may tell units apart by their labels
		if kinds[k] == nil {
			order = append(order, k)
		}
		kinds[k] = append(kinds[k], i)
	}
	for _, k := range order {
		legs := kinds[k]
		if len(legs) < 2 {
			continue
		}
		cases := slices.Clone(p.Legs[legs[0]].Cases)
		slices.SortStableFunc(cases, func(a, b string) int { return cmp.Compare(took[b], took[a]) })
		load := make([]time.Duration, len(legs))
		for n, i := range legs {
			p.Legs[i].Cases = nil
			load[n] = p.Legs[i].Device.Busy
		}
		for _, c := range cases {
			n := slices.Index(load, slices.Min(load))
			load[n] += took[c]
			p.Legs[legs[n]].Cases = append(p.Legs[legs[n]].Cases, c)
		}
		for _, i := range legs {
			slices.SortFunc(p.Legs[i].Cases, func(a, b string) int { return place[a] - place[b] })
		}
	}
	p.Legs = slices.DeleteFunc(p.Legs, func(l Leg) bool { return len(l.Cases) == 0 }) // more devices than cases
}
