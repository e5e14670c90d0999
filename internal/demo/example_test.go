package demo

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/verdict"
)

func ptr[T any](v T) *T { return &v }

func TestWhatDiffersFromWhatWasForetoldIsNamed(t *testing.T) {
	dir := t.TempDir()
	for _, f := range []string{"leg.json", "timeline.jsonl", "device.log", "video.mp4"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), []byte("x"), 0o600))
	}
	want := foretoldLeg{Verdict: verdict.Failed, Cases: map[string]verdict.Verdict{"b": verdict.Failed}}
	leg := &api.Leg{Verdict: ptr(api.Failed), CasesTotal: 2, Attempts: []api.Attempt{{Cases: []api.CaseResult{
		{Name: "a", Verdict: ptr(api.Passed)}, {Name: "b", Verdict: ptr(api.Failed), Shot: ptr("s"), Tree: ptr("t")}}}}}
	assert.Empty(t, differences("d-1", want, leg, dir))

	leg.Attempts[0].Cases[0].Verdict = ptr(api.Crashed)
	leg.Attempts[0].Cases[1].Shot = nil
	leg.Verdict, leg.CasesTotal = ptr(api.Crashed), 3
	want.Cases["c"] = verdict.Crashed
	require.NoError(t, os.Remove(filepath.Join(dir, "video.mp4")))
	assert.Equal(t, []string{"d-1: the verdict is crashed, not failed ()", "d-1: 2 of 3 cases have a result", "d-1: a crashed, not passed ()",
		"d-1: b has no screen", "d-1: there is no case c", "d-1: video.mp4 is missing or empty"}, differences("d-1", want, leg, dir))
	assert.Equal(t, []string{"d-1: there was no attempt"}, differences("d-1", foretoldLeg{Verdict: verdict.Failed}, &api.Leg{Verdict: ptr(api.Failed)}, dir))
}

func TestWhatARunSaysOtherwiseThanForetoldIsNamed(t *testing.T) {
	want, err := readForetold("../../demo")
	require.NoError(t, err)
	assert.Equal(t, verdict.Failed, want.of("1.9.0", "orr-05", "").Verdict)
	assert.Len(t, want["1.9.0"].Says, 4)
	f := foretoldRun{Says: []foretoldFamily{{Kind: verdict.Failed, Cases: []string{"a"}, On: "in German", Now: "still", Since: "1.8.0"}}}
	says := &api.Answer{Families: []api.Family{{Kind: api.Failed, Cases: []string{"a"}, Rule: &api.FamilyRule{Phrase: "in German"}, Standing: ptr(api.FamilyStandingStill), FirstBad: &api.BuildName{Version: "1.8.0"}}}}
	assert.Empty(t, misread(f, says))
	says.Families[0].Rule.Phrase = "on tablets"
	says.Gone = []api.Gone{{Kind: api.Crashed, Cases: []string{"b"}, Standing: api.Mended}}
	assert.Equal(t, []string{"families are [{failed [a] on tablets [] still 1.8.0}], not [{failed [a] in German [] still 1.8.0}]", "what is gone are [{crashed [b]  [] mended }], not []"}, misread(f, says))
}
