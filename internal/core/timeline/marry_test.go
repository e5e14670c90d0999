package timeline

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCasesOfAReportComeAmongTheEventsOfTheirTime(t *testing.T) {
	events := []Event{{At: 1, Kind: Stage, Name: "running"}, {At: 10, Kind: Command, Name: "find", Case: "opens"}, {At: 20, Kind: Command, Name: "tap", Case: "opens"}, {At: 35, Kind: Command, Name: "back"}, {At: 60, Kind: Stage, Name: "collecting"}}
	got := Marry(events, []Span{{Name: "Shore.opens", Mark: "opens", From: 10, To: 25, End: Event{Verdict: "passed"}}, {Name: "Shore.skips", From: 25, To: 25, End: Event{Verdict: "skipped"}}, {Name: "Shore.closes", From: 30, To: 50, End: Event{Verdict: "failed", Error: "no"}}})
	var said []string
	for i, e := range got {
		assert.Equal(t, i+1, e.Seq)
		said = append(said, strings.TrimSpace(fmt.Sprintf("%d %s %s %s", e.At, e.Name, e.Verdict, e.Case)))
	}
	assert.Equal(t, []string{"1 running", "10 Shore.opens  Shore.opens", "10 find  Shore.opens", "20 tap  Shore.opens", "25 Shore.opens passed Shore.opens", "25 Shore.skips  Shore.skips", "25 Shore.skips skipped Shore.skips",
		"30 Shore.closes  Shore.closes", "35 back  Shore.closes", "50 Shore.closes failed Shore.closes", "60 collecting"}, said)
}

func TestCasesOfAReportTakeThePlacesOfTheirMarks(t *testing.T) {
	events := []Event{
		{At: 10, Kind: Case, Name: "opens", Case: "opens"}, {At: 12, Kind: Command, Name: "find", Case: "opens"}, {At: 15, Kind: Case, Name: "opens", Case: "opens", Verdict: "passed"},
		{At: 20, Kind: Case, Name: "opens", Case: "opens"}, {At: 22, Kind: Command, Name: "tap", Case: "opens"}, {At: 25, Kind: Case, Name: "opens", Case: "opens", Verdict: "passed"},
		{At: 30, Kind: Case, Name: "more", Case: "more"}, {At: 31, Kind: Case, Name: "more", Case: "more", Verdict: "failed"}}
	got := Marry(events, []Span{{Name: "Tides.opens", Mark: "opens", From: 20, To: 25, End: Event{Verdict: "failed"}}, {Name: "Shores.opens", Mark: "opens", From: 10, To: 15, End: Event{Verdict: "passed"}}})
	var said []string
	for _, e := range got {
		said = append(said, strings.TrimSpace(fmt.Sprintf("%d %s %s %s", e.At, e.Name, e.Verdict, e.Case)))
	}
	assert.Equal(t, []string{"10 Shores.opens  Shores.opens", "12 find  Shores.opens", "15 Shores.opens passed Shores.opens", "20 Tides.opens  Tides.opens", "22 tap  Tides.opens", "25 Tides.opens failed Tides.opens",
		"30 more  more", "31 more failed more"}, said, "what the report does not know stays as it was marked")
}

func TestWhatHappensAtOneMomentIsInOrder(t *testing.T) {
	events := []Event{{At: 25, Kind: Command, Name: "last of one", Case: "one"}, {At: 25, Kind: Command, Name: "first of two", Case: "two"}, {At: 25, Kind: Log, Name: "output"}, {At: 40, Kind: Stage, Name: "collecting"}}
	got := Marry(events, []Span{{Name: "two", Mark: "two", From: 25, To: 40, End: Event{Verdict: "passed"}}, {Name: "none", From: 25, To: 25, End: Event{Verdict: "skipped"}}, {Name: "one", Mark: "one", From: 10, To: 25, End: Event{Verdict: "failed"}}})
	var said []string
	for _, e := range got {
		said = append(said, strings.TrimSpace(e.Name+" "+e.Verdict))
	}
	assert.Equal(t, []string{"one", "last of one", "one failed", "none", "none skipped", "two", "first of two", "output", "collecting", "two passed"}, said)
}

// However events and cases lie, nothing is lost, each case's events stand between its beginning and its end, and time goes on.
func TestMarryingLosesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 11))
	for range 300 {
		var events []Event
		at := int64(1)
		for i := range r.IntN(60) {
			at += r.Int64N(4)
			e := Event{At: at, Kind: Command, Name: fmt.Sprint("event ", i)}
			if r.IntN(10) == 0 {
				e.Kind = Stage
			}
			events = append(events, e)
		}
		var cases []Span
		from := int64(1)
		for i := range r.IntN(12) {
			from += r.Int64N(5)
			c := Span{Name: fmt.Sprint("case ", i), From: from, To: from + r.Int64N(12), End: Event{Verdict: "passed"}}
			from = c.To
			cases = append(cases, c)
		}
		r.Shuffle(len(cases), func(i, j int) { cases[i], cases[j] = cases[j], cases[i] })
		got := Marry(events, cases)
		assert.Len(t, got, len(events)+2*len(cases))
		seen := map[string]int{}
		open, last := "", int64(0)
		for i, e := range got {
			assert.Equal(t, i+1, e.Seq)
			assert.GreaterOrEqual(t, e.At, last)
			last = e.At
			if e.Kind != Case {
				seen[e.Name]++
				if e.Case != "" {
					assert.Equal(t, open, e.Case, "%s stands outside its case", e.Name)
				}
				continue
			}
			if e.Verdict == "" {
				assert.Empty(t, open, "%s begins in another case", e.Name)
				open = e.Name
			} else {
				assert.Equal(t, open, e.Name)
				open = ""
			}
		}
		assert.Empty(t, open)
		for _, e := range events {
			assert.Equal(t, 1, seen[e.Name], e.Name)
		}
	}
}

func TestManyCasesAreMarriedInNoTime(t *testing.T) {
	const n = 20_000
	events := make([]Event, n)
	cases := make([]Span, n)
	for i := range n {
		events[i] = Event{At: int64(10*i + 5), Kind: Command, Case: "again"}
		cases[i] = Span{Name: fmt.Sprint("try ", i), Mark: "again", From: int64(10 * i), To: int64(10*i + 9), End: Event{Verdict: "passed"}}
	}
	got := Marry(events, cases)
	assert.Len(t, got, 3*n, "each has its own, though all were called the same")
	for i := 0; i < len(got); i += 3 {
		assert.Equal(t, got[i].Case, got[i+1].Case)
	}
}

func TestACaseThatTheReportDoesNotKnowBeginsAfterTheOneBeforeHasEnded(t *testing.T) {
	events := []Event{
		{Kind: Case, At: 5, Case: "opens", Name: "opens"}, {Kind: Command, At: 10, Case: "opens", Name: "look"}, {Kind: Case, At: 10, Case: "opens", Name: "opens", Verdict: "passed"},
		{Kind: Case, At: 10, Case: "rest", Name: "rest"}, {Kind: Command, At: 10, Case: "rest", Name: "tap"}, {Kind: Case, At: 10, Case: "rest", Name: "rest", Verdict: "failed"}, {Kind: Command, At: 11, Case: "rest", Name: "late"},
	}
	var seen []string
	for _, e := range Marry(events, []Span{{Name: "Shores.opens", Mark: "opens", From: 5, To: 10, End: Event{Verdict: "passed"}}}) {
		seen = append(seen, strings.TrimSpace(e.Case+" "+e.Name+" "+e.Verdict))
	}
	assert.Equal(t, []string{"Shores.opens Shores.opens", "Shores.opens look", "Shores.opens Shores.opens passed", "rest rest", "rest tap", "rest rest failed", "rest late"}, seen)
}
