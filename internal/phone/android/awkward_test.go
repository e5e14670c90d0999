package android_test

// What phones refuse, and what goes wrong over several calls.

import (
	"bytes"
	"context"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/housetest"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
	standin "tessellant/internal/standin/phone"
)

var ctx = context.Background()

// odd starts an instant phone with sides.
func odd(t *testing.T, api int, sides standin.Sides) (*adb.Process, *standin.Phone, *android.Device) {
	t.Helper()
	t.Parallel()
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.API, traits.Temper, traits.Sides = api, standin.Instant, sides
	p := housetest.Phone(t, server, traits)
	return server, p, open(t, server, p)
}

func refusal(t *testing.T, err error, code, remedy string) {
	t.Helper()
	var r *phone.Refused
	require.ErrorAs(t, err, &r)
	assert.Equal(t, code, r.Code)
	assert.Contains(t, r.Remedy, remedy)
}

func TestAPhoneWithAPINIsRefusedAndSaysWhatToDo(t *testing.T) {
	_, p, d := odd(t, 31, standin.Sides{Lock: "pin"})
	why, err := d.Fit(ctx)
	require.NoError(t, err)
	require.NotNil(t, why)
	refusal(t, why, "locked", "None or Swipe")
	refusal(t, d.Wake(ctx), "locked", "None or Swipe")
	require.NoError(t, d.Install(ctx, housetest.KelplineApp(t)))
	refusal(t, d.Launch(ctx, housetest.KelplineApp(t)), "locked", "unlock it")
	_, err = d.Tree(ctx)
	require.NoError(t, err, "its files are not there before the first unlock, and the tree can be read all the same")

	p.Unlock()
	why, err = d.Fit(ctx)
	require.NoError(t, err)
	assert.Nil(t, why)
	require.NoError(t, d.Wake(ctx))
	require.NoError(t, d.Launch(ctx, housetest.KelplineApp(t)))
	p.Sleep() // a person presses the power key: the lock is there again
	refusal(t, d.Wake(ctx), "locked", "None or Swipe")
}

func TestBeforeAndroid6ALockThatStaysHasASecret(t *testing.T) {
	_, p, d := odd(t, 22, standin.Sides{Lock: "pin"})
	refusal(t, d.Wake(ctx), "locked", "None or Swipe")
	p.Unlock()
	require.NoError(t, d.Wake(ctx))
}

func TestAPhoneThatTakesNoInputSaysWhichSwitchItIs(t *testing.T) {
	_, _, d := odd(t, 29, standin.Sides{Gates: []standin.Gate{standin.NoInject}})
	why, err := d.Fit(ctx)
	require.NoError(t, err)
	require.NotNil(t, why)
	refusal(t, why, "forbidden", "USB debugging (Security settings)")
	refusal(t, d.Tap(ctx, 1, 1), "forbidden", "USB debugging (Security settings)")
	refusal(t, d.Type(ctx, "a"), "forbidden", "USB debugging (Security settings)")
	refusal(t, d.Wake(ctx), "forbidden", "USB debugging (Security settings)")
	require.Len(t, d.Limits(), 1)
}

func TestGatesThatAreMetAreSaidWithWhatIsDoneInstead(t *testing.T) {
	_, _, d := odd(t, 30, standin.Sides{Gates: []standin.Gate{standin.NoGrant, standin.NoClear}})
	assert.Empty(t, d.Limits())
	app := housetest.KelplineApp(t)
	refusal(t, d.Clear(ctx, app.ID), "", "")
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Clear(ctx, app.ID))
	require.Len(t, d.Limits(), 2)
	assert.Contains(t, d.Limits()[0]+d.Limits()[1], "the app is reinstalled")
	assert.Contains(t, d.Limits()[0]+d.Limits()[1], "answered with Allow")

	// An app that asks gets the answer that the grant would have been.
	app.Args = map[string]string{"debug_ask": "CAMERA"}
	require.NoError(t, d.Launch(ctx, app))
	housetest.Eventually(t, "the permission is there", func() bool {
		s, err := d.Tree(ctx)
		require.NoError(t, err)
		for _, e := range s.All() {
			require.NotContains(t, e.ID, "permission_", "nobody sees the dialog")
		}
		permits, err := d.Permitted(ctx, app.ID)
		require.NoError(t, err)
		return permits["android.permission.CAMERA"]
	})
}

func TestAPhoneWhoseSettingsCanNotBeChangedIsTestedAllTheSame(t *testing.T) {
	_, p, d := odd(t, 30, standin.Sides{Gates: []standin.Gate{standin.NoChange}})
	require.NoError(t, d.Settle(ctx))
	require.Len(t, d.Limits(), 1)
	assert.Contains(t, d.Limits()[0], "may go off")
	refusal(t, d.Rotate(ctx, true), "", "developer options")
	require.NoError(t, d.Unsettle(ctx))
	assert.Empty(t, p.Files(), "no note is left of what was not changed")
}

func TestTheDialogThatAsksHasItsIDsOnEveryLevel(t *testing.T) {
	server := housetest.ADB(t)
	for api, want := range map[int]string{23: "com.android.packageinstaller", 28: "com.android.packageinstaller", 29: "com.android.permissioncontroller", 34: "com.android.permissioncontroller"} {
		traits := housetest.Fleet(t)["orr-05"] // in German
		traits.Serial, traits.API, traits.Temper = traits.Serial+want+string(rune('0'+api%10)), api, standin.Instant
		d := open(t, server, housetest.Phone(t, server, traits))
		app := housetest.KelplineApp(t)
		require.NoError(t, d.Install(ctx, app))
		require.NoError(t, d.AsNew(ctx, app.ID))
		app.Args = map[string]string{"debug_ask": "ACCESS_FINE_LOCATION"}
		require.NoError(t, d.Launch(ctx, app))
		housetest.Eventually(t, "the dialog is up", func() bool {
			s, err := d.Tree(ctx)
			require.NoError(t, err)
			found, err := s.Find("[id=permission_message]")
			require.NoError(t, err)
			return len(found) == 1 && found[0].App == want
		})
		front, err := d.InFront(ctx)
		require.NoError(t, err)
		assert.Contains(t, front, "GrantPermissionsActivity")
	}
}

func TestAScreenThatMayNotBePicturedIsRefusedAndNotLost(t *testing.T) {
	_, _, d := odd(t, 28, standin.Sides{Secure: true})
	_, err := d.Screenshot(ctx)
	require.NoError(t, err, "the home screen may")
	require.NoError(t, d.Install(ctx, housetest.KelplineApp(t)))
	require.NoError(t, d.Launch(ctx, housetest.KelplineApp(t)))
	_, err = d.Screenshot(ctx)
	refusal(t, err, "secure", "flag")
	_, err = d.Pixels(ctx)
	refusal(t, err, "secure", "flag")
	_, err = d.Tree(ctx)
	require.NoError(t, err)
}

func TestAPhoneThatStillStartsIsNotOpened(t *testing.T) {
	t.Parallel()
	server := housetest.ADB(t)
	for _, api := range []int{22, 33} {
		traits := housetest.Fleet(t)["orr-01"]
		traits.Serial, traits.API, traits.Temper, traits.Boots = traits.Serial+string(rune('a'+api%26)), api, standin.Instant, 3*time.Second
		p := housetest.Phone(t, server, traits)
		_, err := android.Open(ctx, &server.Server, p.Address())
		var starting *android.Starting
		require.ErrorAs(t, err, &starting)
		assert.Equal(t, traits.Serial, starting.Serial)
		housetest.Eventually(t, "it is up", func() bool {
			_, err := android.Open(ctx, &server.Server, p.Address())
			return err == nil
		})
	}
}

func TestEveryFailureOfAnInstallSaysWhatToDo(t *testing.T) {
	server := housetest.ADB(t)
	for code, remedy := range map[string]string{"ABORTED": "tap Allow", "CONFLICTING_PROVIDER": "content provider", "DUPLICATE_PERMISSION": "defines that permission", "NO_CERTIFICATES": "v1",
		"USER_RESTRICTED": "installing over USB", "UPDATE_INCOMPATIBLE": "uninstall it there", "INTERNAL_ERROR": "log", "DEXOPT": "log", "DEPRECATED_SDK_VERSION": "targetSdkVersion"} {
		t.Run(code, func(t *testing.T) {
			t.Parallel()
			traits := housetest.Fleet(t)["orr-01"]
			traits.Serial, traits.Temper, traits.Installs, traits.API = code, standin.Instant, code, 33
			d := open(t, server, housetest.Phone(t, server, traits))
			var r *phone.Refused
			require.ErrorAs(t, d.Install(ctx, housetest.KelplineApp(t)), &r)
			assert.Contains(t, r.Code, code)
			assert.Contains(t, r.Remedy, remedy)
			assert.NotEmpty(t, r.Why)
		})
	}
}

func TestTheVerifierIsSwitchedOnAgainAfterAnInstall(t *testing.T) {
	_, _, d := odd(t, 30, standin.Sides{Installs: "VERIFICATION_FAILURE"})
	require.NoError(t, d.Install(ctx, housetest.KelplineApp(t)))
	out, err := d.Ask(ctx, "settings get global verifier_verify_adb_installs")
	require.NoError(t, err)
	assert.Equal(t, "null", out)
}

func TestAScreenThatNeverRestsSaysSoWithTheNewestTree(t *testing.T) {
	_, p, d := odd(t, 30, standin.Sides{})
	_, err := d.Tree(ctx)
	require.NoError(t, err)
	p.Restless(true)
	_, err = d.Tree(ctx)
	var restless *phone.Restless
	require.ErrorAs(t, err, &restless)
	assert.NotNil(t, restless.Last)
	assert.Greater(t, restless.For, 9*time.Second)
	assert.Less(t, restless.For, 13*time.Second)
	assert.Contains(t, err.Error(), "the screen has not come to rest for 1")
	p.Restless(false)
	_, err = d.Tree(ctx)
	require.NoError(t, err)
}

func TestADumpThatNobodyWaitsForIsNotCutAndTheNextComesAfterIt(t *testing.T) {
	_, _, d := odd(t, 30, standin.Sides{Quiet: time.Second})
	require.NoError(t, d.Press(ctx, phone.Home))
	for range 3 {
		short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
		_, err := d.Tree(short)
		cancel()
		if err != nil {
			require.ErrorIs(t, err, context.DeadlineExceeded)
		}
	}
	_, err := d.Tree(ctx)
	require.NoError(t, err, "none dies of another one")
}

func TestWhatWasChangedIsPutBackAlsoByTheNextProcess(t *testing.T) {
	server, p, d := odd(t, 33, standin.Sides{Composing: true, Sleeps: 20 * time.Second})
	settings := func(d *android.Device) (out []string) {
		for _, s := range []string{"system accelerometer_rotation", "system user_rotation", "system screen_off_timeout", "global stay_on_while_plugged_in", "secure default_input_method"} {
			v, err := d.Ask(ctx, "settings get "+s)
			require.NoError(t, err)
			out = append(out, v)
		}
		return out
	}
	_, err := d.Ask(ctx, "settings put system user_rotation 1; settings put system accelerometer_rotation 0")
	require.NoError(t, err)
	before := settings(d)
	require.NoError(t, d.Settle(ctx))
	held := settings(d)
	assert.Equal(t, []string{"0", "0", "1800000", "7", "com.android.inputmethod.latin/.LatinIME"}, held)
	require.NoError(t, d.Rotate(ctx, true))
	require.NoError(t, d.Dark(ctx, true))
	require.NoError(t, d.Restore(ctx))
	assert.Equal(t, held, settings(d), "what a case changed is put back, what the attempt holds stays")
	require.NoError(t, d.Unsettle(ctx))
	assert.Equal(t, before, settings(d))
	require.NoError(t, d.Unsettle(ctx), "nothing is left to be put back")

	// A process that is killed puts nothing back: the next one does.
	require.NoError(t, d.Settle(ctx))
	require.NoError(t, d.Dark(ctx, true))
	next := open(t, server, p)
	require.NoError(t, next.Settle(ctx))
	require.NoError(t, next.Unsettle(ctx))
	assert.Equal(t, before, settings(next))
	night, err := next.Ask(ctx, "cmd uimode night")
	require.NoError(t, err)
	assert.Equal(t, "Night mode: no", night)

	// Or it puts them back without any work of its own.
	require.NoError(t, next.Settle(ctx))
	require.NoError(t, open(t, server, p).Unsettle(ctx))
	assert.Equal(t, before, settings(next))

	// What lies there and is not ours is not run.
	_, err = next.Ask(ctx, "echo 'rm -f /data/local/tmp/mine' > /data/local/tmp/tessellant-back; echo x > /data/local/tmp/mine")
	require.NoError(t, err)
	require.NoError(t, next.Settle(ctx))
	mine, err := next.Ask(ctx, "cat /data/local/tmp/mine")
	require.NoError(t, err)
	assert.Equal(t, "x", mine)
}

func TestAFoldableIsPicturedOnTheDisplayThatIsOn(t *testing.T) {
	_, p, d := odd(t, 33, standin.Sides{Outer: true})
	size := func() (w, h int) {
		raw, err := d.Screenshot(ctx)
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(raw))
		require.NoError(t, err)
		f, err := d.Facts(ctx)
		require.NoError(t, err)
		assert.Equal(t, []int{f.Width, f.Height}, []int{img.Bounds().Dx(), img.Bounds().Dy()})
		return f.Width, f.Height
	}
	w, h := size()
	assert.Equal(t, []int{720, 1600}, []int{w, h})
	p.Fold(true)
	w, h = size()
	assert.Equal(t, []int{400, 800}, []int{w, h})
}

func TestPhonesOfOneSerialAreToldApart(t *testing.T) {
	server, p, one := odd(t, 30, standin.Sides{SaysSerial: "0123456789ABCDEF"})
	traits := housetest.Fleet(t)["orr-02"]
	traits.Temper, traits.SaysSerial = standin.Instant, "0123456789ABCDEF"
	q := housetest.Phone(t, server, traits)
	two := open(t, server, q)
	assert.NotEqual(t, one.Serial(), two.Serial())
	assert.NotEqual(t, one.Boot(), two.Boot())
	assert.Equal(t, one.Boot(), open(t, server, p).Boot(), "two ways to one device")
}

func TestAnotherUsersAppIsClearedAndGranted(t *testing.T) {
	_, _, d := odd(t, 32, standin.Sides{User: 11})
	app := housetest.KelplineApp(t)
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Launch(ctx, app))
	running, err := d.Ask(ctx, "pidof "+app.ID)
	require.NoError(t, err)
	require.NotEmpty(t, running)
	require.NoError(t, d.Clear(ctx, app.ID))
	running, err = d.Ask(ctx, "pidof "+app.ID)
	require.NoError(t, err)
	assert.Empty(t, running)
}
