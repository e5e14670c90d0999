package triage

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTwoRunsAreHeldAgainstEachOther(t *testing.T) {
	before := []Placed{
		{"a", []Judged{{"x", "passed"}, {"y", "failed"}, {"z", "passed"}}},
		{"b", []Judged{{"x", "passed"}, {"y", "passed"}, {"old", "passed"}}},
		{"gone", []Judged{{"x", "passed"}}},
		{"b", []Judged{{"x", "failed"}}}, // a second leg at one place
	}
	now := []Placed{
		{"b", []Judged{{"x", "flaky"}, {"y", "crashed"}, {"new", "passed"}}},
		{"a", []Judged{{"x", "passed"}, {"y", "passed"}, {"z", "skipped"}}},
		{"come", []Judged{{"x", "failed"}}},
	}
	c := Compare(before, now)
	assert.Equal(t, []Difference{
		{Before: 1, Now: 0, Case: "y", BeforeWas: "passed", NowIs: "crashed", Worse: true, SaysOfTheApp: true},
		{Before: 1, Now: 0, Case: "x", BeforeWas: "passed", NowIs: "flaky", SaysOfTheApp: true},
		{Before: 0, Now: 1, Case: "y", BeforeWas: "failed", NowIs: "passed", SaysOfTheApp: true},
		{Before: 0, Now: 1, Case: "z", BeforeWas: "passed", NowIs: "skipped"},
	}, c.Differences)
	assert.Equal(t, []int{1, 1, 1, 1, 1, 1, 2, 1}, []int{c.Worse, c.Better, c.NewFlaky, c.Alike, c.OnlyBefore, c.OnlyNow, c.LegsBefore, c.LegsNow})
	assert.Empty(t, Compare(now, now).Differences)
	assert.Zero(t, Compare(nil, nil))
}
