package gauges

// Bounds: limits on gauges that a run sets.

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// Bound is what a gauge must keep to.
type Bound struct {
	Gauge string  `json:"gauge"`
	Is    string  `json:"is"` // <, <=, > or >=
	Value float64 `json:"value"`
}

// MaxBounds is how many a run may have.
const MaxBounds = 20

var boundForm = regexp.MustCompile(`^\s*([a-z-]+)\s*(<=|>=|<|>)\s*([0-9]+(?:\.[0-9]+)?)\s*$`)

// ParseBound reads a bound such as memory<400.
func ParseBound(text string) (b Bound, err error) {
	m := boundForm.FindStringSubmatch(strings.ToLower(text))
	if m == nil {
		return b, fmt.Errorf("%.60q is no bound; write a gauge, then < or >, then a number, such as memory<400", text)
	}
	if _, err = Of(m[1]); err != nil {
		return b, err
	}
	b = Bound{Gauge: m[1], Is: m[2]}
	if b.Value, err = strconv.ParseFloat(m[3], 64); err != nil || b.Value > 1e9 {
		return b, fmt.Errorf("%.60q: the number is too large", text)
	}
	return b, nil
}

// ParseBounds reads all of them.
func ParseBounds(texts []string) (out []Bound, err error) {
	if len(texts) > MaxBounds {
		return nil, fmt.Errorf("%d bounds are too many; %d is the most", len(texts), MaxBounds)
	}
	for _, t := range texts {
		b, err := ParseBound(t)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}

func (b Bound) String() string { return b.Gauge + b.Is + strconv.FormatFloat(b.Value, 'f', -1, 64) }

// Kept says whether a value keeps to the bound.
func (b Bound) Kept(v float64) bool {
	switch b.Is {
	case "<":
		return v < b.Value
	case "<=":
		return v <= b.Value
	case ">":
		return v > b.Value
	}
	return v >= b.Value
}

// Passed is where a bound was not kept.
type Passed struct {
	Bound Bound
	At    int64 // ms, the first time
	Worst float64
	Times int // readings that did not keep to it
}

func (p Passed) String() string {
	g, _ := Of(p.Bound.Gauge)
	return fmt.Sprintf("the bound %s was passed: %s was %s", p.Bound, p.Bound.Gauge, g.With(p.Worst))
}

// Watch remembers where samples did not keep to bounds. The zero Watch has none.
type Watch struct {
	Bounds []Bound
	broken []broken
}

type broken struct {
	bound int
	at    int64
	value float64
}

// Feed takes a sample in.
func (w *Watch) Feed(s Sample) {
	for i, b := range w.Bounds {
		if v, ok := s.Values[b.Gauge]; ok && !math.IsNaN(v) && !b.Kept(v) && len(w.broken) < maxRows {
			w.broken = append(w.broken, broken{i, s.At, v})
		}
	}
}

// Within says which bounds were passed from one moment to another, ms, in the order of the bounds.
func (w *Watch) Within(from, to int64) (out []Passed) {
	for i, b := range w.Bounds {
		p := Passed{Bound: b}
		for _, x := range w.broken {
			if x.bound != i || x.at < from || x.at > to {
				continue
			}
			if p.Times++; p.Times == 1 {
				p.At, p.Worst = x.at, x.value
			} else if b.Is[0] == '<' {
				p.Worst = max(p.Worst, x.value)
			} else {
				p.Worst = min(p.Worst, x.value)
			}
		}
		if p.Times > 0 {
			out = append(out, p)
		}
	}
	return out
}
