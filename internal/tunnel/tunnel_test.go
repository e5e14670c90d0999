package tunnel

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/hashicorp/yamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// echo is a server that answers what it was sent, when its client has sent all.
func echo(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				all, _ := io.ReadAll(c)
				_, _ = c.Write(all)
			}()
		}
	}()
	return l.Addr().String()
}

// through opens a tunnel, whose server 0 echoes; 1 is not there; 2 never answers. Ended gives why the far end has ended.
func through(t *testing.T) (near *Near, cut func(), ended <-chan error) {
	t.Helper()
	a, b := net.Pipe()
	near, err := NewNear(a)
	require.NoError(t, err)
	at := echo(t)
	done := make(chan error, 1)
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		done <- Serve(ctx, b, func(ctx context.Context, n byte) (net.Conn, error) {
			switch n {
			case 0:
				var d net.Dialer
				return d.DialContext(ctx, "tcp", at)
			case 2:
				<-ctx.Done()
				return nil, ctx.Err()
			}
			return nil, errors.New("nobody listens there: " + strings.Repeat("é", 300))
		})
	}()
	t.Cleanup(func() { cancel(); _ = near.Close(); _ = b.Close() })
	return near, func() { _ = b.Close() }, done
}

func TestConnectionsGoThroughATunnel(t *testing.T) {
	near, _, _ := through(t)
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			c, err := near.Connect(t.Context(), 0)
			if !assert.NoError(t, err) {
				return
			}
			defer c.Close()
			sent := bytes.Repeat([]byte{byte(i)}, 100_000+i)
			go func() {
				_, _ = c.Write(sent)
				_ = c.CloseWrite() // and then the answer comes
			}()
			got, err := io.ReadAll(c)
			assert.NoError(t, err)
			assert.Equal(t, sha256.Sum256(sent), sha256.Sum256(got))
		})
	}
	all.Wait()
}

func TestWhyAServerCanNotBeReachedIsSaid(t *testing.T) {
	near, cut, ended := through(t)
	_, err := near.Connect(t.Context(), 1)
	var no *Refused
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Why, "nobody listens there: éé")
	assert.LessOrEqual(t, len(no.Why), maxWhy)

	// Who waits for one that does not answer can give up, and holds nobody up.
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err = near.Connect(ctx, 2)
	require.Error(t, err)
	assert.Less(t, time.Since(begun), 5*time.Second)
	c, err := near.Connect(t.Context(), 0)
	require.NoError(t, err)

	// A tunnel that is cut ends all that goes through it, at both ends.
	cut()
	_, err = io.ReadAll(c)
	assert.Error(t, err)
	select {
	case <-near.Gone():
	case <-time.After(20 * time.Second):
		t.Fatal("the near end did not notice")
	}
	assert.Error(t, <-ended)
	_, err = near.Connect(t.Context(), 0)
	assert.Error(t, err)
}

func TestNoMoreConnectionsThanMayBe(t *testing.T) {
	near, _, _ := through(t)
	var open []Conn
	for range Most {
		c, err := near.Connect(t.Context(), 0)
		require.NoError(t, err)
		open = append(open, c)
	}
	_, err := near.Connect(t.Context(), 0)
	require.ErrorContains(t, err, "512 connections are open already")
	for _, c := range open {
		_ = c.CloseWrite()
		_, err := io.ReadAll(c)
		require.NoError(t, err)
		_ = c.Close()
	}
	_, err = near.Connect(t.Context(), 0)
	assert.NoError(t, err, "there is room again")
}

func TestWhatIsNoTunnelEndsIt(t *testing.T) {
	x, y := net.Pipe()
	near, err := NewNear(x)
	require.NoError(t, err)
	other, err := yamux.Server(y, config())
	require.NoError(t, err)
	defer other.Close()
	_, _ = other.OpenStream() // the far end asks
	select {
	case <-near.Gone():
	case <-time.After(20 * time.Second):
		t.Fatal("it goes on")
	}
	a, b := net.Pipe()
	done := make(chan error, 1)
	go func() { done <- Serve(t.Context(), b, nil) }()
	go func() { _, _ = io.Copy(io.Discard, a) }()
	_, err = a.Write([]byte("GET / HTTP/1.1\r\nHost: a\r\n\r\n"))
	require.NoError(t, err)
	assert.Error(t, <-done)
}
