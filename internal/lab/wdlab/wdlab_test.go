package wdlab_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
	"tessellant/internal/housetest"
	"tessellant/internal/lab"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/phone"
	"tessellant/internal/phone/phonetest"
	"tessellant/internal/standin/cloudlab"
)

// watch has a lab looked after until the test ends, and waits for its devices.
func watch(t *testing.T, l *wdlab.Lab) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		l.Watch(ctx, func(context.Context) {})
	}()
	t.Cleanup(func() {
		cancel()
		<-done
	})
	housetest.Eventually(t, "the lab lists its devices", func() bool { return l.About().Devices > 0 || l.About().Out != "" })
}

func device(t *testing.T, l *wdlab.Lab, serial string) lab.Device {
	t.Helper()
	all, err := l.Devices(context.Background())
	require.NoError(t, err)
	for _, d := range all {
		if d.Facts.Serial == serial {
			return d
		}
	}
	t.Fatalf("the lab has no %s", serial)
	return lab.Device{}
}

func borrow(t *testing.T, l *wdlab.Lab, serial string, want lab.Want) (*lab.Unit, lab.Given) {
	t.Helper()
	u, err := l.Acquire(serial)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	g, err := u.Loan.Begin(ctx, want, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { _ = u.Loan.End(context.Background()) })
	return u, g
}

func wantFor(t *testing.T, platform string) lab.Want {
	t.Helper()
	w := lab.Want{Name: "the test's", App: housetest.KelplineApp(t), SHA256: "sum-of-" + platform}
	if platform == "ios" {
		w.App, w.SHA256 = housetest.KelplineIOSApp(t)
	}
	return w
}

func TestTheDriverPassesTheSuiteOnALabsPhones(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	for platform, serial := range map[string]string{"android": "her-01", "ios": "her-05"} {
		t.Run(platform, func(t *testing.T) {
			want := wantFor(t, platform)
			u, _ := borrow(t, l, serial, lab.Want{Name: "bare"}) // the suite installs the build itself
			phonetest.Run(t, phonetest.Subject{Phone: u.Unit, App: want.App, Language: "en", AnyText: true, ReadMarks: true, NoFilm: true})
		})
	}
}

func TestALabsDevicesAreListedAndLent(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	d := device(t, l, "her-07")
	assert.Equal(t, devices.Ready, d.State)
	assert.Equal(t, devices.Facts{Serial: "her-07", Platform: "ios", OS: "16.7", Maker: "Larch", Model: "Twig", Form: "phone", Origin: "cloud", Simulated: true, Width: 640, Height: 1136, Density: 320, MemoryMB: 3072, ABIs: []string{"arm64"},
		Language: "en", UDID: "00008030-000B33330000002E", Place: "Heron Point", Limits: d.Facts.Limits, Lent: true, Sets: []string{"language", "dark", "orientation"}}, d.Facts)
	assert.Len(t, d.Facts.Limits, 1, "what a lab can't give is said")

	u, g := borrow(t, l, "her-07", wantFor(t, "ios"))
	assert.True(t, g.Installed)
	assert.Equal(t, cloud.URL()+"/sessions/"+g.Ref, g.Page)
	now, _ := cloud.Open()
	assert.Equal(t, 1, now)
	s, err := u.Tree(context.Background())
	require.NoError(t, err)
	assert.Equal(t, "org.kelpline.app", s.Elements[0].App, "the build is in front")
	assert.Equal(t, 640, s.Elements[0].Bounds.Right, "the tree is in pixels, as pictures are")
	assert.Equal(t, devices.Ready, device(t, l, "her-07").State, "what we have is ours, not somebody else's")

	require.NoError(t, u.Loan.End(context.Background()))
	require.NoError(t, u.Loan.End(context.Background()), "ending it twice changes nothing")
	now, _ = cloud.Open()
	assert.Zero(t, now)
	_, err = u.Tree(context.Background())
	var lost *phone.Lost
	require.ErrorAs(t, err, &lost, "nothing can be asked after the end")
	assert.Greater(t, l.UsedToday(), time.Duration(0))
}

func TestABuildIsBroughtToTheLabOnceAndAgainWhenItWasForgotten(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	for range 2 {
		u, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
		require.NoError(t, u.Loan.End(context.Background()))
	}
	assert.Equal(t, 1, cloud.Builds(), "once")
	cloud.ForgetBuilds()
	_, g := borrow(t, l, "her-05", wantFor(t, "ios"))
	assert.True(t, g.Installed)
	assert.Equal(t, 1, cloud.Builds(), "again")
}

func TestWhatTheLabCantInstallIsRefusedWithItsReason(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	u, err := l.Acquire("her-01")
	require.NoError(t, err)
	_, err = u.Loan.Begin(context.Background(), wantFor(t, "ios"), func(string) {}) // an IPA on Android
	var no *phone.Refused
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Why, "could not be installed")
	assert.Contains(t, no.Remedy, "tessellant lab try LABFILE --lab heron")
	now, _ := cloud.Open()
	assert.Zero(t, now, "nothing stays open")
	assert.Zero(t, l.About().Open)
}

func TestSoManySessionsAreOpenAtATimeAndTheNextWaits(t *testing.T) {
	cloud := housetest.Cloud(t, func(c *cloudlab.Config) { c.AtOnce = 2 })
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	first, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	borrow(t, l, "her-06", wantFor(t, "ios"))
	told := make(chan string, 10)
	begun := make(chan error, 1)
	u, err := l.Acquire("her-08")
	require.NoError(t, err)
	go func() {
		_, err := u.Loan.Begin(context.Background(), wantFor(t, "ios"), func(how string) { told <- how })
		begun <- err
	}()
	assert.Equal(t, "2 of the 2 sessions that may be open at the lab heron at a time are open", <-told)
	select {
	case err := <-begun:
		t.Fatal("it did not wait", err)
	default:
	}
	require.NoError(t, first.Loan.End(context.Background()))
	require.NoError(t, <-begun)
	require.NoError(t, u.Loan.End(context.Background()))
	assert.Zero(t, l.About().Waiting)
}
