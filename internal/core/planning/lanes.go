package planning

// Labs that lend only so many devices at a time: their legs run in so many lanes, also where more devices are free.

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"tessellant/internal/core/devices"
)

// lanes are those of all labs of a request, in one draw of a forecast.
type lanes struct {
	number map[string]int
	labs   []Lab
	busy   [][]float64 // of each lab: until when its lanes are taken by other work, in seconds
	until  [][]float64 // the same, as the draw goes on
}

func newLanes(q Request) *lanes {
	x := &lanes{number: map[string]int{}}
	for _, key := range slices.Sorted(maps.Keys(q.Labs)) {
		l := q.Labs[key]
		if l.AtOnce <= 0 {
			continue
		}
		x.number[key] = len(x.labs)
		x.labs = append(x.labs, l)
		var busy []float64
		for _, d := range q.Devices {
			if d.Lab == key && d.Busy > 0 {
				busy = append(busy, d.Busy.Seconds())
			}
		}
		slices.Sort(busy)
		x.busy = append(x.busy, append(busy[max(0, len(busy)-l.AtOnce):], make([]float64, max(0, l.AtOnce-len(busy)))...))
	}
	x.until = make([][]float64, len(x.labs))
	return x
}

// of gives the number of a lab's lanes; -1: it has none.
func (x *lanes) of(lab string) int {
	if n, ok := x.number[lab]; ok && lab != "" {
		return n
	}
	return -1
}

// begin begins a draw. Who waits at a lab already takes about as long as one of ours.
func (x *lanes) begin(guesses []guess) {
	mean := 0.0
	for _, g := range guesses {
		mean += math.Exp(g.mean) / float64(len(guesses))
	}
	for n, l := range x.labs {
		x.until[n] = append(x.until[n][:0], x.busy[n]...)
		for i := range min(l.Queue, 1000) {
			x.until[n][i%l.AtOnce] += mean
		}
	}
}

// run says when a leg ends that may begin at a moment and takes so long, in the lane that is free first.
func (x *lanes) run(n int, from, takes float64) float64 {
	if n < 0 {
		return from + takes
	}
	first := 0
	for i, u := range x.until[n] {
		if u < x.until[n][first] {
			first = i
		}
	}
	end := max(from, x.until[n][first]) + takes
	x.until[n][first] = end
	return end
}

// lent says what the labs that lend devices do not give.
func (p *Plan) lent(q Request) {
	seen := map[string]bool{}
	for _, d := range p.Devices {
		f := d.Facts
		if !f.Lent || seen[d.Lab+f.Platform] {
			continue
		}
		seen[d.Lab+f.Platform] = true
		p.Findings = append(p.Findings, Finding{Level: Notes, What: fmt.Sprintf("of devices with %s of the lab %s: %s", devices.Platforms[f.Platform], cmp.Or(q.Labs[d.Lab].Name, f.Place), strings.Join(f.Limits, "; ")), Remedy: "nothing has to be done; a case that needs such a thing fails there"})
	}
}

// lanes says where a lab lends fewer devices at a time than the run has there.
func (p *Plan) lanes(q Request) {
	on := map[string]map[string]bool{}
	for _, l := range p.Legs {
		if l.Device.Lab == "" {
			continue
		}
		if on[l.Device.Lab] == nil {
			on[l.Device.Lab] = map[string]bool{}
		}
		on[l.Device.Lab][l.Device.ID] = true
	}
	for _, key := range slices.Sorted(maps.Keys(on)) {
		l := q.Labs[key]
		if n := len(on[key]); l.AtOnce > 0 && n > l.AtOnce {
			what := fmt.Sprintf("the lab %s lends %d devices at a time, and the run has %d there: the others wait", l.Name, l.AtOnce, n)
			if l.Queue > 0 {
				what += fmt.Sprintf("; %d sessions wait there already", l.Queue)
			}
			p.Findings = append(p.Findings, Finding{Level: Notes, What: what, Remedy: "nothing has to be done; fewer devices of the lab end sooner"})
		}
	}
}
