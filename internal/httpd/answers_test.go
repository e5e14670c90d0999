package httpd_test

// What runs say, over HTTP: every answer is held against the contract.

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
)

func TestWhatARunSaysAndWhatIsSaidOfIt(t *testing.T) {
	ctx, d := context.Background(), open(t)
	b := d.addKelpline()
	_, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	link := d.HostLink()
	var seen []hostlink.Seen
	for i := range 8 {
		f := devices.Facts{Serial: fmt.Sprintf("d-%d", i), Maker: "Orrery", Model: fmt.Sprint("M", i), Platform: "android", API: 30, OS: "11", ABIs: []string{"arm64-v8a"}, Language: "en"}
		if i < 3 {
			f.Language = "de"
		}
		seen = append(seen, hostlink.Seen{Facts: f, State: "ready"})
	}
	_, err = link.Devices(ctx, housetest.HostName, hostlink.About{Isolation: "open"}, seen)
	require.NoError(t, err)
	// play lets each device of a run say how its case came out.
	play := func(run *api.Run) {
		t.Helper()
		var holds []hostlink.Hold
		housetest.Eventually(t, "the devices are held", func() bool {
			holds, err = link.Holds(ctx, housetest.HostName, nil)
			require.NoError(t, err)
			return len(holds) == len(run.Legs)
		})
		for _, h := range holds {
			v := verdict.Passed
			c := hostlink.CaseResult{Name: h.Spec.Cases[0], Try: hostlink.Try{Verdict: v, TookMS: 2000}}
			if h.Serial < "d-3" {
				c.Verdict, c.Message = verdict.Failed, `the total: expected "6.5 %", but there was "29.0 %"`
			}
			require.NoError(t, link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}, {Seq: 2, Case: &c}}))
			require.NoError(t, link.Close(ctx, h, hostlink.Closing{Verdict: c.Verdict}))
		}
	}
	started, err := d.StartRunWithResponse(ctx, &api.StartRunParams{}, api.RunRequest{Build: b.Ref, Package: "suite@newest"})
	require.NoError(t, err)
	require.NotNil(t, started.JSON201, string(started.Body))
	run := started.JSON201
	going, err := d.GetRunAnswerWithResponse(ctx, run.Id)
	require.NoError(t, err)
	require.NotNil(t, going.JSON200, string(going.Body))
	assert.False(t, going.JSON200.Over)
	assert.Equal(t, "0 of 8 devices passed; 8 still going.", going.JSON200.Sentence)
	play(run)
	x, err := d.GetRunAnswerWithResponse(ctx, "newest")
	require.NoError(t, err)
	require.NotNil(t, x.JSON200, string(x.Body))
	a := x.JSON200
	assert.Equal(t, "Not good: 3 of 8 devices fail in “a”, all in German. 5 are fine.", a.Sentence)
	require.Len(t, a.Families, 1)
	f := a.Families[0]
	assert.Equal(t, []string{"All 3 in German fail; none of the 5 others."}, f.Says)
	assert.Equal(t, "In “a” on d-0, d-1, d-2.", f.Where)
	assert.Equal(t, []api.RuleLiteral{{Trait: "language", Op: api.Is, Value: "de"}}, f.Rule.Literals)
	assert.InDelta(t, 0.018, f.Rule.Chance, 0.02)

	// Again: only where the family showed.
	q := api.AgainRequest{Families: &[]string{f.Id[:6]}}
	p, err := d.CheckAgainWithResponse(ctx, run.Id, q)
	require.NoError(t, err)
	require.NotNil(t, p.JSON200, string(p.Body))
	assert.Equal(t, []int{3, 8, 3, 8}, []int{p.JSON200.Legs, p.JSON200.OfLegs, p.JSON200.Cases, p.JSON200.OfCases})
	until := time.Now().Add(time.Hour)
	m, err := d.MarkFamilyWithResponse(ctx, run.Id, f.Id, api.FamilyMarkRequest{Kind: api.Known, Reference: ptr("KELP-3"), Until: &until})
	require.NoError(t, err)
	require.NotNil(t, m.JSON200, string(m.Body))
	assert.Equal(t, "KELP-3", *m.JSON200.Families[0].Mark.Reference)
	key := "again, once"
	again, err := d.RunAgainWithResponse(ctx, run.Id, &api.RunAgainParams{IdempotencyKey: &key}, q)
	require.NoError(t, err)
	require.NotNil(t, again.JSON201, string(again.Body))
	assert.Equal(t, &api.AgainOf{Run: run.Id, Number: 1, What: "one family"}, again.JSON201.Again)
	twice, err := d.RunAgainWithResponse(ctx, run.Id, &api.RunAgainParams{IdempotencyKey: &key}, q)
	require.NoError(t, err)
	require.NotNil(t, twice.JSON200, string(twice.Body))
	assert.Equal(t, again.JSON201.Id, twice.JSON200.Id)
	play(again.JSON201)
	x, err = d.GetRunAnswerWithResponse(ctx, again.JSON201.Id)
	require.NoError(t, err)
	assert.Equal(t, "Nothing new: 3 of 3 devices fail as known (KELP-3) in “a”.", x.JSON200.Sentence)
	assert.Equal(t, api.Passed, *x.JSON200.Verdict)
	assert.Equal(t, &api.Baseline{Run: run.Id, Number: 1, Build: b.Ref, Runs: 1}, x.JSON200.Before)
	u, err := d.UnmarkFamilyWithResponse(ctx, run.Id, f.Id)
	require.NoError(t, err)
	require.NotNil(t, u.JSON200, string(u.Body))
	assert.Nil(t, u.JSON200.Families[0].Mark)

	h, err := d.GetCaseHistoryWithResponse(ctx, &api.GetCaseHistoryParams{Case: "test_a"})
	require.NoError(t, err)
	require.NotNil(t, h.JSON200, string(h.Body))
	assert.Equal(t, "a.test_a", h.JSON200.Case)
	assert.Equal(t, []int{6, 11, 2}, []int{h.JSON200.Bad.Times, h.JSON200.Bad.Of, h.JSON200.Bad.Runs})
	assert.Len(t, h.JSON200.Devices, 8)
	assert.Equal(t, 2, h.JSON200.Devices[0].Cells[0].Times)

	// What is worse, against the run before.
	c, err := d.CompareRunsWithResponse(ctx, again.JSON201.Id, &api.CompareRunsParams{})
	require.NoError(t, err)
	require.NotNil(t, c.JSON200, string(c.Body))
	assert.Equal(t, "Against run 1: all 3 cases came out alike; 5 legs in one alone.", c.JSON200.Sentence)
	assert.Equal(t, []api.ComparedFamily{{Id: f.Id, Kind: api.Failed, Title: f.Title, Before: 3, Now: 3}}, c.JSON200.Families)
	c, err = d.CompareRunsWithResponse(ctx, run.Id, &api.CompareRunsParams{})
	require.NoError(t, err)
	assert.Contains(t, string(c.Body), "came before run 1")

	// The first bad build: of two that lie beside each other nothing needs to be tried.
	raw, err := os.ReadFile(housetest.Kelpline190(t))
	require.NoError(t, err)
	newer, err := d.AddBuildWithBodyWithResponse(ctx, &api.AddBuildParams{}, "application/octet-stream", bytes.NewReader(raw))
	require.NoError(t, err)
	require.NotNil(t, newer.JSON201, string(newer.Body))
	s, err := d.StartBisectionWithResponse(ctx, api.BisectionRequest{Good: &b.Ref, Bad: &newer.JSON201.Ref, Package: ptr("suite@newest"), Case: ptr("test_a"), Device: ptr("d-1")})
	require.NoError(t, err)
	require.NotNil(t, s.JSON201, string(s.Body))
	housetest.Eventually(t, "it is found", func() bool {
		x, err := d.GetBisectionWithResponse(ctx, s.JSON201.Id)
		require.NoError(t, err)
		require.NotNil(t, x.JSON200, string(x.Body))
		return x.JSON200.State == api.Found && x.JSON200.Sentence == "a.test_a fails since kelpline/android@240; with kelpline/android@231 it is good." && len(x.JSON200.Changes) == 2
	})
	list, err := d.ListBisectionsWithResponse(ctx, &api.ListBisectionsParams{})
	require.NoError(t, err)
	require.NotNil(t, list.JSON200, string(list.Body))
	assert.Len(t, list.JSON200.Items, 1)
	halt, err := d.StopBisectionWithResponse(ctx, s.JSON201.Id)
	require.NoError(t, err)
	assert.Equal(t, 422, halt.StatusCode(), string(halt.Body))

	// Both as one report, in each form.
	for form, has := range map[api.GetReportParamsForm][]string{
		api.Html:  {"2 runs", "Not good: 3 of 8 devices fail in “a”, all in German. 5 are fine.", "All 3 in German fail; none of the 5 others.", "does not count: as known (KELP-3)"},
		api.Csv:   {"run,run_id,build", "d-7", "passed,2000,"},
		api.Json:  {`"device":"d-0"`, `"verdict":"failed"`, `"excused":"as known (KELP-3)"`},
		api.Tap:   {"TAP version 14\n", "ok 4 - a.test_a on d-3\n", "not ok 9 - a.test_a on d-0 # TODO as known (KELP-3)\n", "1..11\n"},
		api.Junit: {`<testsuite name="run 2: d-0"`, "<testsuites name="},
	} {
		r, err := d.GetReportWithResponse(ctx, run.Id, &api.GetReportParams{Form: form, With: &[]string{"2", run.Id}})
		require.NoError(t, err)
		require.Equal(t, 200, r.StatusCode(), "%s: %.300s", form, r.Body)
		for _, text := range has {
			assert.True(t, bytes.Contains(r.Body, []byte(text)), "%s has %q; it begins with %.600s", form, text, r.Body)
		}
	}
	for want, q := range map[int]api.GetReportParams{404: {Form: api.Csv, With: &[]string{"99"}}, 400: {Form: "xlsx"}} {
		r, err := d.GetReportWithResponse(ctx, run.Id, &q)
		require.NoError(t, err)
		assert.Equal(t, want, r.StatusCode(), "%s", r.Body)
	}

	for says, resp := range map[string]func() (int, []byte){
		"there is no run": func() (int, []byte) { r, _ := d.GetRunAnswerWithResponse(ctx, "4711"); return r.StatusCode(), r.Body },
		"has no family": func() (int, []byte) {
			r, _ := d.UnmarkFamilyWithResponse(ctx, run.Id, "0000")
			return r.StatusCode(), r.Body
		},
		"no run that is over has a case": func() (int, []byte) {
			r, _ := d.GetCaseHistoryWithResponse(ctx, &api.GetCaseHistoryParams{Case: "test_zz"})
			return r.StatusCode(), r.Body
		},
	} {
		status, body := resp()
		assert.Equal(t, 404, status, says)
		assert.Contains(t, string(body), says)
	}
}
