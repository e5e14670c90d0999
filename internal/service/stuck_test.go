package service_test

// What stuck for ever: sessions that nobody awaits, hosts that come back under their name, changes that were never told, files whose row is there.

import (
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/bus"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func TestASessionThatWaitsWhileTheServiceIsStartedAnewEndsTruthfully(t *testing.T) {
	d := set(t)
	x := store.Session{ID: store.NewID(), WorkspaceID: d.Who.WorkspaceID, Token: []byte(strings.Repeat("t", 32)), Group: "tides", Created: time.Now().UTC(), BuildID: sql.NullString{},
		Request: store.JSON[store.SessionRequest]{V: store.SessionRequest{Patience: 3600, Recording: recording.Set{}}}}
	require.NoError(t, d.Store.AddSession(ctx, x, work.Spec{}, work.Wants{}, "", time.Minute))
	require.NoError(t, d.EndUnawaited(ctx))
	v, err := d.Session(ctx, d.Who, x.ID)
	require.NoError(t, err)
	assert.Equal(t, "waiting", v.Stage, "somebody waits for it")
	require.NoError(t, d.Store.AwaitSession(ctx, x.ID, -time.Second)) // the process that did is gone
	require.NoError(t, d.EndUnawaited(ctx))
	v, err = d.Session(ctx, d.Who, x.ID)
	require.NoError(t, err)
	assert.Equal(t, "done", v.Stage)
	assert.Contains(t, v.Message, "the service restarted while the session waited")
}

func TestAHostThatWasRemovedAndJoinedAgainGetsItsWork(t *testing.T) {
	d := set(t)
	stop, err := d.AnswerHosts()
	require.NoError(t, err)
	defer stop()
	join := func() string {
		key, err := d.AddHost(ctx, d.Who, "bench-1")
		require.NoError(t, err)
		beside, err := d.Enter(ctx, key)
		require.NoError(t, err)
		h := beside.Host
		w, err := d.Join(ctx, h, "1", hostlink.Protocol, "nats://x")
		require.NoError(t, err)
		return w.Token
	}
	ask := func(c hostlink.Call) (a hostlink.Answer) {
		raw, err := json.Marshal(c)
		require.NoError(t, err)
		back, err := d.Bus.Call(ctx, bus.Hosts, raw)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(back, &a))
		require.Empty(t, a.Problem)
		return a
	}
	about := &hostlink.About{Isolation: "tight", Runtimes: map[string]string{"sh": "1"}}
	seen := []hostlink.Seen{{Facts: devices.Facts{Serial: "far-1", Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"}}
	token := join()
	ask(hostlink.Call{Token: token, Kind: "devices", About: about})
	require.Empty(t, ask(hostlink.Call{Token: token, Kind: "holds"}).Holds)
	require.NoError(t, d.RemoveHost(ctx, d.Who, "bench-1"))
	token = join()
	ask(hostlink.Call{Token: token, Kind: "devices", About: about, Seen: seen})
	hosts, err := d.ListHosts(ctx)
	require.NoError(t, err)
	for _, h := range hosts {
		if h.Name == "bench-1" {
			assert.Equal(t, "tight", h.About.V.Isolation, "what it is was told to the new row")
		}
	}
	d.start("far-1")
	housetest.Eventually(t, "it gets its work", func() bool { return len(ask(hostlink.Call{Token: token, Kind: "holds"}).Holds) == 1 })
}

func TestTheFeedForgetsWhatIsOverAndTellsEveryEnd(t *testing.T) {
	d := set(t, "d-1")
	run := d.start()
	h := d.holds(1)[0]
	require.NoError(t, d.link.Live(ctx, h, hostlink.Now{Events: []timeline.Event{{Seq: 1, Kind: timeline.Log, Answer: "hello"}}}))
	place := d.Feed.Here()
	told := func(over bool) func() bool {
		return func() bool {
			changes, _, _, ok := d.Feed.After(place, d.Who.WorkspaceID, "")
			require.True(t, ok)
			for _, c := range changes {
				if v, is := c.Value.(service.RunView); is && v.ID == run.ID && v.Ended.Valid == over {
					return true
				}
			}
			return false
		}
	}
	require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}}))
	housetest.Eventually(t, "the run is told", told(false))
	// The hold is closed elsewhere, behind this process's back.
	_, ok, err := d.Store.CloseHold(ctx, h.ID, store.Closing{Verdict: verdict.Passed})
	require.NoError(t, err)
	require.True(t, ok)
	require.NoError(t, d.link.Live(ctx, h, hostlink.Now{Events: []timeline.Event{{Seq: 2, Kind: timeline.Log, Answer: "late"}}}))
	housetest.Eventually(t, "its end is told", told(true))
	housetest.Eventually(t, "the attempt is forgotten", func() bool {
		events, _, _ := d.Feed.Now(h.AttemptID)
		return events == nil
	})
}

func TestAHostsOddWordsHoldNoDeviceAndLoseNoOther(t *testing.T) {
	d := set(t, "d-1")
	d.start()
	h := d.holds(1)[0]
	long := strings.Repeat("x", 70_000)
	bad := []hostlink.Progress{
		{Seq: 1, Stage: "dancing"}, {Seq: 2, Case: &hostlink.CaseResult{Ordinal: -1, Name: "a"}}, {Seq: 3, Case: &hostlink.CaseResult{Ordinal: 0, Name: "a", Try: hostlink.Try{Verdict: "wonderful"}}},
	}
	for _, p := range bad {
		err := d.link.Report(ctx, h, []hostlink.Progress{p})
		assert.True(t, errors.Is(err, hostlink.ErrUnfit), "%v: %v", p.Seq, err)
	}
	require.NoError(t, d.link.Report(ctx, h, []hostlink.Progress{{Seq: 4, Case: &hostlink.CaseResult{Ordinal: 0, Name: long + "\xff\x00", Try: hostlink.Try{Verdict: verdict.Failed, Message: long, Line: long, Shot: long, Trace: "\xff"}}}}))
	_, err := d.link.Devices(ctx, housetest.HostName, hostlink.About{Why: long}, []hostlink.Seen{
		{Facts: devices.Facts{Serial: strings.Repeat("s", 300)}, State: "ready"}, {Facts: devices.Facts{Serial: "odd\x00"}, State: "ready"},
		{Facts: devices.Facts{Serial: "d-1", Model: long, Platform: "android", API: 30}, State: "unusable", Why: long}})
	require.NoError(t, err, "the odd ones are passed over, the others are told")
	require.NoError(t, d.link.Close(ctx, h, hostlink.Closing{Verdict: "splendid", Message: long, MarkedMessage: long, Marked: "odd", How: long}))
	l, err := d.Leg(ctx, d.Who, h.WorkID)
	require.NoError(t, err)
	require.Len(t, l.Attempts[0].Cases, 1)
	assert.LessOrEqual(t, len(l.Attempts[0].Cases[0].Name), 500)
	assert.Equal(t, verdict.Lost, l.Attempts[0].Verdict)
	assert.Contains(t, l.Attempts[0].Message, "unknown verdict")
	assert.Less(t, len(l.Attempts[0].Message), 5000)
	ds, _, err := d.Devices(ctx, store.Identity{}, nil, "", 10)
	require.NoError(t, err)
	assert.Len(t, ds, 1)
}
