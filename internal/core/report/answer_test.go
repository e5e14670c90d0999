package report_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/report"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
)

func TestAnswers(t *testing.T) {
	legs := func(n int, first ...verdict.Verdict) []verdict.Verdict {
		for len(first) < n {
			first = append(first, verdict.Passed)
		}
		return first
	}
	for want, c := range map[string]struct {
		legs   []verdict.Verdict
		groups []report.Group
	}{
		"Not good: 3 of 16 devices crash in “tide chart”, all on Android 9 or older, since 1.8.0; 2 fail in 2 cases, both in German. 11 are fine.": {legs(16, "crashed", "crashed", "crashed", "failed", "failed"),
			[]report.Group{{Kind: "crashed", Legs: 3, Cases: []string{"tides.test_tide_chart"}, Where: "on Android 9 or older", All: true, Since: "since 1.8.0"}, {Kind: "failed", Legs: 2, Cases: []string{"a", "b"}, Where: "in German", All: true}}},
		"Not good: the device runs out of time in “shores / search”.":                                                 {legs(1, "expired"), []report.Group{{Kind: "expired", Legs: 1, Cases: []string{"shores / search"}}}},
		"Nothing new: 1 of 3 devices fails as known (KELP-12) in “send (twice)”. 1 is fine, 1 is flaky.":              {legs(3, "failed", "flaky"), []report.Group{{Kind: "flaky", Legs: 1}, {Kind: "failed", Legs: 1, Cases: []string{"x.test_send/twice"}, Known: "as known (KELP-12)"}}},
		"Not good: 3 of 4 devices fail in “x”, most of them on tablets; 1 fails as known in “y”. 1 was lost.":         {legs(4, "failed", "failed", "failed", "lost"), []report.Group{{Kind: "failed", Legs: 1, Cases: []string{"y"}, Known: "as known"}, {Kind: "failed", Legs: 3, Cases: []string{"x"}, Where: "on tablets"}}},
		"Not good: 1 of 9 devices fails in “a”; 1 fails in “b”; 1 fails in “c”; 2 more kinds of failure. 4 are fine.": {legs(9, "failed", "failed", "failed", "failed", "failed"), []report.Group{{Kind: "failed", Legs: 1, Cases: []string{"a"}}, {Kind: "failed", Legs: 1, Cases: []string{"b"}}, {Kind: "failed", Legs: 1, Cases: []string{"c"}}, {Kind: "failed", Legs: 1}, {Kind: "failed", Legs: 1}}},
		"0 of 2 devices passed; 1 failed; 1 still going.":                                                             {[]verdict.Verdict{"failed", ""}, []report.Group{{Kind: "failed", Legs: 1}}},
		"All 2 devices passed.":              {legs(2), nil},
		"1 of 2 devices passed; 1 was lost.": {legs(2, "lost"), nil},
	} {
		assert.Equal(t, want, report.Answer("device", c.legs, c.groups))
	}
	for name, want := range map[string]string{"tides.test_tide_chart": "tide chart", "test_a": "a", "survey.test_total/whole numbers": "total (whole numbers)", "Tides.shows": "Tides.shows", "x.test_": "x.test_", " b ": "b", "": ""} {
		assert.Equal(t, want, report.CaseTitle(name))
	}
}

// run is a made-up run: each of its faults has a cause in the devices, or none.
type run struct {
	legs     []triage.Leg
	verdicts []verdict.Verdict
	judged   [][]triage.Judged
	failures []triage.Failure
	shown    map[string]map[int]bool // by case: the legs that fail there
}

func made(rnd *rand.Rand) (r run) {
	n := 4 + rnd.IntN(30)
	r.shown = map[string]map[int]bool{}
	for i := range n {
		f := devices.Facts{Serial: fmt.Sprint("d-", i), Platform: "android", API: 26 + rnd.IntN(10), OS: fmt.Sprint(8 + rnd.IntN(8)), Width: 1080, Height: 2200, Density: 400 + 80*rnd.IntN(2), MemoryMB: 2048 * (1 + rnd.IntN(4)), Form: "phone", Language: "en", Maker: "Orrery", Model: fmt.Sprint("M", rnd.IntN(6))}
		f.OS = strconv.Itoa(f.API - 20)
		if rnd.IntN(4) == 0 {
			f.Form = "tablet"
		}
		l := triage.Leg{Device: f}
		if rnd.IntN(4) == 0 {
			l.Conditions = conditions.Set{conditions.Language: "de"}
		}
		r.legs = append(r.legs, l)
	}
	causes := []func(i int) bool{
		func(i int) bool { return r.legs[i].Device.API < 29 },
		func(i int) bool { return r.legs[i].Conditions[conditions.Language] == "de" },
		func(i int) bool { return r.legs[i].Device.Form == "tablet" },
		func(i int) bool { return r.legs[i].Device.MemoryMB <= 2048 },
		func(i int) bool { return rnd.IntN(6) == 0 },
	}
	kinds := []verdict.Verdict{verdict.Crashed, verdict.Failed, verdict.Failed, verdict.Expired, verdict.Failed}
	says := []string{"the chart is not there", "expected 6,5 on the page of totals", "the draft is empty after turning", "nothing came from the harbour", "a tile is missing in the mosaic"}
	faults := rnd.Perm(len(causes))[:1+rnd.IntN(4)]
	for i := range r.legs {
		var vs []verdict.Verdict
		var cases []triage.Judged
		lost := rnd.IntN(12) == 0
		for _, k := range faults {
			name := fmt.Sprintf("shore.test_case_%d", k)
			v := verdict.Passed
			if causes[k](i) {
				v = kinds[k]
			}
			if lost {
				v = verdict.Skipped
			}
			if vs, cases = append(vs, v), append(cases, triage.Judged{Case: name, Verdict: v}); v == kinds[k] {
				r.failures = append(r.failures, triage.Failure{Leg: i, Case: name, Kind: v, Message: says[k]})
				if r.shown[name] == nil {
					r.shown[name] = map[int]bool{}
				}
				r.shown[name][i] = true
			}
		}
		if lost {
			vs = append(vs, verdict.Lost)
		}
		r.verdicts, r.judged = append(r.verdicts, verdict.Roll(vs...)), append(r.judged, cases)
	}
	return r
}

var clause = regexp.MustCompile(`^(\d+)(?: of (\d+) devices)? (crash|crashes|fail|fails|run out of time|runs out of time) in “case (\d)”(?:, (all|both|most of them)? ?((?:on|in|with) .*))?$`)

// A sentence says nothing that is not so, whatever came out.
func TestTheSentenceOfAHundredRunsIsTrue(t *testing.T) {
	rnd := rand.New(rand.NewPCG(18, 5))
	told, withRule := 0, 0
	for range 100 {
		r := made(rnd)
		var groups []report.Group
		explained := triage.Explain(triage.Families(r.failures), r.legs, r.judged, nil)
		for _, x := range explained {
			g := report.Group{Kind: x.Signature.Kind, Legs: len(x.Legs), Cases: x.Cases}
			if x.Rule != nil {
				g.Where, g.All = x.Rule.Phrase(), x.Rule.FailOut == 0
			}
			groups = append(groups, g)
		}
		s := report.Answer("device", r.verdicts, groups)
		if len(r.failures) == 0 {
			assert.NotContains(t, s, "Not good")
			continue
		}
		told++
		said, rest, _ := strings.Cut(strings.TrimPrefix(s, "Not good: "), ". ")
		said = strings.TrimSuffix(said, ".")
		parts := strings.Split(said, "; ")
		if more := regexp.MustCompile(`^(\d+) more kinds? of failure$`).FindStringSubmatch(parts[len(parts)-1]); more != nil {
			assert.Equal(t, fmt.Sprint(len(r.shown)-3), more[1], s)
			parts = parts[:len(parts)-1]
		}
		assert.Len(t, parts, min(3, len(r.shown)), s)
		for i, p := range parts {
			m := clause.FindStringSubmatch(p)
			require.NotNil(t, m, "%q in %q", p, s)
			fails := r.shown["shore.test_case_"+m[4]]
			assert.Equal(t, strconv.Itoa(len(fails)), m[1], "so many fail there: %s", s)
			assert.Equal(t, i == 0, m[2] != "", s)
			if i == 0 {
				assert.Equal(t, strconv.Itoa(len(r.legs)), m[2], s)
			}
			assert.Equal(t, len(fails) == 1, strings.HasSuffix(strings.Fields(m[3])[0], "es") || m[3] == "fails" || strings.HasPrefix(m[3], "runs"), s)
			if m[6] == "" {
				continue
			}
			withRule++
			all := true
			for leg := range fails { // what is said of the devices that fail is so
				all = all && fits(t, m[6], r.legs[leg])
			}
			assert.Equal(t, m[5] != "most of them", all, s)
		}
		fine := 0
		for _, v := range r.verdicts {
			if v == verdict.Passed {
				fine++
			}
		}
		number := regexp.MustCompile(`^(\d+) (?:is|are) fine`).FindStringSubmatch(rest)
		assert.Equal(t, fine > 0, number != nil, s)
		if number != nil {
			assert.Equal(t, strconv.Itoa(fine), number[1], s)
		}
	}
	t.Logf("%d of 100 runs have failures; %d clauses say on which devices", told, withRule)
	assert.Greater(t, told, 70)
	assert.Greater(t, withRule, 40)
}

// fits reads what is said of devices, in another way than it was written, and says whether it is true of one.
func fits(t *testing.T, phrase string, l triage.Leg) bool {
	t.Helper()
	language := "English"
	if l.Conditions[conditions.Language] == "de" {
		language = "German"
	}
	ok := true
	for _, p := range strings.Split(phrase, " and ") {
		var n int
		switch {
		case strings.HasPrefix(p, "in "):
			ok = ok && p == "in "+language
		case p == "on tablets", p == "on phones":
			ok = ok && p == "on "+l.Device.Form+"s"
		case strings.HasPrefix(p, "on Android "):
			_, err := fmt.Sscanf(p, "on Android %d", &n)
			require.NoError(t, err)
			os, err := strconv.Atoi(l.Device.OS)
			require.NoError(t, err)
			ok = ok && (os == n || os < n && strings.HasSuffix(p, "or older") || os > n && strings.HasSuffix(p, "or newer"))
		case strings.HasPrefix(p, "with ") && strings.Contains(p, "GB of memory"):
			_, err := fmt.Sscanf(p, "with %d GB", &n)
			require.NoError(t, err)
			gb := l.Device.MemoryMB / 1024
			ok = ok && (gb == n || gb < n && strings.HasSuffix(p, "or less") || gb > n && strings.HasSuffix(p, "or more"))
		case strings.HasPrefix(p, "on screens "):
			dp := l.Device.WidthDP()
			_, err := fmt.Sscanf(regexp.MustCompile(`\d+`).FindString(p), "%d", &n)
			require.NoError(t, err)
			ok = ok && (dp == n || dp < n && strings.Contains(p, "at most") || dp > n && strings.Contains(p, "at least"))
		case strings.HasPrefix(p, "with ") && strings.Contains(p, "dpi"):
			_, err := fmt.Sscanf(p, "with %d dpi", &n)
			require.NoError(t, err)
			ok = ok && (l.Device.Density == n || l.Device.Density < n && strings.HasSuffix(p, "or less") || l.Device.Density > n && strings.HasSuffix(p, "or more"))
		case strings.HasPrefix(p, "on M"):
			ok = ok && p == "on "+l.Device.Model
		default:
			require.Fail(t, "nobody knows what is meant by "+p)
		}
	}
	return ok
}
