package checkup_test

import (
	"bytes"
	"context"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/checkup"
	"tessellant/internal/core/appfile"
	"tessellant/internal/housetest"
	"tessellant/internal/phone/android"
	standin "tessellant/internal/standin/phone"
)

func device(t *testing.T, change func(*standin.Traits)) (*adb.Process, *standin.Phone, *android.Device) {
	t.Helper()
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper = standin.Instant
	change(&traits)
	p := housetest.Phone(t, server, traits)
	d, err := android.Open(t.Context(), &server.Server, p.Address())
	require.NoError(t, err)
	return server, p, d
}

func TestAGoodPhonePassesAndIsLeftAsItWas(t *testing.T) {
	for temper, limit := range map[standin.Temper]time.Duration{standin.Instant: time.Minute, standin.Real: time.Minute, standin.Uneasy: 2 * time.Minute} {
		t.Run(string(temper), func(t *testing.T) {
			t.Parallel()
			_, p, d := device(t, func(tr *standin.Traits) { tr.Temper = temper })
			before := p.Settings()
			ctx, cancel := context.WithTimeout(t.Context(), limit)
			defer cancel()
			grew := 0
			r := checkup.Run(ctx, d, func(checkup.Report) { grew++ })
			for _, s := range r.Steps {
				assert.Equal(t, checkup.Passed, s.State, "%s: %s; %s", s.Name, s.Found, s.Remedy)
			}
			assert.True(t, r.Fit)
			assert.True(t, r.Done)
			assert.Len(t, r.Steps, r.Of)
			assert.Greater(t, grew, len(r.Steps))
			assert.Equal(t, "Skerry 5", r.Model)
			if temper == standin.Uneasy {
				assert.Len(t, r.Limits, 2)
				assert.Contains(t, r.Sentence, "in another way")
			} else {
				assert.Equal(t, "This device can be tested.", r.Sentence)
			}
			assert.Equal(t, before, p.Settings(), "its settings are as they were")
			assert.Empty(t, p.Apps(), "and no app of ours is on it")
			assert.Empty(t, p.Files(), "nor a file")
			t.Logf("took %d ms", r.TookMS)
		})
	}
}

func TestWhatKeepsAPhoneFromBeingTestedIsSaidWithItsRemedy(t *testing.T) {
	for name, c := range map[string]struct {
		sides standin.Sides
		want  []string
	}{
		"a PIN":              {standin.Sides{Lock: "pin"}, []string{"it wakes, unlocked", "locked by a PIN", "None or Swipe"}},
		"no touches":         {standin.Sides{Gates: []standin.Gate{standin.NoInject}}, []string{"USB debugging (Security settings)"}},
		"no installs":        {standin.Sides{Installs: "USER_RESTRICTED"}, []string{"an app is installed", "installing over USB"}},
		"it is never quiet":  {standin.Sides{Restless: true}, []string{"not come to rest for 1", "live wallpaper"}},
		"a display too many": {standin.Sides{Outer: true}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, p, d := device(t, func(tr *standin.Traits) { tr.Sides = c.sides })
			before := p.Settings()
			r := checkup.Run(t.Context(), d, func(checkup.Report) {})
			assert.True(t, r.Done)
			assert.Equal(t, len(c.want) == 0, r.Fit, r.Sentence)
			for _, w := range c.want {
				assert.Contains(t, r.Sentence, w)
			}
			assert.NotContains(t, r.Sentence, "orr-01", "a report does not name the unit")
			assert.Equal(t, before, p.Settings())
			assert.Empty(t, p.Apps())
		})
	}
}

func TestAPhoneThatGoesAwayMeanwhileIsSaidToHaveGone(t *testing.T) {
	_, p, d := device(t, func(tr *standin.Traits) { tr.Temper = standin.Real })
	r := checkup.Run(t.Context(), d, func(r checkup.Report) {
		if len(r.Steps) == 8 {
			p.Unplug()
		}
	})
	assert.False(t, r.Fit)
	assert.Contains(t, r.Sentence, "it went away")
	assert.Contains(t, r.Sentence, "cable")
}

func TestTheAppIsWhatACheckNeeds(t *testing.T) {
	app, err := checkup.App()
	require.NoError(t, err)
	r, err := app.Open()
	require.NoError(t, err)
	raw, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Len(t, raw, int(app.Size))
	f, err := appfile.Read(bytes.NewReader(raw), app.Size)
	require.NoError(t, err)
	assert.Equal(t, []any{app.ID, app.Activity, 21, []string{"android.permission.CAMERA"}}, []any{f.AppID, f.Activity, f.MinAPI, f.Permissions}, "the oldest system that is driven, and one permission to ask for")
}
