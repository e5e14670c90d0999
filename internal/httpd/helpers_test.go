package httpd_test

// Helpers: a keyboard that is installed where the work allows it, types any text, and is gone afterwards.

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/verdict"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

const anyText = "Küste 潮"

func TestAKeyboardTypesAnyTextWhereTheWorkAllowsIt(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	keyboard := &[]string{"keyboard"}

	// A person, in their hold. Without it, all is as it was, and the message says how.
	h := o.hold(api.HoldRequest{Device: ptr("orr-01"), Build: ptr("kelpline/android@newest")})
	o.until(h.Id, api.HoldStageRunning)
	_, said := o.does(h.Id, api.Deed{Do: api.DeedType, Locator: ptr("#search"), Text: ptr(anyText)})
	assert.Contains(t, said, "--helper keyboard")
	_, err := o.EndHoldWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	o.until(h.Id, api.HoldStageDone)
	h = o.hold(api.HoldRequest{Device: ptr("orr-01"), Build: ptr("kelpline/android@newest"), Helpers: keyboard})
	o.until(h.Id, api.HoldStageRunning)
	status, said := o.does(h.Id, api.Deed{Do: api.DeedType, Locator: ptr("#search"), Text: ptr(anyText)})
	require.Equal(t, 204, status, said)
	o.on(h.Id, `#search[value="`+anyText+`"]`)
	_, err = o.EndHoldWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	o.until(h.Id, api.HoldStageDone)

	// A script; the device was given back without the keyboard.
	body := bytes.NewReader(good(t, "typing", "phone.launch()\n    phone.type('#search', '"+anyText+"')\n    check.equal(phone.read('#search'), '"+anyText+"')"))
	_, _, err = o.Service.AddPackage(t.Context(), o.Who, service.Upload{Body: body, Size: -1})
	require.NoError(t, err)
	for _, c := range []struct {
		helpers *[]string
		want    verdict.Verdict
	}{{nil, verdict.Failed}, {keyboard, verdict.Passed}} {
		r, err := o.StartRunWithResponse(t.Context(), &api.StartRunParams{}, api.RunRequest{Build: "kelpline/android@newest", Package: "typing@newest", Devices: &[]string{"orr-01"}, Helpers: c.helpers})
		require.NoError(t, err)
		require.NotNil(t, r.JSON201, string(r.Body))
		housetest.Eventually(t, "the run is over", func() bool {
			v, err := o.GetRunWithResponse(t.Context(), r.JSON201.Id)
			require.NoError(t, err)
			if !v.JSON200.Done {
				return false
			}
			assert.Equal(t, string(c.want), string(*v.JSON200.Verdict))
			assert.Equal(t, c.helpers, v.JSON200.Helpers)
			return true
		})
	}

	// A client of WebDriver.
	c := o.client()
	code, message := c.open(m{"tessellant:build": "kelpline/android@newest", "tessellant:helpers": []string{"keyboard"}})
	require.Empty(t, code, message)
	field := c.find("#search")
	c.must("POST", "/element/"+field+"/value", m{"text": anyText})
	assert.Equal(t, anyText, c.must("GET", "/element/"+field+"/property/value", nil))
	apps, err := o.GetHeldAppsWithResponse(t.Context(), c.caps["tessellant:session"].(string))
	require.NoError(t, err)
	assert.Contains(t, string(apps.Body), "the test is running")
	c.must("DELETE", "", nil)
	o.over(c)

	// Nothing of it is left.
	h = o.hold(api.HoldRequest{Device: ptr("orr-01")})
	o.until(h.Id, api.HoldStageRunning)
	left, err := o.GetHeldAppsWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	assert.Empty(t, left.JSON200.Apps)
	_, said = o.does(h.Id, api.Deed{Do: api.DeedType, Text: ptr(anyText)})
	assert.Contains(t, said, "--helper keyboard")

	_, message = o.client().open(m{"tessellant:helpers": []string{"moon"}})
	assert.Contains(t, message, `there is no helper "moon"; there is keyboard`)
	bad, err := o.HoldDeviceWithResponse(t.Context(), &api.HoldDeviceParams{}, api.HoldRequest{Device: ptr("orr-01"), Helpers: &[]string{"keyboard", "keyboard"}})
	require.NoError(t, err)
	assert.Contains(t, string(bad.Body), "is there twice")
}
