package wdlab_test

// What goes wrong at somebody else's lab: each is said, and nothing is left open or held.

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/devices"
	"tessellant/internal/housetest"
	"tessellant/internal/lab"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/phone"
	"tessellant/internal/standin/cloudlab"
)

// quiet is a buffer that several may write to.
type quiet struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (q *quiet) Write(p []byte) (int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.b.Write(p)
}

func (q *quiet) String() string {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.b.String()
}

// try borrows a device and gives it back; the error is Begin's.
func try(l *wdlab.Lab, serial string, want lab.Want) error {
	u, err := l.Acquire(serial)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	_, err = u.Loan.Begin(ctx, want, func(string) {})
	_ = u.Loan.End(context.Background())
	return err
}

func TestWrongCredentialsAreSaidOnceAndTheLabIsLeftAlone(t *testing.T) {
	cloud := housetest.Cloud(t, func(c *cloudlab.Config) { c.Key = "another-key-entirely" })
	var asked atomic.Int64
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		to, _ := url.Parse(cloud.URL())
		httputil.NewSingleHostReverseProxy(to).ServeHTTP(w, r)
	}))
	defer front.Close()
	var log quiet
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud, cloud.URL(), front.URL, "every: 10s", "every: 5s"), &log)
	watch(t, l)
	assert.Contains(t, l.About().Out, "can't be used: the lab answers 401: {\"message\":\"no such key\"}")
	assert.Contains(t, l.About().Out, "see whether its secrets are right")
	for range 5 {
		l.LookAgain("her-05") // it is looked at at once, but not asked
	}
	time.Sleep(3 * time.Second)
	assert.EqualValues(t, 1, asked.Load(), "no storm of tries")
	assert.Equal(t, 1, strings.Count(log.String(), "can't be used"), log.String())
	assert.NotContains(t, log.String()+l.About().Out, housetest.CloudKey)
}

func TestALabWhoseKeyIsTakenAwayWhileItIsUsedIsOutOfUse(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	cloud.Key = "another-key-entirely"
	err := try(l, "her-05", wantFor(t, "ios"))
	var lost *phone.Lost
	require.ErrorAs(t, err, &lost)
	d := device(t, l, "her-06")
	assert.Equal(t, devices.Unusable, d.State)
	assert.Contains(t, d.Why, "401")
}

func TestALabThatCantBeReachedSaysWhy(t *testing.T) {
	cloud := housetest.Cloud(t)
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	for address, says := range map[string]string{
		"http://no-such-lab.invalid": "can't be looked up", "http://127.0.0.1:1": "it can't be reached", secure.URL: "is of an authority that this machine does not know",
		strings.Replace(cloud.URL(), "http:", "https:", 1): "it does not speak TLS there",
	} {
		l := housetest.CloudLab(t, housetest.LabFile(t, cloud, cloud.URL(), address), nil)
		watch(t, l)
		housetest.Eventually(t, "it says why", func() bool { return l.About().Out != "" })
		assert.Contains(t, l.About().Out, says, address)
	}
}

func TestALabIsTrustedByTheCertificateThatTheFileNames(t *testing.T) {
	cloud := housetest.Cloud(t)
	to, err := url.Parse(cloud.URL())
	require.NoError(t, err)
	secure := httptest.NewUnstartedServer(httputil.NewSingleHostReverseProxy(to))
	secure.TLS = &tls.Config{MinVersion: tls.VersionTLS12}
	secure.StartTLS()
	defer secure.Close()
	dir := t.TempDir()
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lab.pem"), authority, 0o600))
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud, cloud.URL(), secure.URL, "    place: Heron Point\n", "    place: Heron Point\n    trust: "+filepath.Join(dir, "lab.pem")+"\n"), nil)
	watch(t, l)
	assert.Empty(t, l.About().Out)
	require.NoError(t, try(l, "her-05", wantFor(t, "ios")))
}

func TestALabsBadMomentsPassAndNothingStaysOpen(t *testing.T) {
	for name, c := range map[string]struct {
		fault func(*cloudlab.Cloud)
		ok    bool
	}{
		"it answers 500":              {func(c *cloudlab.Cloud) { c.Errors.Store(2) }, true},
		"it answers a page with 200":  {func(c *cloudlab.Cloud) { c.HTML.Store(1) }, true},
		"another device than asked":   {func(c *cloudlab.Cloud) { c.Other.Store(true) }, false},
		"the session dies at once":    {func(c *cloudlab.Cloud) { c.Dies.Store(true) }, false},
		"it drops at the first image": {func(c *cloudlab.Cloud) { c.Drops.Store(true) }, false},
	} {
		t.Run(name, func(t *testing.T) {
			cloud := housetest.Cloud(t)
			l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
			watch(t, l)
			require.NoError(t, try(l, "her-05", wantFor(t, "ios"))) // the build is there
			cloud.Only.Store("/wd/")
			c.fault(cloud)
			err := try(l, "her-05", wantFor(t, "ios"))
			if c.ok {
				require.NoError(t, err)
			} else {
				var lost *phone.Lost
				require.ErrorAs(t, err, &lost, "another try may go better")
			}
			now, _ := cloud.Open()
			assert.Zero(t, now, "a session stayed open")
			assert.Zero(t, l.About().Open)
			require.NoError(t, try(l, "her-05", wantFor(t, "ios")), "the next goes well")
		})
	}
}

func TestALabThatHangsCostsItsTimeAndNoMore(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud, "within: 5m", "within: 2s"), nil)
	watch(t, l)
	cloud.Only.Store("/wd/session")
	cloud.Hangs.Store(10)
	start := time.Now()
	err := try(l, "her-05", wantFor(t, "ios"))
	var lost *phone.Lost
	require.ErrorAs(t, err, &lost)
	assert.Contains(t, err.Error(), "it does not answer in time")
	assert.Less(t, time.Since(start), 10*time.Second)
	assert.Zero(t, l.About().Open)
}

func TestASessionThatDiesUnderTheTestIsLost(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	u, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	ctx := context.Background()
	cloud.Drops.Store(true)
	_, err := u.Screenshot(ctx)
	var lost *phone.Lost
	require.ErrorAs(t, err, &lost, "the session is dropped while a picture is asked for")
	assert.Contains(t, err.Error(), "the lab has ended the session")
	require.ErrorAs(t, u.Tap(ctx, 10, 10), &lost)
	require.NoError(t, u.Loan.End(ctx), "what is over is given back")
}

func TestAQuestionIsAskedAgainAndATapIsNot(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	u, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	ctx := context.Background()
	for _, fault := range []*atomic.Int64{&cloud.Errors, &cloud.HTML} {
		fault.Store(2)
		_, err := u.Tree(ctx)
		require.NoError(t, err)
		fault.Store(1)
		var lost *phone.Lost
		require.ErrorAs(t, u.Tap(ctx, 10, 10), &lost, "what may have been done is not done again")
		fault.Store(0)
	}
}

func TestABadCatalogueLeavesTheOneBeforeAndIsSaid(t *testing.T) {
	cloud := housetest.Cloud(t)
	var log quiet
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud, "every: 10s", "every: 5s"), &log)
	watch(t, l)
	cloud.Garbage.Store(true)
	housetest.Eventually(t, "it is said", func() bool { return strings.Contains(log.String(), "does not list its devices at the moment") })
	assert.Contains(t, log.String(), "its catalogue can't be used: it is not JSON")
	assert.Equal(t, devices.Ready, device(t, l, "her-05").State, "what was listed a moment ago can be used")
	assert.Equal(t, 1, strings.Count(log.String(), "at the moment"), "once")
}

func TestALimitThatIsLoweredWhileItIsUsedIsWaitedFor(t *testing.T) {
	cloud := housetest.Cloud(t, func(c *cloudlab.Config) { c.Waits = time.Second })
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	first, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	cloud.Limit(1) // our list says three
	time.AfterFunc(3*time.Second, func() { _ = first.Loan.End(context.Background()) })
	u, err := l.Acquire("her-06")
	require.NoError(t, err)
	var told []string
	_, err = u.Loan.Begin(context.Background(), wantFor(t, "ios"), func(how string) { told = append(told, how) })
	require.NoError(t, err, "the lab says that it is full, and is asked again")
	require.NotEmpty(t, told)
	assert.Contains(t, told[0], "queue full")
	require.NoError(t, u.Loan.End(context.Background()))
}

func TestTwoHostsWithOneLabShareIt(t *testing.T) {
	cloud := housetest.Cloud(t, func(c *cloudlab.Config) { c.AtOnce, c.Waits = 2, 500*time.Millisecond })
	var hosts []*wdlab.Lab
	for range 2 {
		l := housetest.CloudLab(t, housetest.LabFile(t, cloud, "every: 10s", "every: 5s"), nil)
		watch(t, l)
		hosts = append(hosts, l)
	}
	u, _ := borrow(t, hosts[0], "her-05", wantFor(t, "ios"))
	housetest.Eventually(t, "the other sees that it is lent", func() bool { return device(t, hosts[1], "her-05").State == devices.Unusable })
	assert.Contains(t, device(t, hosts[1], "her-05").Why, "lent it to somebody else")
	require.NoError(t, u.Loan.End(context.Background()))
	var all sync.WaitGroup
	errs := make(chan error, 8)
	for i, l := range hosts {
		for _, serial := range [][]string{{"her-05", "her-06"}, {"her-07", "her-08"}}[i] {
			all.Go(func() { errs <- try(l, serial, wantFor(t, "ios")) })
		}
	}
	all.Wait()
	for range 4 {
		require.NoError(t, <-errs)
	}
	now, _ := cloud.Open()
	assert.Zero(t, now)
}

func TestALabsClockThatIsWrongIsItsClock(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	u, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	cloud.Skew.Store(time.Hour.Milliseconds())
	at, err := u.Clock.Now(context.Background())
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(time.Hour), at, time.Minute)
}

func TestTheMinutesOfADayAreCountedAndLimited(t *testing.T) {
	cloud := housetest.Cloud(t)
	file := housetest.LabFile(t, cloud)
	file.DayLimit = 1
	t.Setenv("HERON_KEY", housetest.CloudKey)
	dir := t.TempDir()
	used, err := json.Marshal(map[string]any{"day": time.Now().UTC().Format(time.DateOnly), "used_ms": 59_500})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "heron.json"), used, 0o600))
	l, err := wdlab.New(wdlab.Config{Lab: file, Dir: dir, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	watch(t, l)
	u, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	housetest.Eventually(t, "the minute is over", func() bool { return device(t, l, "her-06").State == devices.Unusable })
	assert.Contains(t, device(t, l, "her-06").Why, "the 1 minutes that the lab heron may be used today are used up")
	_, err = u.Tree(context.Background())
	require.NoError(t, err, "what is open goes on")
	require.NoError(t, u.Loan.End(context.Background()))
	again, err := wdlab.New(wdlab.Config{Lab: file, Dir: dir, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, again.UsedToday(), time.Minute, "the next process knows")
	assert.Contains(t, fmt.Sprint(try(again, "her-05", lab.Want{})), "not there", "it has not asked for its devices yet")
}

func TestASessionThatCouldNotBeEndedIsEndedLater(t *testing.T) {
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud), nil)
	watch(t, l)
	u, _ := borrow(t, l, "her-05", wantFor(t, "ios"))
	cloud.Only.Store("/wd/session/")
	cloud.Errors.Store(1)
	require.Error(t, u.Loan.End(context.Background()))
	assert.Zero(t, l.About().Open, "the device is not held by us")
	housetest.Eventually(t, "the lab is told when it can be", func() bool { now, _ := cloud.Open(); return now == 0 })

	_, g := borrow(t, l, "her-06", wantFor(t, "ios"))
	require.NoError(t, l.Reclaim(context.Background(), "her-06", g.Ref), "the next process of the host ends what this one left")
	now, _ := cloud.Open()
	assert.Zero(t, now)
	require.NoError(t, l.Reclaim(context.Background(), "her-06", g.Ref), "what is over is no error")
}

func TestACatalogueOfTenThousandWithDoublesIsTaken(t *testing.T) {
	var list []catalogue.Device
	for i := range 10_000 {
		list = append(list, catalogue.Device{ID: fmt.Sprintf("d-%d", i%9_990), Platform: "ios", OS: "17", Maker: "Larch", Model: "Larch 4", Width: 780, Height: 1688, Density: 320})
	}
	raw, err := (&catalogue.Catalogue{Devices: list}).JSON()
	require.NoError(t, err)
	big := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(raw) }))
	defer big.Close()
	cloud := housetest.Cloud(t)
	var log quiet
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud, cloud.URL()+"/catalogue", big.URL), &log)
	watch(t, l)
	all, err := l.Devices(context.Background())
	require.NoError(t, err)
	assert.Len(t, all, 9_990)
	assert.Contains(t, log.String(), "10 devices of its catalogue were left out")
	assert.Contains(t, log.String(), "it is there twice")
}

func TestWhatALabSendsIsBounded(t *testing.T) {
	endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		block := bytes.Repeat([]byte("x"), 1<<20)
		for r.Context().Err() == nil {
			if _, err := w.Write(block); err != nil {
				return
			}
		}
	}))
	defer endless.Close()
	cloud := housetest.Cloud(t)
	l := housetest.CloudLab(t, housetest.LabFile(t, cloud, cloud.URL()+"/catalogue", endless.URL), nil)
	watch(t, l)
	housetest.Eventually(t, "it is said", func() bool { return l.About().Out != "" })
	assert.Contains(t, l.About().Out, "it has more than")

	var led atomic.Int64
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			led.Add(1)
		}
	}))
	defer elsewhere.Close()
	leads := httptest.NewServer(http.RedirectHandler(elsewhere.URL, http.StatusFound))
	defer leads.Close()
	l = housetest.CloudLab(t, housetest.LabFile(t, cloud, cloud.URL()+"/catalogue", leads.URL), nil)
	watch(t, l)
	housetest.Eventually(t, "it is said", func() bool { return l.About().Out != "" })
	assert.Contains(t, l.About().Out, "which is not followed")
	assert.Zero(t, led.Load(), "the key goes nowhere else")
}
