package triage

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAFamilyStandsAgainstTheRunBefore(t *testing.T) {
	at := func(device, name string) Spot { return Spot{Device: device, Case: name} }
	a, b, c, d := at("fen-01", "chart"), at("fen-02", "chart"), at("orr-03", "send"), at("qui-01", "draft")
	now := Ran{Judged: map[Spot]bool{a: true, b: true, c: true, d: true}, Shown: map[string][]Spot{"send": {c}, "draft": {d}, "other": {at("new", "chart")}}}
	before := Ran{Judged: map[Spot]bool{a: true, b: true, c: true, d: true, at("gone", "chart"): true}, Shown: map[string][]Spot{"chart": {a, b}, "send": {c}, "elsewhere": {a, at("gone", "chart")}}}
	assert.Equal(t, map[string]Standing{"send": Still, "draft": New, "other": Unknown, "chart": Mended, "elsewhere": NotRun}, Since(now, before))
	assert.Empty(t, Since(Ran{}, Ran{}))
}

func TestSinceWhenIsReadFromHistory(t *testing.T) {
	for name, x := range map[string]struct {
		history   []Seen
		good, bad string
		shows     bool
	}{
		"since a build":               {[]Seen{{"1", 0, 3}, {"2", 0, 3}, {"3", 2, 1}, {"4", 3, 0}}, "2", "3", true},
		"builds between were not run": {[]Seen{{"1", 0, 3}, {"2", 0, 0}, {"3", 0, 0}, {"4", 3, 0}}, "1", "4", true},
		"as long as is known":         {[]Seen{{"1", 1, 0}, {"2", 1, 0}}, "", "1", true},
		"mended, and back":            {[]Seen{{"1", 1, 0}, {"2", 0, 1}, {"3", 1, 0}}, "2", "3", true},
		"mended":                      {[]Seen{{"1", 1, 0}, {"2", 0, 1}}, "2", "", false},
		"nothing":                     {nil, "", "", false},
	} {
		t.Run(name, func(t *testing.T) {
			good, bad, shows := FirstBad(x.history)
			assert.Equal(t, []any{x.good, x.bad, x.shows}, []any{good, bad, shows})
		})
	}
}

func TestARateHasAnInterval(t *testing.T) {
	low, high := Rate{1, 10}.Interval()
	assert.InDelta(t, 0.0179, low, 1e-4)
	assert.InDelta(t, 0.4042, high, 1e-4)
	low, high = Rate{0, 100}.Interval()
	assert.Zero(t, low)
	assert.InDelta(t, 0.037, high, 1e-3)
	low, high = Rate{}.Interval()
	assert.Equal(t, []float64{0, 1}, []float64{low, high})
}
