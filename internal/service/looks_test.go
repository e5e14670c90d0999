package service_test

// Runs step by step: the same step on all devices, remarks, what is slower, legs side by side, references.

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/likeness"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// page is a screen of 360 × 640 dp with a title, and where it is whole a button at its bottom.
func page(whole bool) image.Image {
	m := image.NewRGBA(image.Rect(0, 0, 360, 640))
	draw.Draw(m, m.Bounds(), image.White, image.Point{}, draw.Src)
	bar := func(r image.Rectangle) {
		draw.Draw(m, r, image.NewUniform(color.RGBA{30, 60, 70, 255}), image.Point{}, draw.Src)
	}
	bar(image.Rect(20, 60, 90, 80))
	bar(image.Rect(20, 120, 140, 136))
	if whole {
		bar(image.Rect(20, 500, 340, 548))
	}
	return m
}

func pngOf(t *testing.T, m image.Image) []byte {
	t.Helper()
	var buf bytes.Buffer
	require.NoError(t, png.Encode(&buf, m))
	return buf.Bytes()
}

// seen is what the tree of that screen says.
func seen(whole bool) *remarks.Seen {
	s := &remarks.Seen{Parts: []remarks.Part{{Key: "#title", What: "the text “Review”", Text: "Review"}, {Key: "#total", What: "the text “Total”", Text: "Total"}}}
	if whole {
		s.Parts = append(s.Parts, remarks.Part{Key: "#send", What: "the button “Send”", Control: true})
	}
	return s
}

// stepped has each device gather a timeline with the step "review" in a.test_chart, its picture, and what was seen of it. The button is missing on small; start is how long the app
// took to start each time, ms.
func (d *desk) stepped(small func(device int) bool, start func(device, time int) int) {
	d.gathered = func(h hostlink.Hold, device int) {
		var line bytes.Buffer
		w := timeline.NewWriter(&line)
		note := func(e timeline.Event) { _, err := w.Append(e); require.NoError(d.t, err) }
		at := int64(1000)
		for _, name := range h.Spec.Cases {
			note(timeline.Event{Kind: timeline.Case, At: at, Name: name, Case: name})
			for i := range 4 {
				note(timeline.Event{Kind: timeline.Command, At: at + 10, Case: name, Name: "launch", Answer: fmt.Sprintf("cold start, %d ms", start(device, i))})
			}
			if name == "a.test_chart" {
				note(timeline.Event{Kind: timeline.Step, At: at + 400 + int64(device), Case: name, Name: "review", File: "screenshots/001-review.png"})
			}
			note(timeline.Event{Kind: timeline.Case, At: at + 900, Name: name, Case: name, Verdict: "passed"})
			at += 1000
		}
		picture := page(!small(device))
		print := likeness.Of(picture, 1, image.Rectangle{})
		look := steps.Look{Case: "a.test_chart", Try: 1, Step: "review", Nth: 1, At: 1400 + int64(device), File: "screenshots/001-review.png", Kind: fmt.Sprintf("M%d, 360 × 640", device), Print: &print, Seen: seen(!small(device))}
		if device == 5 {
			look.Remarks = []remarks.Remark{{Kind: remarks.Small, Key: "#close", What: "the button “Close”", Says: "the button “Close” is 32 × 32 dp; a finger needs 48 × 48", Bounds: uitree.Rect{Right: 32, Bottom: 32}}}
		}
		raw, err := json.Marshal(look)
		require.NoError(d.t, err)
		for name, data := range map[string][]byte{tracks.Timeline: line.Bytes(), tracks.Looks: append(raw, '\n'), "screenshots/001-review.png": pngOf(d.t, picture)} {
			require.NoError(d.t, d.link.Keep(ctx, h, hostlink.Artifact{Name: name}, bytes.NewReader(data)))
		}
	}
}

func usualStart(int, int) int { return 500 }

func old(device int) bool { return device%4 == 0 }

func fine(int, string) hostlink.CaseResult { return with(verdict.Passed, "", "") }

func TestTheSameStepOnAllDevicesIsStackedTheOddOnesFirst(t *testing.T) {
	d := shore(t)
	d.stepped(old, usualStart)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	v, err := d.Steps(ctx, r)
	require.NoError(t, err)
	assert.False(t, v.Reading)
	require.Len(t, v.Steps, 1)
	assert.Equal(t, service.StepLine{StepName: service.StepName{Case: "a.test_chart", Name: "review", Nth: 1}, Legs: 12, Stacks: 2, Odd: 3}, v.Steps[0])

	x, err := d.Step(ctx, r, service.StepName{Case: "a.test_chart", Name: "review"})
	require.NoError(t, err)
	require.Len(t, x.Stacks, 2)
	var odd []string
	for _, on := range x.Stacks[0].Legs {
		odd = append(odd, on.Leg.Label())
		assert.NotEmpty(t, on.Picture)
	}
	assert.ElementsMatch(t, []string{"d-00", "d-04", "d-08"}, odd)
	assert.Len(t, x.Stacks[1].Legs, 9)
	assert.Positive(t, x.Stacks[0].Apart)
	assert.Zero(t, x.Stacks[1].Apart)
	_, err = d.Step(ctx, r, service.StepName{Case: "a.test_chart", Name: "no such step"})
	assert.Equal(t, refuse.NotFound, kindOf(err))

	kept, err := d.Store.LookedOf(ctx, r.ID, store.LookedSteps)
	require.NoError(t, err)
	assert.Len(t, kept, 12, "each attempt is read once")
	now, err := d.FindRun(ctx, d.Who, r.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, now.Looked)
}

func TestRemarksAreFamiliesWithTheDevicesThatShowThem(t *testing.T) {
	d := shore(t)
	d.stepped(old, usualStart)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	v, err := d.Remarks(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, "2 things are wrong with 12 screens. No test asked for it, and no verdict counts it.", v.Sentence)
	require.Len(t, v.Families, 2)
	missing, small := v.Families[0], v.Families[1]
	assert.Equal(t, remarks.Missing, missing.Kind)
	assert.Equal(t, []string{"d-00", "d-04", "d-08"}, missing.Devices)
	assert.Equal(t, "the button “Send” is not on the screen, and the screen does not scroll; 9 of 11 others show it", missing.Says)
	assert.Equal(t, "All 3 on Android 9 or older show it; none of the 9 newer.", missing.Rule)
	assert.Equal(t, "At “review” on d-00, d-04, d-08.", missing.Where())
	assert.NotEmpty(t, missing.Example.Picture)
	assert.Equal(t, remarks.Small, small.Kind)
	assert.Equal(t, []string{"d-05"}, small.Devices)
	assert.Empty(t, small.Rule, "one device says nothing")
	assert.Equal(t, uitree.Rect{Right: 32, Bottom: 32}, small.Example.Bounds)

	fails := d.ran(service.RunRequest{Build: "kelpline/android@231", Remarks: work.RemarksFail}, fine)
	v, err = d.Remarks(ctx, fails)
	require.NoError(t, err)
	assert.Equal(t, "2 things are wrong with 12 screens. No test asked for it; with --remarks fail a case fails by what its own screens show.", v.Sentence)

	d.gathered = nil
	bare := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	v, err = d.Remarks(ctx, bare)
	require.NoError(t, err)
	assert.Contains(t, v.Sentence, "No screen was looked at")
	none, err := d.Steps(ctx, bare)
	require.NoError(t, err)
	assert.Empty(t, none.Steps)
}

func TestWhatIsSlowerThanWithTheBuildBeforeIsSaidOnThatDevice(t *testing.T) {
	d := shore(t)
	jitter := func(_, time int) int { return 500 + 7*time }
	d.stepped(func(int) bool { return false }, jitter)
	first := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	v, err := d.Slower(ctx, first)
	require.NoError(t, err)
	assert.Empty(t, v.Things)
	assert.Contains(t, v.Sentence, "Nothing could be compared")

	d.stepped(func(int) bool { return false }, func(device, time int) int {
		if device == 3 {
			return 700 + 7*time
		}
		return jitter(device, time)
	})
	second := d.ran(service.RunRequest{Build: "kelpline/android@240"}, fine)
	v, err = d.Slower(ctx, second)
	require.NoError(t, err)
	require.Len(t, v.Things, 1)
	x := v.Things[0]
	assert.Equal(t, "d-03", x.Device)
	assert.Equal(t, steps.Start, x.Key.What)
	assert.InDelta(t, 200, x.By, 1)
	assert.Equal(t, [2]int{12, 12}, x.Samples, "three cases, four starts each")
	assert.Equal(t, "1.8.0", x.Build.Version)
	assert.Contains(t, x.Says(), "d-03: the start of the app takes 200 ms longer than with 1.8.0 (")
	assert.Equal(t, "1 of 12 measures has grown by more than noise.", v.Sentence)

	// A run of the older build, later: what was uploaded after it is no build before.
	again := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	v, err = d.Slower(ctx, again)
	require.NoError(t, err)
	assert.Empty(t, v.Things)
}

func TestTwoLegsAreComparedByCasesAndSteps(t *testing.T) {
	d := shore(t)
	d.stepped(old, usualStart)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, func(device int, name string) hostlink.CaseResult {
		return with(verdict.Passed, "", "")
	})
	legs := map[string]string{}
	view, err := d.Run(ctx, d.Who, r.ID)
	require.NoError(t, err)
	for _, l := range view.Legs {
		legs[l.Serial] = l.ID
	}
	c, err := d.CompareLegs(ctx, d.Who, service.LegSide{Leg: legs["d-00"]}, service.LegSide{Leg: r.ID + "/d-01"}, "")
	require.NoError(t, err)
	assert.Equal(t, "All 3 cases came out alike; 1 step looks otherwise: “review” in “chart”.", c.Sentence)
	require.Len(t, c.Cases, 3)
	require.Len(t, c.Cases[0].Steps, 1)
	assert.False(t, *c.Cases[0].Looks[0].Is)
	assert.Equal(t, int64(400), c.Cases[0].Steps[0].OursTook)
	assert.Equal(t, int64(401), c.Cases[0].Steps[0].TheirsTook)

	c, err = d.CompareLegs(ctx, d.Who, service.LegSide{Leg: legs["d-01"]}, service.LegSide{Leg: legs["d-02"]}, "a.test_chart")
	require.NoError(t, err)
	assert.Equal(t, "The case came out alike.", c.Sentence)
	assert.True(t, *c.Cases[0].Looks[0].Is)

	for name, bad := range map[string][2]service.LegSide{
		"itself":              {{Leg: legs["d-01"]}, {Leg: legs["d-01"]}},
		"no such leg":         {{Leg: legs["d-01"]}, {Leg: store.NewID()}},
		"no such attempt":     {{Leg: legs["d-01"]}, {Leg: legs["d-02"], Attempt: 9}},
		"another workspace's": {{Leg: legs["d-01"]}, {Leg: "newest/x"}},
	} {
		_, err := d.CompareLegs(ctx, d.Who, bad[0], bad[1], "")
		assert.Error(t, err, name)
	}
	_, err = d.CompareLegs(ctx, d.Who, service.LegSide{Leg: legs["d-01"]}, service.LegSide{Leg: legs["d-02"]}, "no such case")
	assert.ErrorContains(t, err, "neither side ran")
}

func TestReferencesAreKeptPerKindOfDeviceAndGivenToItsHost(t *testing.T) {
	d := shore(t)
	d.stepped(old, usualStart)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	step := service.StepName{Case: "a.test_chart", Name: "review"}
	kept, err := d.KeepReferences(ctx, d.Who, r, step, []string{"d-01", "d-02"})
	require.NoError(t, err)
	require.Len(t, kept, 2)
	byKind := map[string]store.Reference{}
	for _, k := range kept {
		byKind[k.Kind] = k
	}
	one := byKind["M1, 360 × 640"]
	assert.Equal(t, []int{360, 640}, []int{one.Width, one.Height})
	assert.Equal(t, "Fennel M1", one.Model)
	assert.InDelta(t, steps.UsualAllowed, one.Allowed, 1e-12)

	masks, share := []uitree.Rect{{Left: 10, Top: 50, Right: 100, Bottom: 90}}, 0.02
	_, err = d.SetReference(ctx, d.Who, one.ID, masks, &share)
	require.NoError(t, err)
	for why, bad := range map[string][]uitree.Rect{"outside": {{Left: 10, Top: 50, Right: 1000, Bottom: 90}}, "empty": {{}}, "upside down": {{Left: 10, Top: 90, Right: 100, Bottom: 50}}} {
		_, err := d.SetReference(ctx, d.Who, one.ID, bad, nil)
		assert.Equal(t, refuse.Invalid, kindOf(err), why)
	}
	much := 0.9
	_, err = d.SetReference(ctx, d.Who, one.ID, nil, &much)
	assert.Equal(t, refuse.Invalid, kindOf(err))

	// A new picture takes the place of the old one, and keeps its masks.
	next, err := d.KeepReferences(ctx, d.Who, r, step, []string{"d-01"})
	require.NoError(t, err)
	assert.NotEqual(t, one.ID, next[0].ID)
	assert.Equal(t, masks, next[0].Masks.V)
	assert.InDelta(t, share, next[0].Allowed, 1e-12)
	gone, err := d.Reference(ctx, d.Who, one.ID)
	require.NoError(t, err)
	assert.True(t, gone.Ended.Valid)
	list, more, err := d.Looks.References(ctx, d.Who, "shore", "", 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	assert.Empty(t, more)

	// The host of a device gets those of its kind.
	var given []steps.Reference
	d.gathered = func(h hostlink.Hold, device int) {
		if device != 1 {
			return
		}
		in, err := d.link.Fetch(ctx, h, hostlink.References)
		require.NoError(t, err)
		raw, err := io.ReadAll(in)
		require.NoError(t, err)
		require.NoError(t, in.Close())
		z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err)
		f, err := z.Open("references.json")
		require.NoError(t, err)
		require.NoError(t, json.NewDecoder(f).Decode(&given))
		refs, err := steps.ReadReferences(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err)
		spot := steps.Spot{Case: "a.test_chart", Step: "review", Nth: 1, Kind: "M1, 360 × 640"}
		assert.False(t, refs.Against(spot, page(true), 1).Too())
		m := refs.Against(spot, page(false), 1)
		assert.True(t, m.Too())
		assert.Equal(t, "7 % of the picture differs from its reference, in 1 place; 2 % is allowed", m.Says())
		assert.True(t, refs.Against(spot, image.NewRGBA(image.Rect(0, 0, 10, 10)), 1).Too(), "another size")
		spot.Step = "another"
		assert.Nil(t, refs.Against(spot, page(true), 1))
	}
	d.ran(service.RunRequest{Build: "kelpline/android@240"}, fine)
	require.Len(t, given, 1)
	assert.Equal(t, next[0].ID, given[0].ID)

	require.NoError(t, d.RemoveReference(ctx, d.Who, next[0].ID))
	assert.Equal(t, refuse.NotFound, kindOf(d.RemoveReference(ctx, d.Who, next[0].ID)))
	_, err = d.KeepReferences(ctx, d.Who, r, step, []string{"nobody"})
	assert.Equal(t, refuse.NotFound, kindOf(err))
	other, err := d.AddWorkspace(ctx, "others")
	require.NoError(t, err)
	_, err = d.Reference(ctx, service.Identity{WorkspaceID: other.ID}, one.ID)
	assert.Equal(t, refuse.NotFound, kindOf(err), "another workspace's")
	assert.True(t, strings.HasSuffix(one.BlobKey, ".png"))
}

func TestEvidenceThatIsGoneOrBrokenTellsNothingAndBreaksNothing(t *testing.T) {
	d := shore(t)
	d.gathered = func(h hostlink.Hold, device int) {
		data := map[string]string{tracks.Timeline: "no timeline at all\n", tracks.Looks: "{\"case\": 7}\n"}
		if device == 1 {
			data = map[string]string{tracks.Timeline: `{"seq":1,"at":1,"kind":"case","name":"a.test_chart"}` + "\n" + `{"seq":2,"at":9,"kind":"step","case":"a.test_chart","name":"half"}` + "\n" + `{"seq":3,"at`}
		}
		for name, x := range data {
			require.NoError(d.t, d.link.Keep(ctx, h, hostlink.Artifact{Name: name}, strings.NewReader(x)))
		}
	}
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, fine)
	v, err := d.Steps(ctx, r)
	require.NoError(t, err)
	require.Len(t, v.Steps, 1, "what can be read is read")
	assert.Equal(t, 1, v.Steps[0].Legs)
	x, err := d.Step(ctx, r, service.StepName{Case: "a.test_chart", Name: "half"})
	require.NoError(t, err)
	assert.Empty(t, x.Stacks)
	assert.Len(t, x.Unread, 1)
	assert.Len(t, x.Without, 11)
	now, err := d.FindRun(ctx, d.Who, r.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, now.Looked, "what can't be understood is not tried again and again")
	_, err = d.Remarks(ctx, r)
	require.NoError(t, err)
	_, err = d.Slower(ctx, r)
	require.NoError(t, err)
	_, err = d.KeepReferences(ctx, d.Who, r, service.StepName{Case: "a.test_chart", Name: "half"}, nil)
	assert.Equal(t, refuse.Refused, kindOf(err))
}

// kindOf is the kind of a refusal; "": it is none.
func kindOf(err error) refuse.Kind {
	var e *refuse.Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return ""
}
