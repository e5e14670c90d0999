package android_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/housetest"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
	"tessellant/internal/phone/phonetest"
	standin "tessellant/internal/standin/phone"
)

func open(t *testing.T, s *adb.Process, p *standin.Phone) *android.Device {
	t.Helper()
	var d *android.Device
	housetest.Eventually(t, "the device is open", func() bool {
		var err error
		d, err = android.Open(context.Background(), &s.Server, p.Address())
		var lost *phone.Lost
		if errors.As(err, &lost) { // the adb server may die while it is new, and is started again then, without its connections
			t.Logf("open the device: %v", err)
			_ = s.Connect(context.Background(), p.Address())
			return false
		}
		require.NoError(t, err)
		return true
	})
	return d
}

// suite runs what every driver must do on a phone of these traits.
func suite(t *testing.T, server *adb.Process, traits standin.Traits) {
	t.Helper()
	t.Parallel()
	sides := traits.Sides
	if traits.Temper == standin.Uneasy {
		sides = standin.Awkward(traits.API)
	}
	for range 3 { // the adb server itself dies now and then, with many phones that come and go
		died := server.Died()
		broke := func() bool { return server.Died() != died }
		p := housetest.Phone(t, server, traits)
		if phonetest.Run(t, phonetest.Subject{Phone: open(t, server, p), App: housetest.KelplineApp(t), Language: traits.Language,
			Gated: slices.Contains(sides.Gates, standin.NoGrant), NoKeys: sides.HardKeys, Deaf: sides.TouchClosed && traits.API < 31, NoFilm: sides.NoFilm || traits.API < 24, Broke: broke}) {
			return
		}
		p.Close()
	}
	t.Error("the adb server died under it, three times")
}

func TestTheDriverPassesTheSuite(t *testing.T) {
	server := housetest.ADB(t)
	fleet := housetest.Fleet(t)
	for serial, temper := range map[string]standin.Temper{"orr-05": standin.Real, "emu-03": standin.Stubborn, "fen-01": standin.Uneasy} {
		t.Run(string(temper), func(t *testing.T) {
			traits := fleet[serial]
			traits.Temper = temper
			suite(t, server, traits)
		})
	}
}

func TestTheDriverPassesTheSuiteOnEveryLevel(t *testing.T) {
	server := housetest.ADB(t)
	for api := 21; api <= 36; api++ {
		for name, sides := range map[string]standin.Sides{"kind": {Zone: -7 * time.Hour}, "awkward": standin.Awkward(api)} {
			t.Run(fmt.Sprint(api, " ", name), func(t *testing.T) {
				traits := housetest.Fleet(t)["orr-01"]
				traits.Serial, traits.API, traits.Temper, traits.Sides = fmt.Sprint("level-", api, "-", name), api, standin.Instant, sides
				suite(t, server, traits)
			})
		}
	}
}

func TestTheDriverPassesTheSuiteWithEachAwkwardSide(t *testing.T) {
	server := housetest.ADB(t)
	for name, side := range map[string]struct {
		api int
		standin.Sides
	}{
		"no-grant": {30, standin.Sides{Gates: []standin.Gate{standin.NoGrant}}}, "no-clear": {34, standin.Sides{Gates: []standin.Gate{standin.NoClear}}},
		"sleeps": {28, standin.Sides{Sleeps: 300 * time.Millisecond}}, "sleeps on its battery": {34, standin.Sides{Sleeps: 300 * time.Millisecond, Battery: true, Lock: "swipe"}},
		"lock": {22, standin.Sides{Lock: "swipe"}}, "quiet": {33, standin.Sides{Quiet: 300 * time.Millisecond}},
		"threadtime": {25, standin.Sides{Logcat: "threadtime", Zone: 5*time.Hour + 30*time.Minute}}, "no-info": {31, standin.Sides{Logcat: "no-info"}},
		"local times": {23, standin.Sides{Zone: 2 * time.Hour}}, "hardware keyboard": {29, standin.Sides{HardKeys: true}}, "composing": {34, standin.Sides{Composing: true}},
		"says a shared serial": {30, standin.Sides{SaysSerial: "0123456789ABCDEF"}}, "foldable": {33, standin.Sides{Outer: true}}, "slow start": {29, standin.Sides{SlowStart: 1500 * time.Millisecond}},
		"slow storage": {26, standin.Sides{SlowStorage: time.Second}}, "another user": {32, standin.Sides{User: 10}}, "two launchers": {35, standin.Sides{TwoLaunchers: true}},
		"no touch screen": {32, standin.Sides{TouchClosed: true}}, "no touch screen, of old": {30, standin.Sides{TouchClosed: true}}, "trailing": {34, standin.Sides{Trailing: true}}, "no film": {33, standin.Sides{NoFilm: true}},
		"verifier": {30, standin.Sides{Installs: "VERIFICATION_TIMEOUT"}}, "deprecated": {34, standin.Sides{Installs: "DEPRECATED_SDK_VERSION"}},
	} {
		t.Run(name, func(t *testing.T) {
			traits := housetest.Fleet(t)["orr-01"]
			traits.Serial, traits.API, traits.Temper, traits.Sides = "side-"+strings.ReplaceAll(name, " ", "-"), side.api, standin.Instant, side.Sides
			suite(t, server, traits)
		})
	}
}

func TestAPhoneThatIsUnpluggedIsLostAndComesBack(t *testing.T) {
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper = standin.Instant
	p := housetest.Phone(t, server, traits)
	d := open(t, server, p)
	ctx := context.Background()
	gone, err := d.Gone(ctx)
	require.NoError(t, err)
	now, err := d.Now(ctx)
	require.NoError(t, err)
	assert.InDelta(t, float64(traits.Skew), float64(time.Until(now)), float64(time.Second), "the clock is the phone's own")
	log, err := d.Log(ctx, now)
	require.NoError(t, err)
	defer log.Close()

	p.Unplug()
	select {
	case <-gone:
	case <-time.After(10 * time.Second):
		t.Fatal("nobody was told that the phone is gone")
	}
	var lost *phone.Lost
	_, err = io.Copy(io.Discard, log)
	require.ErrorAs(t, err, &lost, "the log does not just end")

	require.NoError(t, server.Disconnect(ctx, p.Address()))
	_, err = d.Tree(ctx)
	require.ErrorAs(t, err, &lost)
	assert.Equal(t, "orr-01", lost.Serial)

	housetest.Eventually(t, "the phone is back", func() bool {
		_ = server.Connect(ctx, p.Address())
		_, err := d.Tree(ctx)
		return err == nil
	})
}

func TestACommandCutOffInItsMiddleIsALostPhone(t *testing.T) {
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	p := housetest.Phone(t, server, traits) // of real temper: a dump takes a second
	d := open(t, server, p)
	time.AfterFunc(300*time.Millisecond, p.Unplug)
	var lost *phone.Lost
	_, err := d.Tree(context.Background())
	require.ErrorAs(t, err, &lost)
	assert.Contains(t, err.Error(), "read the screen's tree")
}

func TestAFrozenPhoneDoesNotHangItsCaller(t *testing.T) {
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper = standin.Instant
	p := housetest.Phone(t, server, traits)
	d := open(t, server, p)
	p.Freeze()
	defer p.Thaw()
	ctx, cancel := context.WithTimeout(context.Background(), 500*time.Millisecond)
	defer cancel()
	_, err := d.Tree(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
}

func TestConnectSaysWhyItCannot(t *testing.T) {
	server := housetest.ADB(t)
	err := server.Connect(context.Background(), "127.0.0.1:1")
	require.ErrorContains(t, err, "can't connect to 127.0.0.1:1")
	_, err = android.Open(context.Background(), &server.Server, "nobody")
	var lost *phone.Lost
	require.ErrorAs(t, err, &lost)
}

func TestInstallSaysWhatToDo(t *testing.T) {
	server := housetest.ADB(t)
	for name, c := range map[string]struct {
		change func(*standin.Traits)
		code   string
		remedy string
	}{
		"an Android too old": {func(tr *standin.Traits) { tr.API, tr.Android = 18, "4.3" }, "INSTALL_FAILED_OLDER_SDK", "newer Android"},
	} {
		t.Run(name, func(t *testing.T) {
			traits := housetest.Fleet(t)["orr-01"]
			traits.Temper = standin.Instant
			c.change(&traits)
			d := open(t, server, housetest.Phone(t, server, traits))
			var refused *phone.Refused
			require.ErrorAs(t, d.Install(context.Background(), housetest.KelplineApp(t)), &refused)
			assert.Equal(t, c.code, refused.Code)
			assert.Contains(t, refused.Remedy, c.remedy)
		})
	}
}

func TestRemediesForEveryState(t *testing.T) {
	assert.Empty(t, adb.Remedy("device"))
	for _, s := range []string{"offline", "unauthorized", "authorizing", "connecting", "no permissions (user in plugdev group?)", "recovery", "bootloader", "whatever"} {
		assert.NotEmpty(t, adb.Remedy(s), s)
	}
}
