package service_test

// What runs say, and what people say of it.

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// shore is a desk with 12 devices that differ, of which three are old and two are German, and with a suite of three cases.
func shore(t *testing.T) *desk {
	d := set(t)
	d.shoreDevices()
	d.addSuite("def test_chart(p):\n    pass\ndef test_total(p):\n    pass\ndef test_sync(p):\n    pass\n")
	apk, err := os.Open(housetest.Kelpline190(t))
	require.NoError(t, err)
	defer apk.Close()
	_, _, err = d.AddBuild(ctx, d.Who, service.Upload{Body: apk, Size: -1})
	require.NoError(t, err)
	return d
}

// shoreDevices says that the twelve are there.
func (d *desk) shoreDevices() {
	d.t.Helper()
	var seen []hostlink.Seen
	for i := range 12 {
		f := devices.Facts{Serial: fmt.Sprintf("d-%02d", i), Maker: []string{"Orrery", "Fennel"}[i%2], Model: fmt.Sprint("M", i), Platform: "android", API: 30 + i%4, OS: fmt.Sprint(11 + i%4), ABIs: []string{"arm64-v8a"}, Language: "en", MemoryMB: 4096, Form: "phone"}
		if i%4 == 0 {
			f.API, f.OS = 28, "9"
		}
		if i == 3 || i == 10 {
			f.Language = "de"
		}
		seen = append(seen, hostlink.Seen{Facts: f, State: "ready"})
	}
	_, err := d.link.Devices(ctx, housetest.HostName, hostlink.About{Isolation: "open"}, seen)
	require.NoError(d.t, err)
}

func (d *desk) addSuite(text string) {
	d.t.Helper()
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: shore\nkind: script\n")}, "a.star": {Data: []byte(text)}}
	var buf bytes.Buffer
	require.NoError(d.t, testpkg.Pack(f, &buf))
	_, _, err := d.AddPackage(ctx, d.Who, service.Upload{Body: &buf, Size: -1})
	require.NoError(d.t, err)
}

// ran starts a run and lets each of its devices say how its cases came out.
func (d *desk) ran(q service.RunRequest, result func(device int, name string) hostlink.CaseResult) store.Run {
	d.t.Helper()
	if q.Package == "" {
		q.Package = "shore@newest"
	}
	r, _, err := d.StartRun(ctx, d.Who, q)
	require.NoError(d.t, err)
	v, err := d.Run(ctx, d.Who, r.ID)
	require.NoError(d.t, err)
	for _, h := range d.holds(len(v.Legs)) {
		var device int
		_, err := fmt.Sscanf(h.Serial, "d-%d", &device)
		require.NoError(d.t, err)
		var vs []verdict.Verdict
		reports := []hostlink.Progress{{Seq: 1, Stage: "running"}}
		for i, name := range h.Spec.Cases {
			c := result(device, name)
			c.Ordinal, c.Name, c.TookMS = i, name, 1000
			vs = append(vs, c.Verdict)
			reports = append(reports, hostlink.Progress{Seq: int64(i + 2), Case: &c})
		}
		require.NoError(d.t, d.link.Report(ctx, h, reports))
		if d.gathered != nil {
			d.gathered(h, device)
		}
		require.NoError(d.t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Roll(vs...)}))
	}
	r, err = d.FindRun(ctx, d.Who, r.ID)
	require.NoError(d.t, err)
	require.True(d.t, r.Ended.Valid)
	return r
}

func (d *desk) answer(r store.Run) answers.Answer {
	d.t.Helper()
	a, err := d.Answer(ctx, r)
	require.NoError(d.t, err)
	return a
}

func with(v verdict.Verdict, message, trace string) hostlink.CaseResult {
	return hostlink.CaseResult{Try: hostlink.Try{Verdict: v, Message: message, Trace: trace}}
}

const chartTrace = "java.lang.NoSuchMethodError: No virtual method drawTide\n\tat org.kelpline.app.TideChart.onDraw(TideChart.java:88)\n\tat android.view.View.draw(View.java:1)\n"

// kelp is how the app comes out: version 1.8.0 crashes on old devices and counts wrong in German; now and then the sync is late.
func kelp(chartMended bool) func(int, string) hostlink.CaseResult {
	return func(device int, name string) hostlink.CaseResult {
		switch {
		case name == "a.test_chart" && device%4 == 0 && !chartMended:
			return with(verdict.Crashed, fmt.Sprintf("the app crashed at 0x%x", 4096+device), chartTrace)
		case name == "a.test_total" && (device == 3 || device == 10):
			return with(verdict.Failed, fmt.Sprintf(`the total: expected "6.5 %%", but there was "%d.0 %%" (the same in 2 tries)`, 20+device), "")
		case name == "a.test_sync" && device == 5:
			c := with(verdict.Flaky, "", "")
			c.Tries = []hostlink.Try{{Verdict: verdict.Failed, Message: "the sync did not end within 10 s"}, {Verdict: verdict.Passed}}
			return c
		}
		return with(verdict.Passed, "", "")
	}
}

func TestARunSaysWhatBrokeWhereAndSinceWhen(t *testing.T) {
	d := shore(t)
	first := d.ran(service.RunRequest{Build: "kelpline/android@231"}, kelp(false))
	a := d.answer(first)
	assert.Equal(t, "Not good: 3 of 12 devices crash in “chart”, all on Android 9 or older; 2 fail in “total”, both in German. 6 are fine, 1 is flaky.", a.Sentence)
	assert.Equal(t, "api", a.LayBy)
	assert.Nil(t, a.Before)
	require.Len(t, a.Families, 3)
	crash, total, sync := a.Families[0], a.Families[1], a.Families[2]
	assert.Equal(t, []string{"d-00", "d-04", "d-08"}, crash.Devices)
	assert.Equal(t, "NoSuchMethodError in TideChart.onDraw", crash.Title)
	assert.Equal(t, "All 3 on Android 9 or older crash; none of the 9 newer.", crash.Rule.Sentence)
	assert.Equal(t, `the total: expected "6.5 %", but there was "23.0 %"`, total.Message)
	assert.Empty(t, total.Standing)
	assert.Equal(t, verdict.Flaky, sync.Kind)
	assert.Nil(t, sync.Rule, "one device says nothing")
	assert.Equal(t, []int{1, 12, 1}, []int{sync.Rate.Times, sync.Rate.Of, sync.Rate.Runs})
	v, err := d.Run(ctx, d.Who, first.ID)
	require.NoError(t, err)
	assert.Equal(t, a.Sentence, v.Sentence)
	list, _, err := d.ListRuns(ctx, d.Who, service.RunChoice{}, "", 10)
	require.NoError(t, err)
	assert.Equal(t, a.Sentence, list[0].Sentence)

	// With the next version the chart is mended; the draft is new, and it shows where nothing ran before, too.
	second := d.ran(service.RunRequest{Build: "kelpline/android@240"}, func(device int, name string) hostlink.CaseResult {
		if name == "a.test_chart" && device%2 == 1 {
			return with(verdict.Failed, "the draft is empty", "")
		}
		return kelp(true)(device, name)
	})
	a = d.answer(second)
	assert.Equal(t, "Not good: 6 of 12 devices fail in “chart”, all of Fennel, new; 2 fail in “total”, both in German, at least since 1.8.0. 5 are fine.", a.Sentence)
	assert.Equal(t, &answers.Baseline{Run: first.ID, Number: 1, Build: "kelpline/android@231", Runs: 1}, a.Before)
	require.Len(t, a.Families, 3)
	assert.Equal(t, triage.New, a.Families[0].Standing)
	assert.Equal(t, "1.9.0", a.Families[0].FirstBad.Version)
	assert.Equal(t, "1.8.0", a.Families[0].LastGood.Version)
	assert.Equal(t, triage.Still, a.Families[1].Standing)
	assert.Equal(t, "1.8.0", a.Families[1].FirstBad.Version)
	assert.Nil(t, a.Families[1].LastGood)
	require.Len(t, a.Gone, 1)
	assert.Equal(t, triage.Mended, a.Gone[0].Standing)
	assert.Equal(t, crash.ID, a.Gone[0].ID)
	assert.Equal(t, []string{"d-00", "d-04", "d-08"}, a.Gone[0].Devices)
	assert.Equal(t, []int{2, 24, 2}, []int{a.Families[2].Rate.Times, a.Families[2].Rate.Of, a.Families[2].Rate.Runs})

	// On fewer devices: what showed on the others did not run.
	third := d.ran(service.RunRequest{Build: "kelpline/android@240", Devices: []string{"d-01", "d-02"}}, kelp(true))
	a = d.answer(third)
	assert.Equal(t, "All 2 devices passed.", a.Sentence)
	require.Len(t, a.Gone, 1, "only what showed on these devices counts")
	assert.Equal(t, triage.Mended, a.Gone[0].Standing)

	// It is found again as it was, also by another process, and by a newer version that finds it anew.
	before := d.answer(second)
	d.sql("UPDATE runs SET told = 0")
	d.sql("DELETE FROM answers")
	second, err = d.FindRun(ctx, d.Who, second.ID)
	require.NoError(t, err)
	assert.Equal(t, before, d.answer(second))
}

func TestWhatIsKnownDoesNotTurnARunRedAndIsNotHidden(t *testing.T) {
	d := shore(t)
	q := service.RunRequest{Build: "kelpline/android@231"}
	first := d.ran(q, kelp(false))
	a := d.answer(first)
	crash, total := a.Families[0].ID, a.Families[1].ID
	day := time.Now().Add(24 * time.Hour)
	a, err := d.Mark(ctx, d.Who, first, crash[:8], answers.MarkRequest{Kind: answers.Known, Reference: "KELP-12", Until: day})
	require.NoError(t, err)
	assert.Equal(t, "KELP-12", a.Families[0].Mark.Reference)
	assert.Empty(t, a.Families[0].Excused, "the run was over")
	assert.Contains(t, a.Sentence, "Not good: 3 of 12 devices crash")
	assert.Equal(t, verdict.Crashed, first.Verdict)

	second := d.ran(q, kelp(false))
	a = d.answer(second)
	assert.Equal(t, verdict.Failed, second.Verdict, "what is not known counts")
	assert.Equal(t, "Not good: 2 of 12 devices fail in “total”, both in German; 3 crash as known (KELP-12) in “chart”, all on Android 9 or older. 6 are fine, 1 is flaky.", a.Sentence)
	v, err := d.Run(ctx, d.Who, second.ID)
	require.NoError(t, err)
	crashed := 0
	for _, l := range v.Legs {
		if l.Verdict == verdict.Crashed {
			crashed++
			assert.Equal(t, verdict.Passed, l.Counts)
		}
	}
	assert.Equal(t, 3, crashed, "it is not hidden")

	_, err = d.Mark(ctx, d.Who, second, total, answers.MarkRequest{Kind: answers.WrongTest, Note: "the table is not German"})
	require.NoError(t, err)
	third := d.ran(q, kelp(false))
	assert.Equal(t, verdict.Flaky, third.Verdict, "a flaky one does not turn it red")
	a = d.answer(third)
	assert.Contains(t, a.Sentence, "Nothing new: 3 of 12 devices crash as known (KELP-12) in “chart”")
	assert.Contains(t, a.Sentence, "2 fail by a wrong test in “total”")

	// What is said in nearly the same words is known, too; in the verdict and in the sentence alike.
	near := d.ran(q, func(device int, name string) hostlink.CaseResult {
		c := kelp(true)(device, name)
		if name == "a.test_total" && c.Verdict == verdict.Failed {
			c.Message = strings.Replace(c.Message, "the total:", "the grand total:", 1)
		}
		return c
	})
	assert.Equal(t, verdict.Flaky, near.Verdict)
	assert.Contains(t, d.answer(near).Sentence, "Nothing new: 2 of 12 devices fail by a wrong test in “total”")

	// A device that fails in another way, too, counts.
	fourth := d.ran(q, func(device int, name string) hostlink.CaseResult {
		if device == 4 && name == "a.test_total" {
			return with(verdict.Failed, "the page is empty", "")
		}
		return kelp(false)(device, name)
	})
	assert.Equal(t, verdict.Failed, fourth.Verdict)

	// Its day comes, or it is taken away: from then on it counts; what was said of earlier runs stays.
	d.sql("UPDATE marks SET until = now(3) - INTERVAL 1 SECOND WHERE family = ?", crash)
	assert.Equal(t, verdict.Crashed, d.ran(q, kelp(false)).Verdict)
	a, err = d.Unmark(ctx, d.Who, third, total)
	require.NoError(t, err)
	assert.Contains(t, a.Sentence, "2 fail by a wrong test in “total”")
	assert.Nil(t, a.Families[1].Mark)
	third, err = d.FindRun(ctx, d.Who, third.ID)
	require.NoError(t, err)
	assert.Contains(t, d.answer(third).Sentence, "2 fail by a wrong test in “total”")
	assert.NotEmpty(t, d.answer(d.ran(q, kelp(false))).Families[1].Rule)

	for why, bad := range map[string]struct {
		family string
		q      answers.MarkRequest
		kind   refuse.Kind
	}{
		"there is no mark":        {total, answers.MarkRequest{Kind: "mine"}, refuse.Invalid},
		"is over":                 {total, answers.MarkRequest{Kind: answers.Known, Until: time.Now().Add(-48 * time.Hour)}, refuse.Invalid},
		"has no family":           {"ffffffff", answers.MarkRequest{Kind: answers.Known}, refuse.NotFound},
		"has no family \"\"":      {"", answers.MarkRequest{Kind: answers.Known}, refuse.NotFound},
		"a control character":     {total, answers.MarkRequest{Kind: answers.Known, Reference: "a\nb"}, refuse.Invalid},
		"a reference may have 30": {total, answers.MarkRequest{Kind: answers.Known, Reference: string(bytes.Repeat([]byte("x"), 301))}, refuse.Invalid},
	} {
		_, err := d.Mark(ctx, d.Who, fourth, bad.family, bad.q)
		var e *refuse.Error
		require.ErrorAs(t, err, &e, why)
		assert.Equal(t, bad.kind, e.Kind, why)
		assert.ErrorContains(t, err, why)
	}
	_, err = d.Unmark(ctx, d.Who, fourth, total)
	assert.ErrorContains(t, err, "has no mark")
}

func TestAFamilyRunsAgainWhereItShowedAndNowhereElse(t *testing.T) {
	d := shore(t)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, func(device int, name string) hostlink.CaseResult {
		switch {
		case device == 1 && name == "a.test_total", device == 2 && name == "a.test_sync":
			return with(verdict.Failed, "the harbour does not answer", "")
		case device == 1 && name == "a.test_sync":
			return with(verdict.Failed, "the page is empty", "")
		}
		return with(verdict.Passed, "", "")
	})
	a := d.answer(r)
	require.Len(t, a.Families, 2)
	assert.Equal(t, []string{"d-01", "d-02"}, a.Families[0].Devices)
	q, saves, err := d.Again(ctx, d.Who, r.ID, service.AgainRequest{Families: []string{a.Families[0].ID}})
	require.NoError(t, err)
	assert.Equal(t, []store.Line{{Device: "serial=d-01", Cases: []string{"a.test_total"}}, {Device: "serial=d-02", Cases: []string{"a.test_sync"}}}, q.Lines)
	assert.Equal(t, []int{2, 12, 2, 36}, []int{saves.Legs, saves.OfLegs, saves.Cases, saves.OfCases})
}

func TestRunsOfBeforeThereWereAnswersAreTold(t *testing.T) {
	d := shore(t)
	one, two := d.ran(service.RunRequest{Build: "kelpline/android@231"}, kelp(false)), d.ran(service.RunRequest{Build: "kelpline/android@240"}, kelp(true))
	for _, table := range []string{"answers", "results", "tallies", "families"} {
		d.sql("DELETE FROM " + table)
	}
	d.sql("UPDATE runs SET told = 0")
	housetest.Eventually(t, "both are told by themselves", func() bool {
		for _, r := range []store.Run{one, two} {
			r, err := d.FindRun(ctx, d.Who, r.ID)
			require.NoError(t, err)
			if r.Told == 0 {
				return false
			}
		}
		return true
	})
	two, err := d.FindRun(ctx, d.Who, two.ID)
	require.NoError(t, err)
	assert.Equal(t, "1.8.0", d.answer(two).Families[0].FirstBad.Version, "the older one was told first")
}

func TestWhatARunSaysIsFoundOnceForAllWhoAsk(t *testing.T) {
	d := shore(t)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231"}, kelp(false))
	want := d.answer(r)
	r.Told = 0 // as who read it before it was told
	asked := func() {
		var all sync.WaitGroup
		for range 20 {
			all.Go(func() {
				a, err := d.Answer(ctx, r)
				assert.NoError(t, err)
				assert.Equal(t, want, a)
				a.Families[0].Title = "changed by one of them"
			})
		}
		all.Wait()
	}
	d.sql("UPDATE runs SET told = 0")
	asked()
	d.sql(`UPDATE answers SET answer = JSON_SET(answer, '$.sentence', 'As it was kept.')`)
	want.Sentence = "As it was kept."
	asked()
}

// manyBuilds gives the app so many more builds, by their facts alone.
func (d *desk) manyBuilds(n int) {
	d.t.Helper()
	for i := range n {
		d.sql(`INSERT INTO builds (id, workspace_id, slug, platform, app_id, version_name, version_code, facts, size, sha256, filename, blob_key, icon_key, created)
			SELECT ?, workspace_id, slug, platform, app_id, ?, ?, facts, size, ?, filename, blob_key, icon_key, now(3) FROM builds WHERE version_code = 240 ORDER BY id LIMIT 1`,
			store.NewID(), fmt.Sprintf("2.%d.0", i), 1000+i, fmt.Sprintf("%064d", i))
	}
}

// probed plays the device in all probes of a bisection until it is over.
func (d *desk) probed(id string, result func(code int64) hostlink.CaseResult) service.Bisection {
	d.t.Helper()
	seen := map[string]bool{}
	var v service.Bisection
	housetest.Eventually(d.t, "the bisection is over", func() bool {
		var err error
		v, err = d.Bisection(ctx, d.Who, id)
		require.NoError(d.t, err)
		if v.State != store.BisectGoing {
			return true
		}
		d.shoreDevices() // as a host says all the while
		holds, err := d.link.Holds(ctx, housetest.HostName, nil)
		require.NoError(d.t, err)
		for _, h := range holds {
			if seen[h.ID] {
				continue
			}
			seen[h.ID] = true
			var code int64
			_, err := fmt.Sscanf(h.Spec.App.Ref, "kelpline/android@%d", &code)
			require.NoError(d.t, err)
			require.Equal(d.t, []string{"a.test_chart"}, h.Spec.Cases, "that case alone")
			c := result(code)
			c.Name = "a.test_chart"
			require.NoError(d.t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}, {Seq: 2, Case: &c}}))
			require.NoError(d.t, d.link.Close(ctx, h, hostlink.Closing{Verdict: c.Verdict}))
		}
		return false
	})
	return v
}

func TestTheFirstBadBuildIsFoundAlsoAfterARestart(t *testing.T) {
	d := shore(t)
	d.manyBuilds(14) // behind 231 and 240: 16 in all
	const first = 1009
	comes := func(code int64) hostlink.CaseResult {
		if code >= first {
			return with(verdict.Crashed, "the app crashed", chartTrace)
		}
		return with(verdict.Passed, "", "")
	}
	d.ran(service.RunRequest{Build: "kelpline/android@231"}, func(_ int, _ string) hostlink.CaseResult { return with(verdict.Passed, "", "") })
	bad := d.ran(service.RunRequest{Build: "kelpline/android@1013"}, kelp(false))
	a := d.answer(bad)
	q := service.BisectionRequest{Run: bad.ID, Family: a.Families[0].ID[:6]}
	b, err := d.StartBisection(ctx, d.Who, q)
	require.NoError(t, err)
	assert.Equal(t, "d-00", b.Request.V.Device, "one on which it showed")
	assert.Len(t, b.Builds, 16)
	assert.Equal(t, "kelpline/android@231", b.Builds[0].Ref(), "the last that is known to be good")
	v := d.probed(b.ID, comes)
	assert.Equal(t, store.BisectFound, v.State, v.Why)
	assert.Equal(t, int64(first), v.Builds[v.FirstBad].VersionCode)
	assert.Equal(t, "a.test_chart fails since kelpline/android@1009; with kelpline/android@1008 it is good.", v.Sentence())
	assert.LessOrEqual(t, len(v.Probes.V), 6)
	assert.LessOrEqual(t, v.Unsure, triage.Unsure)
	runs, _, err := d.ListRuns(ctx, d.Who, service.RunChoice{Labels: map[string]string{"bisection": b.ID}}, "", 50)
	require.NoError(t, err)
	assert.Len(t, runs, len(v.Probes.V), "its runs are found by their label")

	// What a run of one case alone says hides nothing of before.
	again := d.ran(service.RunRequest{Build: "kelpline/android@1013"}, kelp(false))
	assert.Equal(t, triage.Still, d.answer(again).Families[1].Standing)

	// A build that can't be judged is left out; with the family named, another failure is no answer.
	b, err = d.StartBisection(ctx, d.Who, q)
	require.NoError(t, err)
	v = d.probed(b.ID, func(code int64) hostlink.CaseResult {
		if code == 1006 || code == 1007 {
			return with(verdict.Failed, "the shores could not be fetched", "")
		}
		return comes(code)
	})
	assert.Equal(t, store.BisectFound, v.State, v.Why)
	assert.Equal(t, int64(first), v.Builds[v.FirstBad].VersionCode)

	// Stopped by a person: the run in which a build is tried ends, too.
	d.shoreDevices()
	b, err = d.StartBisection(ctx, d.Who, q)
	require.NoError(t, err)
	h := d.holds(1)[0]
	_, err = d.StopBisection(ctx, d.Who, b.ID)
	require.NoError(t, err)
	hs, err := d.link.Holds(ctx, housetest.HostName, []string{h.ID})
	require.NoError(t, err)
	require.Len(t, hs, 1)
	assert.True(t, hs[0].Stop)
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Stopped}))
	v, err = d.Bisection(ctx, d.Who, b.ID)
	require.NoError(t, err)
	assert.Equal(t, store.BisectStopped, v.State)
	_, err = d.StopBisection(ctx, d.Who, b.ID)
	require.ErrorContains(t, err, "it is over already")

	// One that never says anything is given up.
	b, err = d.StartBisection(ctx, d.Who, q)
	require.NoError(t, err)
	v = d.probed(b.ID, func(int64) hostlink.CaseResult { return with(verdict.Failed, "the shores could not be fetched", "") })
	assert.Equal(t, store.BisectFailed, v.State)
	assert.Contains(t, v.Why, "5 tries in a row said nothing of the fault")

	for says, q := range map[string]service.BisectionRequest{
		"the request names no good build":   {},
		"was uploaded after":                {Good: "kelpline/android@1013", Bad: "kelpline/android@231", Package: "shore@newest", Case: "test_chart"},
		"can't be good and bad":             {Good: "kelpline/android@231", Bad: "kelpline/android@231", Package: "shore@newest", Case: "test_chart"},
		"was test_chart meant":              {Good: "kelpline/android@231", Bad: "kelpline/android@1013", Package: "shore@newest", Case: "test_char"},
		"there is no device \"d-99\"":       {Good: "kelpline/android@231", Bad: "kelpline/android@1013", Package: "shore@newest", Case: "test_chart", Device: "d-99"},
		"no device is known on which":       {Good: "kelpline/android@231", Bad: "kelpline/android@1003", Package: "shore@newest", Case: "test_chart"},
		"no build is known on which this d": {Run: bad.ID, Family: a.Families[2].ID},
		"the run has no family":             {Run: bad.ID, Family: "00000000"},
	} {
		_, err := d.StartBisection(ctx, d.Who, q)
		assert.ErrorContains(t, err, says)
	}
	list, _, err := d.ListBisections(ctx, d.Who, "", 10)
	require.NoError(t, err)
	assert.Len(t, list, 4)
}

func TestOnlyADeviceOnWhichOneOfTheBuildsRunsWouldTell(t *testing.T) {
	d := shore(t)
	facts := func(serial, platform, maker string, memory int) hostlink.Seen {
		return hostlink.Seen{Facts: devices.Facts{Serial: serial, Maker: maker, Platform: platform, API: 30, OS: "11", ABIs: []string{"arm64-v8a"}, Language: "en", MemoryMB: memory, Form: "phone"}, State: "ready"}
	}
	_, err := d.link.Devices(ctx, housetest.HostName, hostlink.About{Isolation: "open"}, []hostlink.Seen{
		facts("d-00", "android", "Orrery", 2048), facts("d-01", "android", "Fennel", 8192), facts("d-02", "android", "Orrery", 2048), facts("d-03", "android", "Fennel", 8192),
		facts("a-page", "web", "Orrery", 8192), facts("b-ios", "ios", "Orrery", 8192), facts("d-99", "android", "Orrery", 8192)})
	require.NoError(t, err)
	r := d.ran(service.RunRequest{Build: "kelpline/android@231", Devices: []string{"d-00", "d-01", "d-02", "d-03"}}, func(device int, name string) hostlink.CaseResult {
		if device%2 == 0 && name == "a.test_total" {
			return with(verdict.Failed, "the total is wrong", "")
		}
		return with(verdict.Passed, "", "")
	})
	a := d.answer(r)
	require.Len(t, a.Families, 1)
	require.NotNil(t, a.Families[0].Hint)
	assert.Equal(t, "d-99", a.Families[0].Hint.Device, "the others can't run the app")
}
