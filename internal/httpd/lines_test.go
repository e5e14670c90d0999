package httpd_test

// What a person does becomes a script: it is run again on the same device, from any line, saved as a package, and passes on another device.

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/housetest"
)

func TestWhatIsDoneByHandBecomesAScript(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01", "fen-03")
	h := o.hold(api.HoldRequest{Device: ptr("orr-01"), Build: ptr("kelpline/android@newest")})
	o.until(h.Id, api.HoldStageRunning)
	p := o.watch(h.Id, o.Key)
	p.hand("first key", true)
	p.does(m{"record": true})

	// By hand: what is touched is found on the screen as it was read last, or is read when a finger comes.
	x, y := o.on(h.Id, "#search")
	p.taps(x, y)
	o.on(h.Id, "#search[focused=true]")
	for _, letter := range []string{"T", "e", "r", "m"} {
		p.does(m{"text": letter})
	}
	p.does(m{"keys": []string{"delete"}})
	p.does(m{"text": "n"})
	o.on(h.Id, `#search[value="Tern"]`)
	x, y = o.on(h.Id, "#shore_tern-rocks")
	p.taps(x, y)
	o.on(h.Id, "#show_chart")
	// By single requests.
	r, err := o.DoOnHeldWithResponse(t.Context(), h.Id, api.Deed{Do: api.DeedTap, Locator: ptr("#show_chart")})
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, r.StatusCode(), string(r.Body))
	for _, d := range []api.Deed{{Do: api.DeedKeep, Name: ptr("the chart")}, {Do: api.DeedPress, Key: ptr("back")}} {
		r, err := o.DoOnHeldWithResponse(t.Context(), h.Id, d)
		require.NoError(t, err)
		require.Equal(t, http.StatusNoContent, r.StatusCode(), string(r.Body))
	}
	// What a client does is not among it.
	c := o.client()
	code, message := c.open(m{"tessellant:hold": h.Id})
	require.Empty(t, code, message)
	c.find("#settings")

	script := func() []string {
		r, err := o.GetHeldScriptWithResponse(t.Context(), h.Id)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		lines := []string{}
		for _, l := range r.JSON200.Lines {
			lines = append(lines, l.Text)
		}
		return lines
	}
	want := []string{"phone.type('#search', 'Tern')", "phone.tap('#shore_tern-rocks')", "phone.tap('#show_chart')", "phone.step('the chart')", "phone.back()"}
	housetest.Eventually(t, "the lines are there", func() bool { return len(script()) >= len(want) })
	assert.Equal(t, want, script())

	// Run again on the device as it stands, from a line on.
	run := func(from int, lines ...string) *api.RanLines {
		t.Helper()
		r, err := o.RunOnHeldWithResponse(t.Context(), h.Id, api.RunLines{Lines: lines, From: &from})
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		return r.JSON200
	}
	o.on(h.Id, "#shore_tern-rocks")
	ran := run(1, append(want, "check.equal(phone.read('#title'), 'Shores')")...)
	assert.Equal(t, api.Passed, ran.Verdict, ran)
	ran = run(0, "phone.find('#search')", "check.equal(phone.read('#title'), 'Moon')", "phone.tap('#settings')")
	assert.Equal(t, api.Failed, ran.Verdict)
	assert.Equal(t, 1, *ran.Line, "lines are counted from 0")
	assert.Equal(t, `"Moon"`, *ran.Expected)
	assert.Len(t, script(), len(want), "what lines do is not done by hand")
	for want, q := range map[string]api.RunLines{
		"line 2":                {Lines: []string{"phone.back()", "phone.dance()"}},
		"none is number 3":      {Lines: []string{"phone.back()"}, From: ptr(3)},
		"the lines took longer": {Lines: []string{"phone.find('#nix', within = 60)"}, Seconds: ptr(1)},
	} {
		r, err := o.RunOnHeldWithResponse(t.Context(), h.Id, q)
		require.NoError(t, err)
		assert.Contains(t, string(r.Body), want)
	}

	// Saved, it passes here and elsewhere; and the lines are there still when the hold is over.
	_, err = o.EndHoldWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	o.until(h.Id, api.HoldStageDone)
	s, err := o.GetHeldScriptWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	assert.Equal(t, "def test_recorded(phone):\n    phone.launch()\n    "+strings.Join(want, "\n    ")+"\n", s.JSON200.Source)
	for range 2 {
		a, err := o.AddScriptWithResponse(t.Context(), api.NewScript{Name: "by-hand", Source: s.JSON200.Source})
		require.NoError(t, err)
		require.Less(t, a.StatusCode(), 300, string(a.Body))
	}
	for want, q := range map[string]api.NewScript{
		"needs small letters":  {Name: "By hand\nkind: program", Source: s.JSON200.Source},
		"one finding keeps it": {Name: "by-hand", Source: "def test_x(phone):\n    phone.dance()\n"},
	} {
		a, err := o.AddScriptWithResponse(t.Context(), q)
		require.NoError(t, err)
		assert.Contains(t, string(a.Body), want)
	}
	run2, err := o.StartRunWithResponse(t.Context(), &api.StartRunParams{}, api.RunRequest{Build: "kelpline/android@newest", Package: "by-hand@1"})
	require.NoError(t, err)
	require.NotNil(t, run2.JSON201, string(run2.Body))
	housetest.Eventually(t, "the run is over", func() bool {
		r, err := o.GetRunWithResponse(t.Context(), run2.JSON201.Id)
		return err == nil && r.JSON200 != nil && r.JSON200.Verdict != nil
	})
	done, err := o.GetRunWithResponse(t.Context(), run2.JSON201.Id)
	require.NoError(t, err)
	assert.Equal(t, api.Passed, *done.JSON200.Verdict)
	assert.Len(t, done.JSON200.Legs, 2)
}
