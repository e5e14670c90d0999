package bus

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ends makes both ends of a stream.
func ends(t *testing.T, b Bus) (one, other *Stream) {
	t.Helper()
	one, err := NewStream(b, "up", "down")
	require.NoError(t, err)
	t.Cleanup(func() { _ = one.Close() })
	other, err = NewStream(b, "down", "up")
	require.NoError(t, err)
	t.Cleanup(func() { _ = other.Close() })
	return one, other
}

func TestAStreamCarriesBothWaysInOrder(t *testing.T) {
	both(t, func(t *testing.T, b Bus) {
		one, other := ends(t, b)
		sums := make(chan [32]byte, 4)
		const rounds, most = 20, 300 << 10
		size := func(i int) int { return 1 + (i*7919*37)%most }
		whole := int64(0)
		for i := range rounds {
			whole += int64(size(i))
		}
		send := func(c net.Conn) {
			h := sha256.New()
			buf := make([]byte, most)
			for i := range rounds {
				piece := buf[:size(i)]
				_, _ = rand.Read(piece)
				h.Write(piece)
				if _, err := c.Write(piece); !assert.NoError(t, err) {
					break
				}
			}
			sums <- [32]byte(h.Sum(nil))
		}
		hear := func(c net.Conn) {
			h := sha256.New()
			_, err := io.CopyN(h, c, whole)
			assert.NoError(t, err)
			sums <- [32]byte(h.Sum(nil))
		}
		for _, c := range []net.Conn{one, other} {
			go send(c)
			go hear(c)
		}
		count := map[[32]byte]int{}
		for range 4 {
			select {
			case s := <-sums:
				count[s]++
			case <-time.After(20 * time.Second):
				t.Fatal("it does not come")
			}
		}
		assert.Len(t, count, 2)
		for _, n := range count {
			assert.Equal(t, 2, n, "what was sent is what came")
		}
	})
}

func TestAStreamThatWasOpenedBeforeOthersCouldComeReachesThem(t *testing.T) {
	b := &Lazy{Listen: "127.0.0.1:0", Gate: func(string, string) (bool, bool) { return false, true }}
	defer b.Close()
	ours, err := NewStream(b, Up("bench-1", "x"), Down("bench-1", "x"))
	require.NoError(t, err)
	defer ours.Close()
	address, err := b.Open()
	require.NoError(t, err)
	host, err := Connect("nats://"+address, Secret{"bench-1", "x"}, "bench-1")
	require.NoError(t, err)
	defer host.Close()
	theirs, err := NewStream(host, Down("bench-1", "x"), Up("bench-1", "x"))
	require.NoError(t, err)
	defer theirs.Close()
	for from, to := range map[*Stream]*Stream{ours: theirs, theirs: ours} {
		_, err = from.Write([]byte("tide"))
		require.NoError(t, err)
		require.NoError(t, to.SetReadDeadline(time.Now().Add(10*time.Second)))
		got := make([]byte, 4)
		_, err = io.ReadFull(to, got)
		require.NoError(t, err)
	}
}

func TestWhoIsAheadOfTheReaderWaits(t *testing.T) {
	both(t, func(t *testing.T, b Bus) {
		one, other := ends(t, b)
		require.NoError(t, one.SetWriteDeadline(time.Now().Add(300*time.Millisecond)))
		n, err := one.Write(make([]byte, 3*window))
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
		assert.Equal(t, window, n, "no more than the window is on its way")
		require.NoError(t, one.SetWriteDeadline(time.Time{}))
		done := make(chan error, 1)
		go func() {
			_, err := one.Write(make([]byte, 2*window))
			done <- err
		}()
		_, err = io.ReadFull(other, make([]byte, 3*window))
		require.NoError(t, err)
		require.NoError(t, <-done)
		require.NoError(t, other.SetReadDeadline(time.Now().Add(20*time.Millisecond)))
		_, err = other.Read(make([]byte, 1))
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
	})
}

func TestTheEndOfAStreamAndWhy(t *testing.T) {
	both(t, func(t *testing.T, b Bus) {
		one, other := ends(t, b)
		_, err := one.Write([]byte("last words"))
		require.NoError(t, err)
		require.NoError(t, one.CloseWith("the device went away"))
		require.NoError(t, one.Close())
		got, err := io.ReadAll(other)
		assert.EqualError(t, err, "the device went away")
		assert.Equal(t, "last words", string(got))
		_, err = one.Write([]byte("more"))
		assert.ErrorIs(t, err, net.ErrClosed)
		_, err = other.Write([]byte("more"))
		assert.Error(t, err)
		_, err = one.Read(make([]byte, 1))
		assert.ErrorIs(t, err, net.ErrClosed)
	})
}

func TestWhatGotLostBreaksTheStreamForBoth(t *testing.T) {
	message := func(kind byte, sum uint64, rest string) []byte {
		return append(binary.BigEndian.AppendUint64([]byte{kind}, sum), rest...)
	}
	for name, m := range map[string][]byte{
		"a gap":                 message(streamData, 5, "x"),
		"an end before its day": message(streamEnd, 5, ""),
		"more than the window":  message(streamData, 0, string(make([]byte, window+1))),
	} {
		b := &Local{}
		one, other := ends(t, b)
		b.Publish("down", m)
		_, err := one.Read(make([]byte, 1))
		assert.ErrorIs(t, err, ErrBroken, name)
		_, err = one.Write([]byte("x"))
		assert.ErrorIs(t, err, ErrBroken, name)
		require.NoError(t, other.SetReadDeadline(time.Now().Add(5*time.Second)))
		_, err = other.Read(make([]byte, 1))
		require.ErrorContains(t, err, "broken", name)
	}
	b := &Local{}
	one, _ := ends(t, b)
	for _, m := range [][]byte{nil, {'d'}, message('?', 1, "x"), message(streamRead, 1<<60, ""), message(streamData, 0, "")} {
		b.Publish("down", m) // nonsense changes nothing
	}
	require.NoError(t, one.SetReadDeadline(time.Now().Add(10*time.Millisecond)))
	_, err := one.Read(make([]byte, 1))
	assert.True(t, errors.Is(err, os.ErrDeadlineExceeded))
}
