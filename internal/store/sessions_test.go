package store_test

import (
	"context"
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/recording"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/store"
)

// session adds one that waits.
func (d *desk) session(t *testing.T, label string) store.Session {
	t.Helper()
	x := store.Session{ID: store.NewID(), WorkspaceID: d.ws, Token: []byte(store.NewID() + "······")[:32], BuildID: sql.NullString{String: d.build, Valid: true}, Group: label, Name: "send a survey", Created: time.Now().UTC(),
		Request: store.JSON[store.SessionRequest]{V: store.SessionRequest{Where: []string{"os>=12"}, Idle: 120, Recording: recording.Set{Video: true}}}}
	require.NoError(t, d.AddSession(context.Background(), x, work.Spec{}, work.Wants{}, "", time.Minute))
	return x
}

// begun gives a session a device.
func (d *desk) begun(t *testing.T, x store.Session, device int) store.Hold {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, d.TakeDevice(ctx, store.Work{ID: x.ID, Kind: work.Session}, d.devices[device], time.Minute))
	h, err := d.HoldOfDevice(ctx, d.devices[device].ID)
	require.NoError(t, err)
	_, err = d.Note(ctx, h.ID, []store.Progress{{Seq: 1, Stage: "running"}})
	require.NoError(t, err)
	return h
}

func ids(rows []store.SessionRow) (out []string) {
	for _, r := range rows {
		out = append(out, r.ID)
	}
	return out
}

func TestSessionsAreListedByGroupDeviceAndWhetherTheyGoOn(t *testing.T) {
	ctx, d := context.Background(), open(t)
	waits, goes, over := d.session(t, "nightly"), d.session(t, "nightly"), d.session(t, "")
	d.begun(t, goes, 0)
	h := d.begun(t, over, 1)
	_, ok, err := d.CloseHold(ctx, h.ID, store.Closing{Verdict: verdict.Passed, How: "client"})
	require.NoError(t, err)
	require.True(t, ok)
	for name, c := range map[string]struct {
		filter store.SessionFilter
		want   []string
	}{
		"all, the newest first": {store.SessionFilter{}, []string{over.ID, goes.ID, waits.ID}},
		"of a group":            {store.SessionFilter{Group: "nightly"}, []string{goes.ID, waits.ID}},
		"that go on":            {store.SessionFilter{Going: true}, []string{goes.ID, waits.ID}},
		"on a device":           {store.SessionFilter{Serial: "d-2"}, []string{over.ID}},
		"of no such group":      {store.SessionFilter{Group: "x"}, nil},
	} {
		rows, err := d.Sessions(ctx, d.ws, c.filter, "", 10)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, ids(rows), name)
	}
	page, err := d.Sessions(ctx, d.ws, store.SessionFilter{}, over.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{goes.ID}, ids(page), "one page after another")
	none, err := d.Sessions(ctx, store.NewID(), store.SessionFilter{}, "", 10)
	require.NoError(t, err)
	assert.Empty(t, none, "another workspace's")

	open, waiting, err := d.CountSessions(ctx, d.ws)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{open, waiting})
	going, err := d.SessionsGoing(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{waits.ID, goes.ID}, ids(going))
	r, err := d.SessionByToken(ctx, goes.Token)
	require.NoError(t, err)
	assert.Equal(t, goes.ID, r.ID)
	assert.Equal(t, []any{"running", "d-1", "send a survey", []string{"os>=12"}}, []any{r.Stage, r.Serial.String, r.Name, r.Request.V.Where})
	_, err = d.SessionByToken(ctx, make([]byte, 32))
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = d.SessionByID(ctx, store.NewID(), goes.ID)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestASessionThatWaitsIsStoppedAtOnceAndAnotherIsAsked(t *testing.T) {
	ctx, d := context.Background(), open(t)
	waits, goes := d.session(t, ""), d.session(t, "")
	h := d.begun(t, goes, 0)
	for _, c := range []struct {
		id     string
		waited bool
	}{{waits.ID, true}, {goes.ID, false}, {waits.ID, false}} {
		waited, err := d.StopWork(ctx, c.id, store.Closing{Verdict: verdict.Stopped, How: "stopped", Message: "it was stopped"})
		require.NoError(t, err)
		assert.Equal(t, c.waited, waited)
	}
	r, err := d.SessionByID(ctx, d.ws, waits.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{"done", verdict.Stopped, "stopped", "it was stopped"}, []any{r.Stage, r.Verdict, r.How, r.Message})
	r, err = d.SessionByID(ctx, d.ws, goes.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{"running", true}, []any{r.Stage, r.Stop}, "its host ends it")
	_, _, err = d.CloseHold(ctx, h.ID, store.Closing{Verdict: verdict.Lost})
	require.NoError(t, err)
	r, err = d.SessionByID(ctx, d.ws, goes.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{verdict.Stopped, "stopped"}, []any{r.Verdict, r.How}, "its host did not come to say how, but it was to be stopped")
}

func TestMarksAndReportsJudgeASessionAnew(t *testing.T) {
	ctx, d := context.Background(), open(t)
	x := d.session(t, "")
	h := d.begun(t, x, 0)
	state := func() (store.SessionRow, []string) {
		t.Helper()
		r, err := d.SessionByID(ctx, d.ws, x.ID)
		require.NoError(t, err)
		cases, err := d.Cases(ctx, h.AttemptID)
		require.NoError(t, err)
		var out []string
		for _, c := range cases {
			out = append(out, c.Name+" "+string(c.Verdict))
		}
		return r, out
	}
	_, err := d.Note(ctx, h.ID, []store.Progress{{Seq: 2, Case: &store.Case{Name: "opens", Verdict: verdict.Passed, StartMS: 40, TookMS: 9, Shot: "s.png"}}})
	require.NoError(t, err)
	require.NoError(t, d.PutCases(ctx, x.ID, h.AttemptID, "report", []store.Case{{Ordinal: store.NewCase, Name: "totals", Verdict: verdict.Failed, Message: "65"}}))
	r, cases := state()
	assert.Equal(t, []string{"opens passed", "totals failed"}, cases)
	assert.Empty(t, r.Verdict, "it goes on: nothing is judged yet")

	_, _, err = d.CloseHold(ctx, h.ID, store.Closing{Verdict: verdict.Passed, How: "client"})
	require.NoError(t, err)
	r, _ = state()
	assert.Equal(t, []any{verdict.Failed, "totals: 65", false}, []any{r.Verdict, r.Message, r.Inferred})

	// A second report takes the place of the first; what the client marked stays in its place, with its picture.
	require.NoError(t, d.PutCases(ctx, x.ID, h.AttemptID, "report", []store.Case{{Ordinal: 0, Name: "opens", Verdict: verdict.Passed}, {Ordinal: store.NewCase, Name: "prints", Verdict: verdict.Skipped}}))
	r, cases = state()
	assert.Equal(t, []string{"opens passed", "prints skipped"}, cases)
	assert.Equal(t, verdict.Passed, r.Verdict)
	have, err := d.Cases(ctx, h.AttemptID)
	require.NoError(t, err)
	assert.Equal(t, []any{int64(40), int64(9), "s.png"}, []any{have[0].StartMS, have[0].TookMS, have[0].Shot})
	assert.NotEqual(t, "report", have[0].Source, "a third report leaves it, too")

	require.NoError(t, d.MarkSession(ctx, x.ID, verdict.Failed, "wrong shore"))
	r, _ = state()
	assert.Equal(t, []any{verdict.Failed, "wrong shore"}, []any{r.Verdict, r.Message})
	require.NoError(t, d.MarkSession(ctx, x.ID, verdict.Passed, ""))
	r, _ = state()
	assert.Equal(t, []any{verdict.Passed, ""}, []any{r.Verdict, r.Message})
}
