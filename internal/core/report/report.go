// Package report puts results into words.
//
// In: verdicts. Out: the sentence that a person reads first.
package report

import (
	"fmt"
	"strings"

	"tessellant/internal/core/verdict"
)

// Sentence says how a run on these devices came out, such as
// "4 of 6 devices passed; 1 crashed, 1 failed." Legs without a verdict are counted as still going. What is what they are called: "device", or "leg" where there are
// several on a device.
func Sentence(what string, legs []verdict.Verdict) string {
	total := len(legs)
	if total == 0 {
		return "No device took part."
	}
	c := verdict.Count(legs...)
	going := total
	for _, n := range c {
		going -= n
	}
	noun := what + "s"
	if total == 1 {
		noun = what
	}
	if going == 0 && c[verdict.Passed] == total {
		if total == 1 {
			return "The " + what + " passed."
		}
		return fmt.Sprintf("All %d %s passed.", total, noun)
	}
	s := fmt.Sprintf("%d of %d %s passed", c[verdict.Passed], total, noun)
	var rest []string
	for _, v := range verdict.Order {
		if n := c[v]; n > 0 && v != verdict.Passed {
			rest = append(rest, fmt.Sprintf("%d %s", n, phrase(v, n)))
		}
	}
	if len(rest) > 0 {
		s += "; " + strings.Join(rest, ", ")
	}
	if going > 0 {
		s += fmt.Sprintf("; %d still going", going)
	}
	return s + "."
}

func phrase(v verdict.Verdict, n int) string {
	switch {
	case v == verdict.Expired:
		return "ran out of time"
	case v == verdict.Lost && n == 1:
		return "was lost"
	case v == verdict.Lost:
		return "were lost"
	case v == verdict.Stopped && n == 1:
		return "was stopped"
	case v == verdict.Stopped:
		return "were stopped"
	case v == verdict.Invalid:
		return "could not start the package"
	case v == verdict.Skipped:
		return "skipped every case"
	case v == verdict.Flaky:
		return "flaky"
	}
	return string(v)
}
