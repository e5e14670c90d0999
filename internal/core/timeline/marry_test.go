package timeline

import (
	"fmt"
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
