package adb_test

import (
	"context"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/housetest"
	"tessellant/internal/phone"
	"tessellant/internal/phone/adb"
	"tessellant/internal/phone/phonetest"
	standin "tessellant/internal/standin/phone"
)

func open(t *testing.T, s *adb.Process, p *standin.Phone) *adb.Device {
	t.Helper()
	d, err := adb.Open(context.Background(), &s.Server, p.Address())
	require.NoError(t, err)
	return d
}

func TestTheDriverPassesTheSuite(t *testing.T) {
	server := housetest.ADB(t)
	fleet := housetest.Fleet(t)
	old := fleet["fen-01"] // before Android 7: no exit codes, no streamed installs, logs without a year
	old.Serial, old.Android, old.API = "old-01", "6.0", 23
	for name, c := range map[string]struct {
		traits standin.Traits
		temper standin.Temper
	}{
		"instant":          {fleet["orr-01"], standin.Instant},
		"real":             {fleet["orr-05"], standin.Real},
		"stubborn":         {fleet["emu-03"], standin.Stubborn},
		"before Android 7": {old, standin.Instant},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c.traits.Temper = c.temper
			p := housetest.Phone(t, server, c.traits)
			phonetest.Run(t, phonetest.Subject{Phone: open(t, server, p), App: housetest.KelplineApp(t), Language: c.traits.Language})
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
	_, err = adb.Open(context.Background(), &server.Server, "nobody")
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
