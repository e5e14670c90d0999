package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRoll(t *testing.T) {
	for name, c := range map[string]struct {
		in   []Verdict
		want Verdict
		exit int
	}{
		"a crash outweighs everything":             {[]Verdict{Passed, Lost, Failed, Crashed}, Crashed, 1},
		"a failure outweighs a lost device":        {[]Verdict{Lost, Failed, Passed}, Failed, 1},
		"out of time outweighs an invalid package": {[]Verdict{Invalid, Expired}, Expired, 1},
		"a lost device outweighs a person's stop":  {[]Verdict{Stopped, Lost, Passed}, Lost, 3},
		"flaky outweighs passed":                   {[]Verdict{Passed, Flaky}, Flaky, 0},
		"a skipped case hides no pass":             {[]Verdict{Skipped, Passed}, Passed, 0},
		"skipped only if all are":                  {[]Verdict{Skipped, Skipped}, Skipped, 3},
		"no verdict yet is passed over":            {[]Verdict{"", Passed}, Passed, 0},
		"nothing makes nothing":                    {nil, "", 3},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, Roll(c.in...))
			assert.Equal(t, c.exit, ExitCode(Roll(c.in...)))
		})
	}
}

func TestEachVerdictIsCounted(t *testing.T) {
	assert.Equal(t, Counts{Passed: 2, Lost: 1}, Count(Passed, "", Lost, Passed))
}

func TestASessionIsJudgedByWhatWasSeenMarkedAndReported(t *testing.T) {
	for name, c := range map[string]struct {
		seen, marked Verdict
		cases        []Verdict
		want         Verdict
		inferred     bool
	}{
		"nobody said anything":                   {Passed, "", nil, Passed, true},
		"an error was left standing":             {Failed, "", nil, Failed, true},
		"its cases say more":                     {Failed, "", []Verdict{Passed, Passed}, Passed, false},
		"one of them failed":                     {Passed, "", []Verdict{Passed, Failed}, Failed, false},
		"one was left open":                      {Passed, "", []Verdict{Passed, ""}, Passed, true},
		"one was left open after an error":       {Failed, "", []Verdict{Passed, ""}, Failed, true},
		"one failed, one was left open":          {Passed, "", []Verdict{Failed, ""}, Failed, false},
		"the whole was marked":                   {Failed, Passed, nil, Passed, false},
		"the whole counts for more than a case":  {Passed, Passed, []Verdict{Failed}, Passed, false},
		"a crash was seen, whatever was marked":  {Crashed, Passed, nil, Crashed, false},
		"the device was lost, the cases stand":   {Lost, "", []Verdict{Failed}, Failed, false},
		"a person stopped it":                    {Stopped, "", nil, Stopped, false},
		"its client went away, cases had passed": {Expired, "", []Verdict{Passed}, Expired, false},
	} {
		v, inferred := Session(c.seen, c.marked, c.cases...)
		if v != c.want || inferred != c.inferred {
			t.Errorf("%s: %s, inferred %v; want %s, %v", name, v, inferred, c.want, c.inferred)
		}
	}
}
