package orders

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/w3c"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
)

func TestASessionTakesNoMoreCommandsAtOnceThanItCanHold(t *testing.T) {
	s := New(t.Context(), slog.Default(), nil)
	for i := range maxWaiting {
		r := s.Take(t.Context(), hostlink.Order{ID: fmt.Sprint(i), Size: 10, Piece: []byte("half")})
		assert.True(t, r.Pending, "pieces are missing")
	}
	assert.Contains(t, s.Take(t.Context(), hostlink.Order{ID: "one more", Size: 10}).Problem, "32 commands of the session wait already")
	for _, d := range s.done { // a minute later
		d.began = d.began.Add(-2 * maxHalf)
	}
	assert.True(t, s.Take(t.Context(), hostlink.Order{ID: "one more", Size: 10}).Pending, "what never came whole is forgotten")
	assert.Len(t, s.done, 1)
	assert.NotEmpty(t, s.Take(t.Context(), hostlink.Order{ID: "x", Size: 5, From: 4, Piece: []byte("two")}).Problem, "it makes no sense")
}

// quiet are notes that nobody keeps.
type quiet struct{ remoteend.Notes }

func (quiet) Command(phone.Command) {}
func (quiet) Log(string)            {}

func ofNothing(ctx context.Context) *Served {
	return New(ctx, slog.Default(), remoteend.New(remoteend.Config{ID: "ebb", Timeouts: w3c.DefaultTimeouts(), Notes: quiet{}}))
}

func order(id int, method, path, body string) hostlink.Order {
	return hostlink.Order{ID: fmt.Sprint(id), Method: method, Path: "/session/ebb" + path, Size: len(body), Piece: []byte(body)}
}

func TestCommandsAreCarriedOutInTheirOrderAndOnce(t *testing.T) {
	s := ofNothing(t.Context())
	const n = maxWaiting - keptDone // in flight at once
	var all sync.WaitGroup
	for i := range n {
		o := order(i, "POST", "/timeouts", fmt.Sprintf(`{"implicit": %d}`, i))
		s.find(o) // they come in this order
		all.Go(func() { assert.Equal(t, 200, s.Take(t.Context(), o).Status) })
	}
	all.Wait()
	r := s.Take(t.Context(), order(n, "GET", "/timeouts", ""))
	assert.JSONEq(t, fmt.Sprintf(`{"value": {"script": 30000, "pageLoad": 300000, "implicit": %d}}`, n-1), string(r.Piece), "the last that came counts")

	// An answer that got lost is given again; the command is not.
	set := order(n+1, "POST", "/timeouts", `{"implicit": 77}`)
	assert.Equal(t, 200, s.Take(t.Context(), set).Status)
	assert.Equal(t, 200, s.Take(t.Context(), order(n+2, "POST", "/timeouts", `{"implicit": 88}`)).Status)
	assert.Equal(t, 200, s.Take(t.Context(), set).Status)
	r = s.Take(t.Context(), order(n+3, "GET", "/timeouts", ""))
	assert.Contains(t, string(r.Piece), `"implicit":88`)

	// A body comes in pieces, and one of them twice.
	body := `{"implicit": 99}`
	for _, p := range []struct{ from, to int }{{0, 7}, {0, 7}, {7, len(body)}} {
		r = s.Take(t.Context(), hostlink.Order{ID: "pieces", Method: "POST", Path: "/session/ebb/timeouts", Size: len(body), From: p.from, Piece: []byte(body[p.from:p.to])})
	}
	assert.Equal(t, 200, r.Status)
	r = s.Take(t.Context(), hostlink.Order{ID: "pieces", Method: "POST", Path: "/session/ebb/timeouts", Size: len(body), From: 0, Piece: []byte(body), Want: 5})
	assert.Equal(t, `ue":null}`+"\n", string(r.Piece), "and its answer from where it is wanted")
}

func TestAnAnswerWaitsForItsOrderToComeAgain(t *testing.T) {
	s := ofNothing(t.Context())
	set := order(0, "POST", "/timeouts", `{"implicit": 1}`)
	d := s.find(set) // who asked was told "pending", and is on the way again
	for i := 1; i < 3*maxWaiting; i++ {
		assert.Equal(t, 200, s.Take(t.Context(), order(i, "POST", "/timeouts", fmt.Sprintf(`{"implicit": %d}`, i))).Status)
		assert.LessOrEqual(t, len(s.done), keptDone+1, "what was given is forgotten")
	}
	assert.Same(t, d, s.find(set), "it is not carried out a second time")

	// Where nobody comes for any, the oldest goes: a client that left all of them must not lock the session.
	for i := range 3 * maxWaiting {
		d := s.find(order(1000+i, "GET", "/timeouts", ""))
		if assert.NotNil(t, d) {
			<-d.ready
		}
		assert.LessOrEqual(t, len(s.done), maxWaiting)
	}
}

func TestASessionThatEndsAnswersWhatWaits(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	s := ofNothing(ctx)
	assert.Equal(t, 200, s.Take(t.Context(), order(1, "GET", "/timeouts", "")).Status)
	assert.Less(t, s.Idle(), time.Minute)
	cancel()
	for i := 2; i < 6; i++ { // whether its worker has left yet or not
		r := s.Take(t.Context(), order(i, "GET", "/timeouts", ""))
		assert.False(t, r.Pending)
		assert.NotZero(t, r.Status)
	}

	s = ofNothing(t.Context())
	assert.Equal(t, 200, s.Take(t.Context(), order(1, "DELETE", "", "")).Status)
	select {
	case <-s.over:
	case <-time.After(10 * time.Second):
		t.Fatal("its host is not told that the client has ended it")
	}
	assert.Equal(t, 404, s.Take(t.Context(), order(2, "GET", "/timeouts", "")).Status)
}

// slow is a carrier whose commands wait for the test, but for those that go beside.
type slow struct{ goes chan struct{} }

func (s slow) Ended() bool                     { return false }
func (s slow) Beside(q remoteend.Request) bool { return q.Path == "/session/ebb/watch" }
func (s slow) Do(ctx context.Context, q remoteend.Request) remoteend.Response {
	if !s.Beside(q) {
		<-s.goes
	}
	return remoteend.Response{Status: 200, Body: []byte(q.Path)}
}

func TestWhatGoesBesideWaitsForNoCommand(t *testing.T) {
	c := slow{make(chan struct{})}
	s := New(t.Context(), slog.Default(), c)
	first := make(chan hostlink.Result, 1)
	go func() { first <- s.Take(t.Context(), order(1, "GET", "/tree", "")) }()
	r := s.Take(t.Context(), order(2, "POST", "/watch", ""))
	assert.Equal(t, "/session/ebb/watch", string(r.Piece))
	close(c.goes)
	assert.Equal(t, "/session/ebb/tree", string((<-first).Piece))
}

// watched is a session beside which people are.
type watched struct {
	Carrier
	hold chan struct{}
}

func (w watched) Beside(q remoteend.Request) bool { return q.Path == "/session/ebb/hands/look" }

func (w watched) Do(ctx context.Context, q remoteend.Request) remoteend.Response {
	if w.Beside(q) {
		<-w.hold
		return remoteend.Plain(200, nil)
	}
	return w.Carrier.Do(ctx, q)
}

func TestPeopleBesideASessionTakeNoPlaceOfItsClient(t *testing.T) {
	end := watched{remoteend.New(remoteend.Config{ID: "ebb", Timeouts: w3c.DefaultTimeouts(), Notes: quiet{}}), make(chan struct{})}
	s := New(t.Context(), slog.Default(), end)
	for i := range maxBeside {
		require.NotNil(t, s.find(order(i, "GET", "/hands/look", "")))
	}
	assert.Contains(t, s.Take(t.Context(), order(maxBeside, "GET", "/hands/look", "")).Problem, "wait already")
	time.Sleep(30 * time.Millisecond)
	assert.GreaterOrEqual(t, s.Idle(), 25*time.Millisecond, "who looks on does not keep it from being silent")
	for i := range 3 * maxWaiting {
		assert.Equal(t, 200, s.Take(t.Context(), order(1000+i, "GET", "/timeouts", "")).Status)
	}
	close(end.hold)
	assert.Eventually(t, func() bool { return s.Take(t.Context(), order(2000, "GET", "/hands/look", "")).Status == 200 }, 10*time.Second, time.Millisecond, "there is room again")
}
