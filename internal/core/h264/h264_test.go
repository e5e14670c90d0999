package h264

import (
	"encoding/binary"
	"fmt"
	"os/exec"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// film makes a stream of so many pictures with a real encoder.
func film(t testing.TB, w, h, pictures int, more ...string) []byte {
	t.Helper()
	args := append([]string{"-v", "error", "-f", "lavfi", "-i", "testsrc2=size=" + size(w, h) + ":rate=10", "-frames:v", strconv.Itoa(pictures), "-c:v", "libx264", "-preset", "ultrafast", "-g", "5", "-bf", "0"}, more...)
	raw, err := exec.Command("ffmpeg", append(args, "-f", "h264", "-")...).Output()
	require.NoError(t, err)
	return raw
}

func size(w, h int) string { return fmt.Sprintf("%dx%d", w, h) }

// split takes a stream apart that comes in pieces of n bytes, a millisecond each.
func split(t testing.TB, raw []byte, n int) (all []Picture) {
	t.Helper()
	var s Splitter
	for at := 0; at < len(raw); at += n {
		whole, err := s.Feed(raw[at:min(at+n, len(raw))], int64(at))
		require.NoError(t, err)
		all = append(all, whole...)
	}
	return append(all, s.End(false)...)
}

func TestAStreamIsTakenApartHoweverItComes(t *testing.T) {
	raw := film(t, 96, 160, 12, "-x264-params", "slices=3")
	whole := split(t, raw, len(raw))
	require.Len(t, whole, 12)
	for i, p := range whole {
		assert.Equal(t, i%5 == 0, p.Key, i)
		assert.True(t, p.Parameters.Whole())
		units := 0
		for rest := p.Units; len(rest) > 0; units++ {
			rest = rest[4+binary.BigEndian.Uint32(rest):]
		}
		assert.Equal(t, 3, units, "each picture has its three slices")
	}
	for _, n := range []int{1, 2, 3, 7, 1000} {
		pieces := split(t, raw, n)
		require.Len(t, pieces, 12, "in pieces of %d", n)
		last := int64(-1)
		for i, p := range pieces {
			assert.Equal(t, whole[i].Units, p.Units)
			assert.Greater(t, p.At, last, "its moment is when it began to come")
			last = p.At
			p.At = whole[i].At
		}
	}
	text := append([]byte("\nERROR: unable to do this: 0\x00"), raw...)
	assert.Len(t, split(t, text, 5), 12, "what stands before it is left out")
	assert.Len(t, split(t, raw[len(raw)/2:], 64), len(split(t, raw[len(raw)/2:], 9)), "one that begins in its middle")
	assert.Empty(t, split(t, []byte("inaccessible or not found"), 4))
}

func TestAStreamHasBegunWithItsFirstKeyPicture(t *testing.T) {
	raw := film(t, 96, 160, 1)
	var s Splitter
	for i := range raw {
		_, err := s.Feed(raw[i:i+1], 0)
		require.NoError(t, err)
		if s.Begun() {
			assert.Greater(t, i, 20, "parameter sets are no picture")
			assert.Less(t, i, len(raw)-1, "though there is no end in sight")
			return
		}
	}
	t.Fatal("it never began")
}

func TestWhatIsHalfThereIsLeftOut(t *testing.T) {
	raw := film(t, 96, 160, 3, "-x264-params", "slices=3")
	for n := range raw {
		var s Splitter
		got, err := s.Feed(raw[:n], 0)
		require.NoError(t, err)
		got = append(got, s.End(true)...)
		for i, p := range split(t, raw, len(raw))[:len(got)] {
			require.Equal(t, p.Units, got[i].Units, "of the first %d bytes", n)
		}
	}
}

func TestParametersSayHowLargePicturesAre(t *testing.T) {
	for _, x := range []struct {
		w, h int
		more []string
	}{
		{544, 1200, nil}, {540, 1178, nil}, {96, 160, []string{"-profile:v", "baseline"}}, {102, 66, []string{"-pix_fmt", "yuv444p"}}, {102, 66, []string{"-pix_fmt", "yuv422p"}}, {64, 64, []string{"-x264-params", "cqm=jvt:interlaced=1"}},
	} {
		p := split(t, film(t, x.w, x.h, 1, x.more...), 100)[0].Parameters
		w, h, err := p.Size()
		require.NoError(t, err)
		assert.Equal(t, size(x.w, x.h), size(w, h), x.more)
		assert.Equal(t, byte(1), p.Record()[0])
		_, _, err = Parameters{Sequence: p.Sequence[:6]}.Size()
		assert.Error(t, err)
	}
}

func TestWhatDoesNotEndIsGivenUp(t *testing.T) {
	var s Splitter
	_, err := s.Feed([]byte{0, 0, 1, 0x65, 0x88}, 0)
	require.NoError(t, err)
	junk := make([]byte, 1<<20)
	for i := range junk {
		junk[i] = 0xAA
	}
	for range 9 {
		_, err = s.Feed(junk, 0)
	}
	assert.ErrorIs(t, err, ErrTooLarge)
}

func FuzzStreams(f *testing.F) {
	f.Add(film(f, 96, 160, 3), 7)
	f.Add([]byte{0, 0, 1, 0x67, 1, 2, 3, 4, 0, 0, 1, 0x65, 0x80}, 1)
	f.Fuzz(func(t *testing.T, raw []byte, n int) {
		if n < 1 || len(raw)/n > 10_000 {
			return
		}
		whole, pieces := split(t, raw, max(len(raw), 1)), split(t, raw, n)
		require.Len(t, pieces, len(whole))
		for i := range whole {
			require.Equal(t, whole[i].Units, pieces[i].Units)
			if whole[i].Parameters.Whole() {
				whole[i].Parameters.Record()
			}
			_, _, _ = whole[i].Parameters.Size()
		}
	})
}
