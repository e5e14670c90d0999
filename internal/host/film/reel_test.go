package film

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/color"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/phone"
)

// projector is a phone that films its screen: each film is a real one of pictures of one colour, which the test sends on.
type projector struct {
	t    *testing.T
	mu   sync.Mutex
	all  []*reeled
	size string
	no   error // instead of a film
	one  bool  // it makes one at a time
	come chan *reeled
}

type reeled struct {
	*io.PipeReader
	w      *io.PipeWriter
	shots  [][]byte
	closed chan struct{}
	once   sync.Once
}

func (r *reeled) Close() error {
	r.once.Do(func() { close(r.closed) })
	return r.PipeReader.Close()
}

// show sends the next picture.
func (r *reeled) show() {
	_, _ = r.w.Write(r.shots[0])
	r.shots = r.shots[1:]
}

func newProjector(t *testing.T) *projector {
	return &projector{t: t, size: "96x160", come: make(chan *reeled, 10)}
}

func (p *projector) Film(context.Context, int, int) (io.ReadCloser, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.no != nil {
		return nil, p.no
	}
	if p.one && len(p.all) > 0 {
		select {
		case <-p.all[len(p.all)-1].closed:
		default:
			return nil, &phone.Refused{Doing: "film its screen", Why: "one film at a time"}
		}
	}
	raw, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc2=rate=10:size="+p.size, "-frames:v", "9", "-c:v", "libx264", "-preset", "ultrafast", "-tune", "zerolatency", "-x264-params", "aud=1", "-f", "h264", "-").Output()
	require.NoError(p.t, err)
	r := &reeled{closed: make(chan struct{})}
	r.PipeReader, r.w = io.Pipe()
	// Each begins with a unit that says so.
	for _, shot := range bytes.Split(raw, []byte{0, 0, 0, 1, 9})[1:] {
		r.shots = append(r.shots, append([]byte{0, 0, 0, 1, 9}, shot...))
	}
	p.all = append(p.all, r)
	p.come <- r
	return r, nil
}

// rolling is a reel that rolls until the test stops it.
type rolling struct {
	*Film
	clock int64
	asked int // how often the clock was
	mu    sync.Mutex
	said  []string
	stop  func()
	t     *testing.T
}

func roll(t *testing.T, p *projector, every time.Duration) *rolling {
	f, err := New(t.TempDir(), nil, nil, nil, nil)
	require.NoError(t, err)
	r := &rolling{Film: f, t: t}
	f.reel = newReel(f.dir, p, func(time.Time) int64 {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.asked++
		return r.clock
	}, nil, func(why string) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.said = append(r.said, why)
	})
	f.reel.every = every
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.reel.roll(ctx)
	}()
	r.stop = func() {
		cancel()
		<-done
	}
	t.Cleanup(r.stop)
	return r
}

// at shows a picture of a film at a moment, and waits until it is there.
func (r *rolling) at(ms int64, film *reeled) {
	r.t.Helper()
	r.mu.Lock()
	r.clock = ms
	asked := r.asked
	r.mu.Unlock()
	film.show()
	require.Eventually(r.t, func() bool { // it is taken in as one
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.asked > asked
	}, 30*time.Second, time.Millisecond)
}

// times are those of the video's pictures, in s, and how long it lasts.
func (r *rolling) times(end int64) (times []string, lasts float64) {
	r.t.Helper()
	out := filepath.Join(r.t.TempDir(), "v.mp4")
	require.NoError(r.t, r.Encode(context.Background(), out, end))
	text, err := exec.Command("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "packet=pts_time", "-of", "csv=p=0", out).Output()
	require.NoError(r.t, err)
	for _, l := range strings.Fields(string(text)) {
		times = append(times, strings.Trim(l, ",")[:5])
	}
	text, err = exec.Command("ffprobe", "-v", "error", "-show_entries", "format=duration", "-of", "csv=p=0", out).Output()
	require.NoError(r.t, err)
	text2, err := exec.Command("ffmpeg", "-v", "error", "-i", out, "-f", "null", "-").CombinedOutput()
	require.NoError(r.t, err)
	require.NotContains(r.t, string(text2), "h264", "it can be decoded to its end")
	return times, number(r.t, string(text))
}

func TestAFilmOfTheDevicesOwnIsTakenAsItIs(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	film := <-p.come
	for _, ms := range []int64{400, 1043, 1044, 9000} {
		r.at(ms, film)
	}
	assert.True(t, r.reel.filming())
	r.AddPNG(2000, plain(t, 96, 160, color.White))
	r.rest()
	assert.NotNil(t, r.shown, "those who watch see pictures")
	assert.Empty(t, r.frames, "the video needs none")
	r.stop()
	<-film.closed
	r.AddPNG(9500, plain(t, 96, 160, color.Black)) // taken before the end, developed behind it
	times, lasts := r.times(60_000)
	assert.Equal(t, []string{"0.000", "1.043", "1.044", "9.000"}, times, "the first stands from the beginning, the last came with the end")
	assert.InDelta(t, 60, lasts, 0.001)
	assert.NoDirExists(t, r.dir)
	assert.Empty(t, r.said)
	require.NoError(t, r.Close())
	assert.ErrorIs(t, r.reel.pieces[0].file.Close(), os.ErrClosed, "its files are let go of")
}

func TestAPictureThatOnlyWatchersMissLeavesTheVideoWhole(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	r.at(100, <-p.come)
	r.AddPNG(200, []byte("no picture"))
	r.stop()
	require.NoError(t, r.Close())
}

func TestFilmsAreAMadeIntoOneWithoutAGap(t *testing.T) {
	for name, one := range map[string]bool{"two at a time": false, "one at a time": true} {
		t.Run(name, func(t *testing.T) {
			p := newProjector(t)
			p.one = one
			r := roll(t, p, 300*time.Millisecond)
			first := <-p.come
			r.at(100, first)
			r.at(5000, first)
			if one { // it ends by itself, as a device does after three minutes
				time.Sleep(500 * time.Millisecond)
				_ = first.w.Close()
			}
			second := <-p.come
			r.at(6000, second)
			<-first.closed
			r.at(7000, second)
			r.stop()
			times, lasts := r.times(8000)
			assert.Equal(t, []string{"0.000", "5.000", "6.000", "7.000"}, times)
			assert.InDelta(t, 8, lasts, 0.001)
			assert.Len(t, r.reel.pieces, 1, "what is alike is one")
		})
	}
}

func TestWhatTheDeviceDoesNotFilmIsOfPictures(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	first := <-p.come
	r.at(100, first)
	r.at(1000, first)
	p.mu.Lock()
	p.size = "160x96" // as one that was folded
	p.mu.Unlock()
	_ = first.w.CloseWithError(errors.New("the encoder broke"))
	second := <-p.come
	assert.Eventually(t, func() bool { return !r.reel.filming() }, 5*time.Second, time.Millisecond)
	red, blue := plain(t, 96, 160, color.RGBA{200, 0, 0, 255}), plain(t, 96, 160, color.RGBA{0, 0, 200, 255})
	r.AddPNG(2000, red)
	r.AddPNG(4000, blue)
	r.rest()
	r.at(6000, second)
	r.at(7000, second)
	r.stop()
	times, lasts := r.times(10_000)
	for _, want := range []string{"0.000", "1.000", "2.000", "4.000", "6.000", "7.000"} {
		assert.Contains(t, times, want)
	}
	assert.InDelta(t, 10, lasts, 3.1, "what stands at its end may be missing where it is put together")
}

func TestADeviceThatFilmsNoMoreSaysSoOnce(t *testing.T) {
	p := newProjector(t)
	p.no = &phone.Refused{Doing: "film its screen", Why: "it has no encoder"}
	r := roll(t, p, time.Hour)
	<-r.reel.begun // nobody waits in vain
	assert.Eventually(t, func() bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		return len(r.said) == 1 && strings.Contains(r.said[0], "it has no encoder")
	}, 5*time.Second, time.Millisecond)
	r.AddPNG(100, plain(t, 96, 160, color.White))
	r.stop()
	times, _ := r.times(2000)
	assert.Equal(t, "0.000", times[0])

	p = newProjector(t)
	r = roll(t, p, time.Hour)
	for range maxShort { // it dies again and again
		film := <-p.come
		r.at(100, film)
		_ = film.w.CloseWithError(errors.New("the encoder broke"))
	}
	assert.Eventually(t, func() bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		return fmt.Sprint(r.said) == "[the encoder broke]"
	}, 5*time.Second, time.Millisecond)
	assert.False(t, r.reel.filming())
}

func TestAFilmOfADeviceThatWentAwayIsKept(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	film := <-p.come
	r.at(100, film)
	r.at(2000, film)
	half := film.shots[0][:len(film.shots[0])/2]
	_, _ = film.w.Write(half)
	_ = film.w.CloseWithError(&phone.Lost{Serial: "x", Doing: "film its screen", Err: io.ErrUnexpectedEOF})
	r.stop()
	times, _ := r.times(4000)
	assert.Equal(t, []string{"0.000", "2.000"}, times, "half a picture is none")
}
