package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tessellant/api"
)

func ptr[T any](v T) *T { return &v }

func TestFiguresAreWrittenForPeople(t *testing.T) {
	for d, want := range map[time.Duration]string{900 * time.Millisecond: "0.9 s", 42 * time.Second: "42 s", 75 * time.Second: "1:15 min", 3723 * time.Second: "62:03 min"} {
		assert.Equal(t, want, TookText(d))
	}
	for n, want := range map[int64]string{512: "512 B", 25_277: "25.3 kB", 157_300_000: "157.3 MB"} {
		assert.Equal(t, want, BytesText(n))
	}
	for ms, want := range map[int64]string{0: "0:00.000", 64_352: "1:04.352", -1500: "-0:01.500"} {
		assert.Equal(t, want, clock(ms))
	}
	assert.Equal(t, "just now", ago(time.Now()))
	assert.Equal(t, "5 min ago", ago(time.Now().Add(-5*time.Minute)))
	assert.Equal(t, "3 h ago", ago(time.Now().Add(-3*time.Hour)))
	assert.Regexp(t, `^\d+ \w+ \d{4}$`, ago(time.Now().AddDate(0, -2, 0)))
	assert.Equal(t, "1 case", Plural(1, "case"))
	assert.Equal(t, "2 cases", Plural(2, "case"))
	assert.Equal(t, "ab…", clipTo("ab\n  cdef", 3)[:5])
}

func TestALegsCasesAreCountedTheGravestFirst(t *testing.T) {
	l := api.LegSummary{Stage: "running", CasesTotal: 8, Cases: map[string]int{"passed": 3, "crashed": 1}}
	assert.Equal(t, "4 of 8, 1 crashed, 3 passed", caseText(l))
	l.Stage, l.Cases["passed"] = "done", 7
	assert.Equal(t, "1 crashed, 7 passed", caseText(l))
	assert.Empty(t, legTook(l))
}

func TestChangesAreWrittenOnceEach(t *testing.T) {
	var out bytes.Buffer
	a := &App{Out: &out}
	r := &api.Run{Legs: []api.LegSummary{{Serial: "d-1", Stage: "running", CasesTotal: 1, Now: ptr("c.test_a")}}}
	seen := map[string]string{}
	a.changes(r, seen)
	a.changes(r, seen)
	r.Legs[0].Now = nil
	a.changes(r, seen) // between two cases: nothing to say
	r.Legs[0].Stage, r.Legs[0].Verdict, r.Legs[0].Cases = "done", ptr(api.Passed), map[string]int{"passed": 1}
	a.changes(r, seen)
	assert.Regexp(t, `^\d\d:\d\d:\d\d  d-1      running c\.test_a \(0 of 1\)\n\d\d:\d\d:\d\d  d-1      passed \(1 passed\)\n$`, out.String())
}

func TestTheLiveTableIsDrawnOverItself(t *testing.T) {
	var out bytes.Buffer
	a := &App{Out: &out}
	r := &api.Run{Legs: []api.LegSummary{{Serial: "d-1", Model: "Orrery Skerry 5", Simulated: true, Os: "14", Stage: "waiting", CasesTotal: 2}, {Serial: "d-2", Stage: "done", Verdict: ptr(api.Crashed)}}}
	n := a.redraw(r, 60, 0)
	assert.Equal(t, 3, n)
	assert.NotContains(t, out.String(), "\x1b[3A")
	assert.Contains(t, out.String(), "(simulated)")
	out.Reset()
	a.redraw(r, 60, n)
	assert.Contains(t, out.String(), "\x1b[3A", "it goes up by as many lines as it had")
}

func TestFailuresShowWhatCounts(t *testing.T) {
	for want, c := range map[string]api.CaseResult{
		"\nt failed at a.star:3\n    the total\n    expected  \"6.5\"\n    actual    \"29\"\n    screen    s.png\n": {Name: "t", Verdict: ptr(api.Failed), Line: ptr("a.star:3"), Expected: ptr(`"6.5"`), Actual: ptr(`"29"`),
			Message: ptr(`the total: expected "6.5", but there was "29"`), Shot: ptr("s.png")},
		"\nt crashed\n    java.lang.X: no\n        at a.B.c(B.java:1)\n": {Name: "t", Verdict: ptr(api.Crashed), Message: ptr("java.lang.X: no"), Trace: ptr("FATAL EXCEPTION: main\njava.lang.X: no\n\tat a.B.c(B.java:1)\n")},
		"": {Name: "t", Verdict: ptr(api.Passed)},
	} {
		var out bytes.Buffer
		(&App{Out: &out}).failure(c)
		assert.Equal(t, want, out.String())
	}
}
