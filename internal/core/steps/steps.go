// Package steps reads an attempt step by step.
//
// A step is a named moment of a case, with its screenshot. Of reads the tries of cases, and the steps in them, out of a timeline. A Look is what a step's picture and tree
// said (look.go). Measures are what can become slower (measures.go). Align puts two attempts, or two tries of a case, beside each other by cases and steps, not by seconds
// (align.go). In: events, samples of gauges. Out: tries with their steps, measures, pairs. It computes alone.
package steps

import (
	"regexp"
	"strconv"
	"sync"

	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

// Step is a named moment of a case.
type Step struct {
	Name string `json:"name"`
	Nth  int    `json:"nth"` // of several of the name in one try, from 1
	At   int64  `json:"at"`  // ms on the attempt's clock
	File string `json:"file,omitempty"`
	Tree string `json:"tree,omitempty"`
}

// Try is one try of a case.
type Try struct {
	Case    string
	Number  int // from 1
	From    int64
	To      int64 // 0: it goes on, or was cut off
	Verdict verdict.Verdict
	Error   string
	File    string // the picture at its end, where it did not pass
	Tree    string
	Steps   []Step
	Starts  []float64 // how long the app took to start each time that it was not there before, ms
	Calls   int       // commands
}

// Reader gathers tries while the events of a timeline go by. The zero Reader is ready.
type Reader struct {
	tries []Try
	open  int // place of the try that goes on, plus one
	count map[string]int
}

const maxSteps = 5000 // of an attempt that are gathered

// cold is how a phone says how long the app took that was not there before.
var cold = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^cold start, (\d+) ms`) })

// Add takes the next event.
func (r *Reader) Add(e timeline.Event) {
	var now *Try
	if r.open > 0 {
		now = &r.tries[r.open-1]
	}
	switch e.Kind {
	case timeline.Case:
		number, _ := strconv.Atoi(e.Args["try"])
		if e.Verdict == "" {
			r.tries = append(r.tries, Try{Case: e.Name, Number: max(number, 1), From: e.At})
			r.open, r.count = len(r.tries), map[string]int{}
			return
		}
		if now == nil || now.Case != e.Name { // a case that is known from a report may end after another one began
			for i := len(r.tries) - 1; i >= 0; i-- {
				if r.tries[i].Case == e.Name && r.tries[i].To == 0 {
					now = &r.tries[i]
					break
				}
			}
		}
		if now != nil && now.Case == e.Name {
			now.To, now.Verdict, now.Error, now.File, now.Tree = e.At, verdict.Verdict(e.Verdict), e.Error, e.File, e.Tree
			if r.open > 0 && now == &r.tries[r.open-1] {
				r.open = 0
			}
		}
	case timeline.Step:
		if now == nil || len(now.Steps) >= maxSteps {
			return
		}
		r.count[e.Name]++
		now.Steps = append(now.Steps, Step{Name: e.Name, Nth: r.count[e.Name], At: e.At, File: e.File, Tree: e.Tree})
	case timeline.Command:
		if now == nil {
			return
		}
		now.Calls++
		if m := cold().FindStringSubmatch(e.Answer); e.Name == "launch" && m != nil && e.Error == "" {
			ms, _ := strconv.ParseFloat(m[1], 64)
			now.Starts = append(now.Starts, ms)
		}
	}
}

// Tries gives all tries so far, in their order.
func (r *Reader) Tries() []Try { return r.tries }

// Last gives the last try of each case, in the order in which the cases began.
func Last(tries []Try) (out []Try) {
	at := map[string]int{}
	for _, t := range tries {
		if i, ok := at[t.Case]; ok {
			out[i] = t
			continue
		}
		at[t.Case] = len(out)
		out = append(out, t)
	}
	return out
}
