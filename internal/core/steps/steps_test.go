package steps

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/likeness"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

func read(events ...timeline.Event) []Try {
	var r Reader
	for _, e := range events {
		r.Add(e)
	}
	return r.Tries()
}

func begin(at int64, name, try string) timeline.Event {
	e := timeline.Event{Kind: timeline.Case, At: at, Name: name}
	if try != "" {
		e.Args = map[string]string{"try": try}
	}
	return e
}

func end(at int64, name string, v verdict.Verdict) timeline.Event {
	return timeline.Event{Kind: timeline.Case, At: at, Name: name, Verdict: string(v)}
}

func step(at int64, name, file string) timeline.Event {
	return timeline.Event{Kind: timeline.Step, At: at, Name: name, File: file}
}

func launch(said string) timeline.Event {
	return timeline.Event{Kind: timeline.Command, Name: "launch", Answer: said}
}

func TestATimelineIsReadStepByStep(t *testing.T) {
	tries := read(
		step(1, "before any case", ""), launch("cold start, 900 ms"),
		begin(100, "a", ""), launch("cold start, 464 ms"), step(200, "open", "1.png"), step(300, "open", "2.png"), end(400, "a", verdict.Passed),
		begin(500, "b", ""), step(550, "open", "3.png"), end(600, "b", verdict.Failed),
		begin(600, "b", "2"), launch("warm start, 20 ms"), step(700, "open", "4.png"), end(800, "b", verdict.Flaky),
		begin(900, "c", ""), step(950, "cut off", ""),
	)
	require.Len(t, tries, 4)
	assert.Equal(t, Try{Case: "a", Number: 1, From: 100, To: 400, Verdict: verdict.Passed, Starts: []float64{464}, Calls: 1,
		Steps: []Step{{Name: "open", Nth: 1, At: 200, File: "1.png"}, {Name: "open", Nth: 2, At: 300, File: "2.png"}}}, tries[0])
	assert.Equal(t, 2, tries[2].Number)
	assert.Empty(t, tries[2].Starts)
	assert.Zero(t, tries[3].To)
	last := Last(tries)
	require.Len(t, last, 3)
	assert.Equal(t, "4.png", last[1].Steps[0].File)
}

func TestWhatIsMeasuredIsOfCasesThatPassedAtOnce(t *testing.T) {
	tries := read(
		begin(1000, "a", ""), launch("cold start, 464 ms"), step(3000, "open", ""), step(4500, "sent", ""), end(5000, "a", verdict.Passed),
		begin(6000, "b", ""), launch("cold start, 500 ms"), step(7000, "open", ""), end(8000, "b", verdict.Failed),
	)
	series := []gauges.Series{{Gauge: gauges.Gauge{Name: gauges.Memory}, Values: []float64{100, math.NaN(), 120}}, {Gauge: gauges.Gauge{Name: gauges.LateFrames}, Values: []float64{2, 4, 50}}}
	assert.Equal(t, []Measure{
		{Start, "", "", 0, 464}, {ToStep, "a", "open", 1, 2000}, {Memory, "a", "open", 1, 100}, {ToStep, "a", "sent", 1, 1500}, {Memory, "a", "sent", 1, 120}, {LateFrames, "a", "", 0, 3},
		{Start, "", "", 0, 500},
	}, Measures(tries, []int64{2000, 3000, 5500}, series))
	assert.Empty(t, Measures(nil, nil, nil))
}

func TestTwoAttemptsAreAlignedByStepsNotBySeconds(t *testing.T) {
	ours := read(begin(0, "a", ""), step(100, "open", ""), step(900, "help", ""), step(1000, "sent", ""), end(1100, "a", verdict.Passed), begin(2000, "only ours", ""), end(2100, "only ours", verdict.Passed))
	theirs := read(begin(5000, "only theirs", ""), end(5100, "only theirs", verdict.Passed), begin(7000, "a", ""), step(7700, "open", ""), step(9000, "sent", ""), step(9100, "late", ""), end(9200, "a", verdict.Failed))
	pairs := Align(ours, theirs)
	require.Len(t, pairs, 3)
	assert.True(t, pairs[0].Otherwise)
	var got []string
	for _, s := range pairs[0].Steps {
		sides := ""
		if s.Ours != nil {
			sides += "ours"
		}
		if s.Theirs != nil {
			sides += "theirs"
		}
		got = append(got, s.Name+" "+sides)
	}
	assert.Equal(t, []string{"open ourstheirs", "help ours", "sent ourstheirs", "late theirs"}, got)
	assert.Equal(t, []int64{100, 700}, []int64{pairs[0].Steps[0].OursTook, pairs[0].Steps[0].TheirsTook})
	assert.Equal(t, int64(1300), pairs[0].Steps[2].TheirsTook)
	assert.Nil(t, pairs[1].Theirs)
	assert.Nil(t, pairs[2].Ours)
	assert.Equal(t, "only theirs", pairs[2].Case)
}

func TestLooksAreReadWithTheirPlaces(t *testing.T) {
	line := func(l Look) string { raw, _ := json.Marshal(l); return string(raw) + "\n" }
	a, b := line(Look{Case: "a", Step: "open", Nth: 1, Print: &likeness.Print{Parts: []likeness.Part{{W: 4, H: 8, Shape: make([]byte, 72)}, {W: 4, H: 8, Shape: []byte{1}}, {H: 8, Shape: make([]byte, 72)}, {W: 1 << 40, H: 8, Shape: make([]byte, 72)}}}}), line(Look{Case: "b", Moved: &Moved{Share: 0.02, Allowed: 0.001}})
	var got []Look
	var places []int64
	require.NoError(t, ReadLooks(strings.NewReader(a+b+`{"case": "cut o`), func(l Look, from, length int64) error {
		got, places = append(got, l), append(places, from, length)
		return nil
	}))
	require.Len(t, got, 2)
	assert.Equal(t, []int64{0, int64(len(a)), int64(len(a)), int64(len(b))}, places)
	assert.Len(t, got[0].Print.Parts, 1, "what no picture can have made is left out")
	assert.Len(t, got[0].Print.Colours, 64)
	assert.True(t, likeness.Compare(*got[0].Print, *got[0].Print).Alike)
	many := Look{Case: "a", Kind: strings.Repeat("k", 9000), Moved: &Moved{Error: strings.Repeat("e", 9000)}, Seen: &remarks.Seen{Parts: make([]remarks.Part, 500)}}
	for range 100 {
		many.Remarks = append(many.Remarks, remarks.Remark{Says: strings.Repeat("s", 5000)})
	}
	require.NoError(t, ReadLooks(strings.NewReader(line(many)), func(l Look, _, _ int64) error {
		assert.Len(t, l.Remarks, maxRemarks)
		assert.LessOrEqual(t, len(l.Remarks[0].Says), maxText+3)
		assert.LessOrEqual(t, len(l.Kind), maxKind+3)
		assert.Len(t, l.Seen.Parts, maxParts)
		return nil
	}))
	assert.Error(t, ReadLooks(strings.NewReader("no look\n"), func(Look, int64, int64) error { return nil }))
	assert.ErrorContains(t, ReadLooks(strings.NewReader(strings.Repeat("x", maxLook+1)+"\n"), nil), "longer than")

	assert.True(t, got[1].Moved.Too())
	assert.Equal(t, "2 % of the picture differs from its reference, in 0 places; 0.1 % is allowed", got[1].Moved.Says())
	assert.Equal(t, "like its reference but for less than 0.01 % of the picture; 0.1 % is allowed", (&Moved{Share: 0.00001, Allowed: 0.001}).Says())
	assert.Equal(t, "like its reference", (&Moved{}).Says())
	assert.False(t, (*Moved)(nil).Too())
}
