package routes

import (
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/hostlink"
	"tessellant/internal/tunnel"
)

// stream is one end of a pipe, as a stream.
type stream struct {
	net.Conn
	why atomic.Value
}

func (s *stream) CloseWith(why string) error {
	s.why.CompareAndSwap(nil, why)
	return s.Close()
}

// terminal holds routes open, behind which a server greets by a name.
func terminal(t *testing.T, name string) (*stream, context.CancelFunc) {
	t.Helper()
	here, there := net.Pipe()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go func() {
		_ = tunnel.Serve(ctx, there, func(_ context.Context, n byte) (net.Conn, error) {
			if n == 1 {
				return nil, errors.New("127.0.0.1:9 can't be reached")
			}
			a, b := net.Pipe()
			go func() { _, _ = io.WriteString(b, name); _ = b.Close() }()
			return a, nil
		})
		_ = there.Close()
	}()
	return &stream{Conn: here}, cancel
}

// asks gives what a server says.
func (r *Routes) asks(t *testing.T, address string) (string, error) {
	t.Helper()
	c, err := r.Dial(t.Context(), address)
	if err != nil {
		return "", err
	}
	defer c.Close()
	raw, err := io.ReadAll(c)
	require.NoError(t, err)
	return string(raw), nil
}

func TestRoutesAreOpenedReplacedAndClosed(t *testing.T) {
	r := New()
	assert.False(t, r.Lead("api.kelpline.test:80"))
	assert.True(t, r.Lead("route.test:3000"))
	_, err := r.asks(t, "route.test:3000")
	assert.ErrorContains(t, err, "no route is open from route.test:3000; open it with: tessellant route open")

	waited := make(chan error, 1)
	go func() { waited <- r.Await(t.Context(), []string{"route.test:3000"}, time.Minute) }()
	ada, closeAda := terminal(t, "Ada's")
	require.NoError(t, r.Open(ada, "Ada", []string{"route.test:3000", "api.kelpline.test:80"}))
	require.NoError(t, <-waited)
	got, err := r.asks(t, "Route.test:3000")
	require.NoError(t, err)
	assert.Equal(t, "Ada's", got)
	assert.True(t, r.Lead("API.kelpline.test:80"))
	_, err = r.asks(t, "api.kelpline.test:80")
	assert.ErrorContains(t, err, "is open, but its other end says: 127.0.0.1:9 can't be reached")

	// Nobody else's, but a new terminal of one's own takes the place of the old one.
	ben, _ := terminal(t, "Ben's")
	assert.ErrorContains(t, r.Open(ben, "Ben", []string{"route.test:3000"}), "Ada has a route from route.test:3000 open already")
	again, closeAgain := terminal(t, "Ada's new")
	require.NoError(t, r.Open(again, "Ada", []string{"route.test:3000"}))
	assert.Equal(t, "it was opened anew", ada.why.Load())
	got, err = r.asks(t, "route.test:3000")
	require.NoError(t, err)
	assert.Equal(t, "Ada's new", got)
	assert.Equal(t, []hostlink.Routed{{At: "route.test:3000", By: "Ada"}}, r.List())
	closeAda()

	// One that breaks says so, and what it breaks for how long.
	closeAgain()
	assert.Eventually(t, func() bool { return len(r.List()) == 0 }, 10*time.Second, 5*time.Millisecond)
	_, err = r.asks(t, "route.test:3000")
	assert.ErrorContains(t, err, "the route from route.test:3000 is closed")
	assert.True(t, r.Lead("api.kelpline.test:80"), "nobody is led to the real one in silence")
	assert.ErrorContains(t, r.Await(t.Context(), []string{"route.test:3000"}, time.Millisecond), "no route was opened from route.test:3000 within 1ms")
	r.mu.Lock()
	r.broken["route.test:3000"] = time.Now().Add(-12 * time.Second)
	r.mu.Unlock()
	third, _ := terminal(t, "Ada's third")
	require.NoError(t, r.Open(third, "Ada", []string{"route.test:3000"}))
	r.Close()
	assert.Equal(t, "route.test:3000 for 12s", r.Away([]string{"route.test:3000", "other.test:1"}))
	assert.Equal(t, "the device is given back", third.why.Load())
	late, _ := terminal(t, "late")
	assert.ErrorIs(t, r.Open(late, "Ada", []string{"route.test:1"}), errClosed)
}

func TestNoMoreRoutesThanMayBe(t *testing.T) {
	r := New()
	defer r.Close()
	for i := range 3 {
		s, _ := terminal(t, "x")
		at := make([]string, 8)
		for k := range at {
			at[k] = string(rune('a'+i)) + string(rune('a'+k)) + ".test:1"
		}
		err := r.Open(s, "Ada", at)
		assert.Equal(t, i < 2, err == nil, err)
	}
}
