package steps

import (
	"math"
	"slices"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/verdict"
)

// What is measured.
const (
	Start      = "start"       // from the call until the app is there, when it was not there before; ms
	ToStep     = "time"        // from the step before, or the beginning of the case; ms
	Memory     = "memory"      // of the app at the step; MB
	LateFrames = "late-frames" // of the frames drawn in the case; %
)

// Measure is one value of one attempt.
type Measure struct {
	What  string  `json:"what"`
	Case  string  `json:"case,omitempty"` // "": of the whole attempt
	Step  string  `json:"step,omitempty"`
	Nth   int     `json:"nth,omitempty"`
	Value float64 `json:"value"`
}

// Key is what is measured, without its value: measures of one key are compared.
type Key struct {
	What, Case, Step string
	Nth              int
}

// Key gives its key.
func (m Measure) Key() Key { return Key{m.What, m.Case, m.Step, m.Nth} }

const (
	maxMeasures = 3000
	nearby      = 3000 // ms from a step to the reading that is taken for it
)

// Measures gives what was measured in an attempt. Of cases, only those count that passed in their first try: else it is another way that was timed. At and series are the gauges,
// as gauges.Collect gives them.
func Measures(tries []Try, at []int64, series []gauges.Series) (out []Measure) {
	of := func(name string) []float64 {
		for _, s := range series {
			if s.Gauge.Name == name {
				return s.Values
			}
		}
		return nil
	}
	memory, late := of(gauges.Memory), of(gauges.LateFrames)
	for _, t := range tries {
		for _, ms := range t.Starts {
			out = append(out, Measure{What: Start, Value: ms})
		}
		if t.Verdict != verdict.Passed || t.Number > 1 {
			continue
		}
		before := t.From
		for _, s := range t.Steps {
			out = append(out, Measure{ToStep, t.Case, s.Name, s.Nth, float64(s.At - before)})
			before = s.At
			if v, ok := around(at, memory, s.At); ok {
				out = append(out, Measure{Memory, t.Case, s.Name, s.Nth, v})
			}
		}
		if v, ok := mean(at, late, t.From, t.To); ok {
			out = append(out, Measure{What: LateFrames, Case: t.Case, Value: v})
		}
	}
	return out[:min(len(out), maxMeasures)]
}

// around is the reading nearest to a moment.
func around(at []int64, values []float64, moment int64) (v float64, ok bool) {
	best := int64(nearby) + 1
	i, _ := slices.BinarySearch(at, moment-nearby)
	for ; i < len(at) && i < len(values) && at[i] <= moment+nearby; i++ {
		if d := max(at[i]-moment, moment-at[i]); d < best && !math.IsNaN(values[i]) {
			best, v, ok = d, values[i], true
		}
	}
	return v, ok
}

// mean is of the readings between two moments.
func mean(at []int64, values []float64, from, to int64) (v float64, ok bool) {
	n := 0
	i, _ := slices.BinarySearch(at, from)
	for ; i < len(at) && i < len(values) && at[i] <= to; i++ {
		if !math.IsNaN(values[i]) {
			v, n = v+values[i], n+1
		}
	}
	return v / float64(max(n, 1)), n > 0
}
