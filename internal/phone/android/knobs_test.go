package android_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/housetest"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
	standin "tessellant/internal/standin/phone"
)

// settable is a phone, and a driver for it with Kelpline installed.
func settable(t *testing.T, change func(*standin.Traits)) (*standin.Phone, *android.Device, func() *android.Device) {
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper = standin.Instant
	change(&traits)
	p := housetest.Phone(t, server, traits)
	d := open(t, server, p)
	app := housetest.KelplineApp(t)
	require.NoError(t, d.Install(context.Background(), app))
	_, err := d.Facts(context.Background())
	require.NoError(t, err)
	return p, d, func() *android.Device { return open(t, server, p) }
}

const kelpline = "org.kelpline.app"

func TestASettingThatIsTakenAndNotKeptIsSaid(t *testing.T) {
	for name, set := range map[string]conditions.Set{"font_scale": {conditions.FontScale: "1.3"}, "night": {conditions.Dark: "on"}, "locales": {conditions.Language: "de"}, "density": {conditions.DisplaySize: "1.2"},
		"timezone": {conditions.TimeZone: "Europe/Lisbon"}, "location": {conditions.Location: "1,2"}, "bluetooth_on": {conditions.Bluetooth: "off"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, d, _ := settable(t, func(tr *standin.Traits) { tr.Serial, tr.Lies = "lies-"+name, []string{name} })
			set[conditions.Animations] = "off"
			err := d.Condition(context.Background(), kelpline, set, true)
			var refused *phone.Refused
			require.ErrorAs(t, err, &refused)
			assert.Regexp(t, `the device would not be set to \S+: afterwards it says ".+"; set the device by hand`, err.Error())
			require.NoError(t, d.Unsettle(context.Background()), "what was set beside it is put back")
		})
	}
	_, d, _ := settable(t, func(tr *standin.Traits) {})
	err := d.Condition(context.Background(), kelpline, conditions.Set{conditions.TimeZone: "Nowhere/At-All"}, true)
	assert.ErrorContains(t, err, `would not be set to time-zone:Nowhere/At-All: afterwards it says "Europe/London`)
	require.NoError(t, d.Unsettle(context.Background()))
}

// A phone whose owner has set everything otherwise: it must be as it was, whoever puts it back.
func TestAPhoneIsPutBackAsItsOwnerHadIt(t *testing.T) {
	ctx := context.Background()
	p, d, another := settable(t, func(tr *standin.Traits) { tr.Language, tr.Dark = "fr", true })
	owner := conditions.Set{conditions.Language: "fr-CA", conditions.FontScale: "1.15", conditions.DisplaySize: "0.9", conditions.TimeZone: "Europe/Paris", conditions.Animations: "off", conditions.WiFi: "off",
		conditions.GPS: "off", conditions.Bluetooth: "off", conditions.BatterySaver: "off"}
	require.NoError(t, d.Condition(ctx, kelpline, owner, false)) // by hand, so to say: nobody will undo it
	p.Forget("/data/local/tmp/tessellant-back")
	before := p.Stands()
	wanted := conditions.Set{conditions.Language: "de", conditions.FontScale: "2", conditions.DisplaySize: "1.3", conditions.TimeZone: "Asia/Tokyo", conditions.Animations: "on", conditions.WiFi: "on", conditions.GPS: "on",
		conditions.Bluetooth: "on", conditions.MobileData: "off", conditions.AirplaneMode: "on", conditions.BatterySaver: "on", conditions.Dark: "off", conditions.Location: "1.5,-2"}
	for name, putBack := range map[string]func(d *android.Device) error{
		"by the driver that set it":              func(d *android.Device) error { return d.Unsettle(ctx) },
		"by the next process, which looks after": func(*android.Device) error { return another().UndoLeft(ctx) },
		"by the next process, which begins":      func(*android.Device) error { e := another(); require.NoError(t, e.Settle(ctx)); return e.Unsettle(ctx) },
	} {
		d := another()
		require.NoError(t, d.Settle(ctx))
		start := time.Now()
		require.NoError(t, d.Condition(ctx, kelpline, wanted, true), name)
		assert.NotEqual(t, before, p.Stands())
		require.NoError(t, d.Condition(ctx, kelpline, conditions.Set{conditions.FontScale: "1", conditions.Orientation: "landscape"}, false), "a case changes more")
		require.NoError(t, d.Restore(ctx))
		assert.Equal(t, "2", p.Settings()["system/font_scale"], "as the attempt wanted it")
		require.NoError(t, putBack(d), name)
		assert.Equal(t, before, p.Stands(), name)
		assert.Less(t, time.Since(start), 30*time.Second)
	}
}

func TestWhatIsNotPutBackIsSaid(t *testing.T) {
	ctx := context.Background()
	p, d, _ := settable(t, func(*standin.Traits) {})
	require.NoError(t, d.Condition(ctx, "", conditions.Set{conditions.FontScale: "1.3"}, true))
	p.Lie("font_scale")
	assert.ErrorContains(t, d.Unsettle(ctx), `settings get system font_scale says "1.3" afterwards`)
}
