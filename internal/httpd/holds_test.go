package httpd_test

// Devices that people hold, over REST: asked for, waited for, prolonged, looked at, shared with a client, given back; and what can't be had.

import (
	"bytes"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/work"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

func (o *outside) hold(q api.HoldRequest) *api.Hold {
	o.t.Helper()
	r, err := o.HoldDeviceWithResponse(o.t.Context(), &api.HoldDeviceParams{}, q)
	require.NoError(o.t, err)
	require.NotNil(o.t, r.JSON201, string(r.Body))
	return r.JSON201
}

func (o *outside) held(id string) *api.Hold {
	o.t.Helper()
	r, err := o.GetHoldWithResponse(o.t.Context(), id)
	require.NoError(o.t, err)
	require.NotNil(o.t, r.JSON200, string(r.Body))
	return r.JSON200
}

func (o *outside) until(id string, stage api.HoldStage) (h *api.Hold) {
	o.t.Helper()
	housetest.Eventually(o.t, "the hold is "+string(stage), func() bool {
		h = o.held(id)
		return h.Stage == stage
	})
	return h
}

func TestAPersonHoldsADevice(t *testing.T) {
	o := openOutside(t, "orr-01")
	first := o.hold(api.HoldRequest{Device: ptr("orr-01"), Build: ptr("kelpline/android@newest"), Seconds: ptr(600), Name: ptr("a look")})
	second := o.hold(api.HoldRequest{Where: &[]string{"maker=Orrery"}})
	h := o.until(first.Id, api.HoldStageRunning)
	assert.Equal(t, "a look", h.Name)
	assert.Equal(t, "first key", h.By)
	assert.Equal(t, "orr-01", h.Device.Serial)
	assert.InDelta(t, 600, time.Until(*h.Until).Seconds(), 20)
	waits := o.held(second.Id)
	assert.Equal(t, api.HoldStageWaiting, waits.Stage, "one holds; who comes later waits")
	require.NotNil(t, waits.Place)
	assert.Equal(t, 1, *waits.Place)
	d, err := o.GetDeviceWithResponse(t.Context(), "orr-01")
	require.NoError(t, err)
	assert.Equal(t, &api.Holder{Leg: first.Id, ByHand: ptr(true), Since: d.JSON200.HeldBy.Since, Until: *h.Until}, d.JSON200.HeldBy)

	// What is on the screen, and how it can be addressed.
	tree := func(find string) *api.HeldTree {
		r, err := o.GetHeldTreeWithResponse(t.Context(), "orr-01", &api.GetHeldTreeParams{Find: &find})
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		return r.JSON200
	}
	x := tree(`text[text^="Tern"]`)
	require.Len(t, *x.Found, 1)
	tern := x.Elements[(*x.Found)[0]]
	assert.Equal(t, "Tern Rocks", *tern.Text)
	assert.Equal(t, api.Locator{By: api.ByID, Css: "#shore_tern-rocks_name", Here: 1}, tern.Locators[0])
	assert.Empty(t, *tree("#nothing").Found)

	// A client works on the device, and leaves it held.
	c := o.client()
	code, message := c.open(m{"tessellant:hold": first.Id, "timeouts": m{"implicit": 900}})
	require.Empty(t, code, message)
	assert.Equal(t, "kelpline/android@231", c.caps["tessellant:build"])
	assert.EqualValues(t, 900, c.must("GET", "/timeouts", nil).(m)["implicit"])
	other := o.client()
	code, message = other.open(m{"tessellant:hold": "orr-01"})
	require.Empty(t, code, message)
	assert.EqualValues(t, 900, other.caps["timeouts"].(m)["implicit"], "who asks for no time-outs leaves them as they are, and is told")
	assert.EqualValues(t, 900, c.must("GET", "/timeouts", nil).(m)["implicit"])
	c.click("#shore_tern-rocks")
	other.find("#show_chart")
	c.must("DELETE", "", nil)
	_, code = c.do("GET", "/timeouts", nil)
	assert.Equal(t, "invalid session id", code)
	other.find("#show_chart")
	assert.Equal(t, api.HoldStageRunning, o.held(first.Id).Stage)
	for want, caps := range map[string]m{
		"the device is held already":          {"tessellant:hold": first.Id, "tessellant:build": "kelpline/android@newest"},
		"there is no hold":                    {"tessellant:hold": "nix"},
		"the device is not held now":          {"tessellant:hold": second.Id},
		"the device that is held will not do": {"tessellant:hold": first.Id, "platformName": "iOS"},
		"tessellant:hold: it must be a text":  {"tessellant:hold": 1},
	} {
		_, message = o.client().open(caps)
		assert.Contains(t, message, want)
	}

	// Longer, but not longer than may be.
	p, err := o.ProlongHoldWithResponse(t.Context(), "orr-01", api.Prolong{Seconds: 1200})
	require.NoError(t, err)
	require.NotNil(t, p.JSON200, string(p.Body))
	assert.InDelta(t, 1800, time.Until(*p.JSON200.Until).Seconds(), 20)
	p, err = o.ProlongHoldWithResponse(t.Context(), first.Id, api.Prolong{Seconds: 28800})
	require.NoError(t, err)
	assert.InDelta(t, 28800, time.Until(*p.JSON200.Until).Seconds(), 20)

	// Given back, it goes to the next; what was done is evidence.
	var back sync.WaitGroup
	for range 6 { // by several persons at once: it is given back once, and nobody stopped it
		back.Go(func() {
			e, err := o.EndHoldWithResponse(t.Context(), first.Id)
			if assert.NoError(t, err) {
				assert.NotNil(t, e.JSON200, string(e.Body))
			}
		})
	}
	back.Wait()
	h = o.until(first.Id, api.HoldStageDone)
	assert.Equal(t, api.Passed, *h.Verdict)
	assert.Equal(t, "client", *h.How)
	assert.Nil(t, h.Until)
	clicked := false
	for _, e := range o.events(first.Id) {
		clicked = clicked || e.Kind == timeline.Command && e.Name == "element click"
	}
	assert.True(t, clicked)
	_, code = other.do("GET", "/timeouts", nil)
	assert.Equal(t, "invalid session id", code, "its hold is over")

	// The second one's time is short: nobody has to give it back.
	spec, err := o.Service.Store.Spec(t.Context(), second.Id)
	require.NoError(t, err)
	assert.Equal(t, work.Hands, spec.Content.Kind)
	o.until(second.Id, api.HoldStageRunning)
	e, err := o.EndHoldWithResponse(t.Context(), "newest")
	require.NoError(t, err)
	require.NotNil(t, e.JSON200, string(e.Body))
	o.until(second.Id, api.HoldStageDone)

	list, err := o.ListHoldsWithResponse(t.Context(), &api.ListHoldsParams{})
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 2)
	assert.Equal(t, []string{second.Id, first.Id}, []string{list.JSON200.Items[0].Id, list.JSON200.Items[1].Id})
	going, err := o.ListHoldsWithResponse(t.Context(), &api.ListHoldsParams{Going: ptr(true)})
	require.NoError(t, err)
	assert.Empty(t, going.JSON200.Items)
	sessions, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{})
	require.NoError(t, err)
	assert.Empty(t, sessions.JSON200.Items, "a hold is not among the sessions")
}

func TestAHoldEndsWhenItsTimeIsOverOrItsDeviceIsLost(t *testing.T) {
	o := openOutside(t, "orr-01")
	blocks := o.hold(api.HoldRequest{Device: ptr("orr-01")})
	o.until(blocks.Id, api.HoldStageRunning)
	short := o.hold(api.HoldRequest{Device: ptr("orr-01")})
	spec, err := o.Service.Store.Spec(t.Context(), short.Id)
	require.NoError(t, err)
	spec.Limits.Whole = 1 // less than anybody may ask for
	db, err := sqlx.Open("mysql", o.DSN)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("UPDATE work SET spec = NULL WHERE id = ?", short.Id)
	require.NoError(t, err)
	require.NoError(t, o.Service.Store.SetSpec(t.Context(), short.Id, spec))
	_, err = o.EndHoldWithResponse(t.Context(), blocks.Id)
	require.NoError(t, err)
	h := o.until(short.Id, api.HoldStageDone)
	assert.Equal(t, "limit", *h.How)
	assert.Equal(t, api.Passed, *h.Verdict)

	lost := o.hold(api.HoldRequest{Device: ptr("orr-01")})
	o.until(lost.Id, api.HoldStageRunning)
	o.phones["orr-01"].Unplug()
	h = o.until(lost.Id, api.HoldStageDone)
	assert.Equal(t, api.Lost, *h.Verdict)
	assert.Equal(t, "lost", *h.How)
	r, err := o.GetHeldTreeWithResponse(t.Context(), lost.Id, &api.GetHeldTreeParams{})
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnprocessableEntity, r.StatusCode())
	assert.Contains(t, string(r.Body), "the hold is over")
}

func TestWhatCantBeHeld(t *testing.T) {
	o := openOutside(t, "orr-01")
	for want, q := range map[string]api.HoldRequest{
		"there is no device":     {Device: ptr("nix")},
		"name one device":        {},
		"a device can't be held": {Device: ptr("orr-01"), Seconds: ptr(5)},
		"no device will do":      {Where: &[]string{"maker=Nobody"}},
		"there is no trait":      {Where: &[]string{"colour=red"}},
		"there is no build":      {Device: ptr("orr-01"), Build: ptr("kelpline/android@9999")},
		"the name is too long":   {Device: ptr("orr-01"), Name: ptr(strings.Repeat("ü", 150))},
	} {
		r, err := o.HoldDeviceWithResponse(t.Context(), &api.HoldDeviceParams{}, q)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, r.StatusCode(), 400)
		assert.Contains(t, string(r.Body), want)
	}
	key := "once"
	one, err := o.HoldDeviceWithResponse(t.Context(), &api.HoldDeviceParams{IdempotencyKey: &key}, api.HoldRequest{Device: ptr("orr-01")})
	require.NoError(t, err)
	require.NotNil(t, one.JSON201, string(one.Body))
	two, err := o.HoldDeviceWithResponse(t.Context(), &api.HoldDeviceParams{IdempotencyKey: &key}, api.HoldRequest{Device: ptr("orr-01")})
	require.NoError(t, err)
	require.NotNil(t, two.JSON200, string(two.Body))
	assert.Equal(t, one.JSON201.Id, two.JSON200.Id)
	who, err := o.Enter(t.Context(), o.Key)
	require.NoError(t, err)
	_, code := (&wd{t: t, url: o.URL + "/webdriver", auth: o.client().auth, id: url.PathEscape("hold " + who.WorkspaceID + " " + who.KeyID + " " + key)}).do("GET", "/source", nil)
	assert.Equal(t, "invalid session id", code, "by what a hold is known again nobody commands it")
	o.until(one.JSON201.Id, api.HoldStageRunning)
	bad, err := o.GetHeldTreeWithResponse(t.Context(), "orr-01", &api.GetHeldTreeParams{Find: ptr("#a >")})
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, bad.StatusCode())
	none, err := o.GetHoldWithResponse(t.Context(), "nix")
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, none.StatusCode())
	assert.Contains(t, string(none.Body), "tessellant hold list")
}

func TestALocatorIsCountedOnTheScreensOfOthers(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01", "orr-03", "orr-05")
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: looks\nkind: script\n")}, "a.star": {Data: []byte("def test_a(phone):\n    phone.launch()\n    phone.find('#search')\n    phone.find('#nothing', within = 0.2)\n")}}
	var zip bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &zip))
	_, _, err := o.Service.AddPackage(t.Context(), o.Who, service.Upload{Body: &zip, Size: -1})
	require.NoError(t, err)
	r, _, err := o.Service.StartRun(t.Context(), o.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "looks@newest", Devices: []string{"orr-01", "orr-03"}})
	require.NoError(t, err)
	housetest.Eventually(t, "the run is over", func() bool {
		v, err := o.Service.FindRun(t.Context(), o.Who, r.ID)
		require.NoError(t, err)
		return v.Ended.Valid
	})
	h := o.hold(api.HoldRequest{Device: ptr("orr-05"), Build: ptr("kelpline/android@newest")})
	o.until(h.Id, api.HoldStageRunning)
	x, err := o.GetElsewhereWithResponse(t.Context(), h.Id, &api.GetElsewhereParams{Css: []string{"#search", "#nothing", "//text"}})
	require.NoError(t, err)
	require.NotNil(t, x.JSON200, string(x.Body))
	assert.Equal(t, []int{2, 2}, []int{x.JSON200.Devices, x.JSON200.Trees})
	assert.Equal(t, api.Meant{Css: "#search", Says: ptr("1 on all 2"), Counts: []api.MeantOn{{Serial: "orr-01", Count: 1}, {Serial: "orr-03", Count: 1}}}, x.JSON200.Locators[0])
	assert.Equal(t, "0 on all 2", *x.JSON200.Locators[1].Says)
	assert.Greater(t, x.JSON200.Locators[2].Counts[0].Count, 3)
	for css, status := range map[string]int{"[[": http.StatusBadRequest, strings.Repeat("x", 5000): http.StatusBadRequest} {
		bad, err := o.GetElsewhereWithResponse(t.Context(), h.Id, &api.GetElsewhereParams{Css: []string{css}})
		require.NoError(t, err)
		assert.Equal(t, status, bad.StatusCode())
	}
	many := make([]string, 21)
	for i := range many {
		many[i] = "#a"
	}
	bad, err := o.GetElsewhereWithResponse(t.Context(), h.Id, &api.GetElsewhereParams{Css: many})
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, bad.StatusCode())
}
