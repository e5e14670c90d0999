package httpd_test

// Tests that people pause to work on their devices: a session of a client, a script that pauses itself, a program.

import (
	"bytes"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

func (o *outside) does(id string, d api.Deed) (int, string) {
	o.t.Helper()
	r, err := o.DoOnHeldWithResponse(o.t.Context(), id, d)
	require.NoError(o.t, err)
	return r.StatusCode(), string(r.Body)
}

func (o *outside) pause(id string, q api.PauseRequest) *api.Standing {
	o.t.Helper()
	r, err := o.PauseTestWithResponse(o.t.Context(), id, q)
	require.NoError(o.t, err)
	require.NotNil(o.t, r.JSON200, string(r.Body))
	return r.JSON200
}

func (o *outside) resume(id string) {
	o.t.Helper()
	r, err := o.ResumeTestWithResponse(o.t.Context(), id)
	require.NoError(o.t, err)
	require.NotNil(o.t, r.JSON200, string(r.Body))
	assert.False(o.t, r.JSON200.Paused)
}

// test waits until the page is told that its test stands in some way.
func (p *page) test(what string, is func(*api.Standing) bool) {
	p.t.Helper()
	p.until(what, func(told []api.LiveTold, _ string) bool {
		for i := len(told) - 1; i >= 0; i-- {
			if s := told[i].Test; s != nil {
				return is(s)
			}
		}
		return false
	})
}

// markers are what stands on a timeline besides commands, as "name: answer".
func markers(events []timeline.Event) (out []string) {
	for _, e := range events {
		if e.Kind == timeline.Marker {
			out = append(out, e.Name+": "+e.Answer)
		}
	}
	return out
}

func TestAPersonPausesASession(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(m{"tessellant:build": "kelpline/android@newest", "tessellant:idle": 8})
	require.Empty(t, code, message)
	id := c.caps["tessellant:session"].(string)
	c.find("#search")

	// While it runs, people may look, and no more.
	status, said := o.does("orr-01", api.Deed{Do: api.DeedPress, Key: ptr("back")})
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, said, "the test is running")
	assert.Contains(t, said, "tessellant device pause orr-01")
	tree, err := o.GetHeldTreeWithResponse(t.Context(), id, &api.GetHeldTreeParams{})
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnprocessableEntity, tree.StatusCode(), "to read the tree would hold its commands up")
	shot, err := o.GetHeldPictureWithResponse(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, shot.StatusCode())
	p := o.watch(id, o.Key)
	p.test("it runs", func(s *api.Standing) bool { return !s.Paused })
	p.does(m{"take": true})
	p.problem("the test is running")
	p.does(finger(0.5, 0.5))
	p.does(m{"fingers": []m{}})

	// Paused, its next command waits for longer than it may be idle, and the device is the person's.
	s := o.pause("orr-01", api.PauseRequest{Why: ptr("the list is odd")})
	assert.Equal(t, "first key", *s.By)
	assert.Contains(t, *s.Last, "find element")
	assert.Nil(t, s.Waits)
	p.test("it is paused", func(s *api.Standing) bool { return s.Paused && *s.Why == "the list is odd" })
	p.hand("", false)
	p.does(m{"take": true})
	p.hand("first key", true)
	x, y := o.on(id, "#shore_tern-rocks")
	clicked := make(chan string, 1)
	go func() {
		_, code := c.do("POST", "/element", m{"using": "css selector", "value": "#show_chart"})
		clicked <- code
	}()
	p.test("the client's command waits", func(s *api.Standing) bool { return s.Waits != nil && strings.Contains(*s.Last, "#show_chart") })
	time.Sleep(8500 * time.Millisecond) // longer than the session may be idle
	p.taps(x, y)
	o.on(id, "#show_chart")
	status, said = o.does(id, api.Deed{Do: api.DeedKeep, Name: ptr("as a person saw it")})
	assert.Equal(t, http.StatusNoContent, status, said)
	assert.Empty(t, clicked)
	o.resume(id)
	assert.Empty(t, <-clicked, "it sees what the person has opened")
	p.hand("", false)
	status, _ = o.does(id, api.Deed{Do: api.DeedPress, Key: ptr("back")})
	assert.Equal(t, http.StatusUnprocessableEntity, status)

	// A silent client's session stands while it is paused, and not for longer.
	o.pause(id, api.PauseRequest{Seconds: ptr(60)})
	time.Sleep(9 * time.Second)
	o.resume(id)
	c.find("#show_chart")
	session := o.over(c) // idle for 8 s
	assert.Equal(t, "idle", *session.How)
	r, err := o.PauseTestWithResponse(t.Context(), id, api.PauseRequest{})
	require.NoError(t, err)
	assert.Contains(t, string(r.Body), "the session is over")
	events := o.events(id)
	told := markers(events)
	assert.Contains(t, told, "paused by first key: the list is odd: ")
	assert.True(t, slices.ContainsFunc(told, func(s string) bool {
		return strings.HasPrefix(s, "resumed after ") && strings.HasSuffix(s, ": by first key")
	}), told)
	tapped := slices.ContainsFunc(events, func(e timeline.Event) bool {
		return e.Kind == timeline.Command && e.Name == "tap" && e.Args["element"] == "#shore_tern-rocks"
	})
	assert.True(t, tapped, "what the person did is on the timeline")
	assert.True(t, slices.ContainsFunc(events, func(e timeline.Event) bool { return e.Kind == timeline.Step && e.Name == "as a person saw it" }))
	script, err := o.GetHeldScriptWithResponse(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, script.JSON200.Source, `phone.tap('#shore_tern-rocks')`)
	assert.NotContains(t, script.JSON200.Source, "show_chart", "what the client did is none of it")
}

func TestAScriptPausesForWhoWatches(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	body := bytes.NewReader(good(t, "looks", "phone.launch()\n    pause('is the list right?')\n    phone.tap('#show_chart', within = 2)"))
	_, _, err := o.Service.AddPackage(t.Context(), o.Who, service.Upload{Body: body, Size: -1})
	require.NoError(t, err)
	run := func(pause func(run, leg string)) *api.Leg {
		r, _, err := o.Service.StartRun(t.Context(), o.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "looks@newest", Devices: []string{"orr-01"}})
		require.NoError(t, err)
		v, err := o.GetRunWithResponse(t.Context(), r.ID)
		require.NoError(t, err)
		id := v.JSON200.Legs[0].Id
		pause(r.ID, id)
		var leg *api.Leg
		housetest.Eventually(t, "the leg is over", func() bool {
			got, err := o.GetLegWithResponse(t.Context(), id)
			require.NoError(t, err)
			leg = got.JSON200
			return leg.Stage == "done"
		})
		return leg
	}
	// Nobody watches: it goes on at once, and fails, as nobody has opened the shore.
	leg := run(func(_, _ string) {})
	assert.Equal(t, string(verdict.Failed), string(*leg.Verdict))
	assert.Contains(t, markers(o.events(leg.Id)), "not paused, as nobody watches: is the list right?: ")

	// Somebody watches, and opens it.
	leg = run(func(_, id string) {
		housetest.Eventually(t, "the leg runs", func() bool {
			r, err := o.GetTestWithResponse(t.Context(), id)
			require.NoError(t, err)
			return r.JSON200 != nil
		})
		p := o.watch(id, o.Key)
		p.test("it has paused", func(s *api.Standing) bool {
			return s.Paused && s.By == nil && *s.Why == "is the list right?" && *s.Line == "a.star:3"
		})
		lines, err := o.RunOnHeldWithResponse(t.Context(), id, api.RunLines{Lines: []string{`phone.tap("#shore_tern-rocks")`, `pause("once more")`}})
		require.NoError(t, err)
		require.NotNil(t, lines.JSON200, string(lines.Body))
		assert.Equal(t, api.Passed, lines.JSON200.Verdict)
		o.resume("orr-01")
	})
	assert.Equal(t, string(verdict.Passed), string(*leg.Verdict), leg)

	// A run that is stopped while it is paused ends at once.
	leg = run(func(run, id string) {
		housetest.Eventually(t, "the leg runs", func() bool {
			r, err := o.PauseTestWithResponse(t.Context(), id, api.PauseRequest{Seconds: ptr(600)})
			require.NoError(t, err)
			return r.JSON200 != nil
		})
		_, err := o.StopRunWithResponse(t.Context(), run, api.StopRunJSONRequestBody{})
		require.NoError(t, err)
	})
	assert.Equal(t, string(verdict.Stopped), string(*leg.Verdict))
}
