package report_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/report"
	"tessellant/internal/core/verdict"
)

var rows = []report.Row{
	{Run: 4, RunID: "r", Build: "kelpline/android@231", Package: "shore@1", Leg: "l1", Device: "orr-01", Model: "Orrery Skerry 5", OS: "14", Case: "a.test_a", Verdict: verdict.Passed, TookMS: 1200},
	{Run: 4, Device: "orr-03", Variant: "de", Conditions: "language:de", Case: "a.test_b/#2 \\", Verdict: verdict.Failed, TookMS: 900, Message: "=1+1 \"said\",\nand more", Place: "a.star:4", Family: "0123456789abcdef"},
	{Run: 4, Device: "orr-03", Case: "a.test_c", Verdict: verdict.Crashed, Message: "the app crashed", Excused: "as known (KELP-12)"},
	{Run: 4, Device: "orr-04", Case: "(no case)", Verdict: verdict.Lost, Message: "unplugged"},
	{Run: 4, Device: "orr-05", Case: "a.test_a", Verdict: verdict.Flaky, Message: "late"},
}

func written(t *testing.T, form string, rows []report.Row) string {
	t.Helper()
	var buf bytes.Buffer
	w := report.NewRows(form, &buf)
	for _, r := range rows {
		require.NoError(t, w.Row(r))
	}
	require.NoError(t, w.End())
	return buf.String()
}

func TestRowsAsCSV(t *testing.T) {
	all, err := csv.NewReader(strings.NewReader(written(t, report.AsCSV, rows))).ReadAll()
	require.NoError(t, err)
	require.Len(t, all, 6)
	at := map[string]int{}
	for i, name := range all[0] {
		at[name] = i
	}
	assert.Equal(t, "'=1+1 \"said\",\nand more", all[2][at["message"]], "a spreadsheet takes it for a text")
	assert.Equal(t, []string{"4", "orr-03", "de", "failed", "900"}, []string{all[2][at["run"]], all[2][at["device"]], all[2][at["variant"]], all[2][at["verdict"]], all[2][at["took_ms"]]})
	none, err := csv.NewReader(strings.NewReader(written(t, report.AsCSV, nil))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, all[:1], none)
}

func TestRowsAsJSON(t *testing.T) {
	var back []report.Row
	require.NoError(t, json.Unmarshal([]byte(written(t, report.AsJSON, rows)), &back))
	assert.Equal(t, rows, back)
	assert.JSONEq(t, "[]", written(t, report.AsJSON, nil))
}

func TestRowsAsTAP(t *testing.T) {
	assert.Equal(t, `TAP version 14
ok 1 - a.test_a on orr-01
not ok 2 - a.test_b/\#2 \\ on orr-03/de
  ---
  verdict: failed
  message: "=1+1 \"said\", and more"
  at: "a.star:4"
  duration_ms: 900
  leg: 
  ...
not ok 3 - a.test_c on orr-03 # TODO as known (KELP-12)
  ---
  verdict: crashed
  message: "the app crashed"
  at: ""
  duration_ms: 0
  leg: 
  ...
ok 4 - (no case) on orr-04 # SKIP lost
ok 5 - a.test_a on orr-05
  ---
  verdict: flaky
  message: "late"
  at: ""
  duration_ms: 0
  leg: 
  ...
1..5
`, written(t, report.AsTAP, rows))
	assert.Equal(t, "TAP version 14\n1..0\n", written(t, report.AsTAP, nil))
	assert.Nil(t, report.NewRows("xlsx", nil))
}

func TestAPageStandsAloneAndHasAnEnd(t *testing.T) {
	hostile := `<script>alert(1)</script>"'><img src=x onerror=y>`
	r := report.PageRun{Number: 4, ID: "r", Name: hostile, Build: "kelpline/android@231", Package: "shore@1", Sentence: "Not good: " + hostile, Started: time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC), Took: 3 * time.Minute, Gone: []string{hostile}}
	for i := range report.MaxPageLegs + 5 {
		l := report.PageLeg{Name: fmt.Sprint("d-", i), Model: hostile, System: "Android 14", Verdict: verdict.Failed, Message: hostile}
		r.Legs = append(r.Legs, l)
	}
	r.Groups = []report.PageGroup{{Value: hostile, Legs: r.Legs[:3]}}
	for range report.MaxPageFamilies + 2 {
		r.Families = append(r.Families, report.PageFamily{Kind: verdict.Crashed, Head: "crashed on 3 devices", Title: hostile, Says: []string{hostile}, Where: hostile, Picture: bytes.Repeat([]byte{1}, 200_000)})
	}
	for i := range report.MaxPageCases + 7 {
		r.Cases = append(r.Cases, report.PageCase{Name: fmt.Sprint("case ", i, hostile), Counts: verdict.Counts{verdict.Failed: 1, verdict.Passed: 2}, On: []string{hostile}})
	}
	var buf bytes.Buffer
	require.NoError(t, report.Page{Made: time.Now(), Runs: []report.PageRun{r, r}}.Write(&buf))
	page := buf.String()
	assert.Less(t, len(page), 8<<20)
	for text, want := range map[string]bool{"<script": false, "<img src=x": false, "default-src 'none'": true, "And 5 more.": true, "And 7 more.": true, "2 runs": true, "took 3:00 min": true} {
		assert.Equal(t, want, strings.Contains(page, text), text)
	}
	assert.False(t, regexp.MustCompile(`(?:src|href)="(?:https?:)?//`).MatchString(page), "nothing comes from elsewhere")
	assert.Equal(t, 15, strings.Count(page, `<img src="data:image/jpeg;base64,`), "pictures have an end")
}
