package film

import (
	"bytes"
	"context"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func plain(t *testing.T, w, h int, c color.Color) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.Set(x, y, c)
		}
	}
	var buf bytes.Buffer
	require.NoError(t, png.Encode(&buf, img))
	return buf.Bytes()
}

// shoot makes a film of pictures at given times (ms) and develops them.
func shoot(t *testing.T, at []int64, pictures ...[]byte) *Film {
	t.Helper()
	f, err := New(t.TempDir(), nil, nil, nil, nil)
	require.NoError(t, err)
	for i, p := range pictures {
		f.AddPNG(at[i], p)
	}
	f.rest()
	return f
}

func TestAFilmKeepsDistinctPicturesInOrder(t *testing.T) {
	red, blue := plain(t, 60, 120, color.RGBA{200, 0, 0, 255}), plain(t, 60, 120, color.RGBA{0, 0, 200, 255})
	f := shoot(t, []int64{10, 20, 30, 25, 40}, red, red, blue, red, blue)
	require.Len(t, f.frames, 2, "what is as the one before, and what came too late, is left out")
	assert.Equal(t, []int64{10, 30}, []int64{f.frames[0].at, f.frames[1].at})
	assert.Equal(t, image.Pt(60, 120), f.size, "a small screen is not blown up")
	big := shoot(t, []int64{1}, plain(t, 1080, 2401, color.White))
	assert.Equal(t, image.Pt(540, 1200), big.size, "540 wide, and even")
	bad := shoot(t, []int64{1}, []byte("no picture"))
	assert.Empty(t, bad.frames)
	assert.Error(t, bad.Encode(context.Background(), filepath.Join(t.TempDir(), "v.mp4"), 10))
}

func TestAVideosTimeIsTheAttempts(t *testing.T) {
	red, green, blue := plain(t, 60, 120, color.RGBA{220, 0, 0, 255}), plain(t, 60, 120, color.RGBA{0, 160, 0, 255}), plain(t, 60, 120, color.RGBA{0, 0, 220, 255})
	f := shoot(t, []int64{137, 1043, 1999}, red, green, blue)
	out := filepath.Join(t.TempDir(), "v.mp4")
	require.NoError(t, f.Encode(context.Background(), out, 5000))
	text, err := exec.Command("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "packet=pts_time", "-of", "csv=p=0", out).Output()
	require.NoError(t, err)
	var times []string
	for _, l := range strings.Fields(string(text)) {
		times = append(times, strings.Trim(l, ",")[:5])
	}
	require.GreaterOrEqual(t, len(times), 3)
	assert.Equal(t, []string{"0.000", "1.043", "1.999"}, times[:3], "the first picture stands from the beginning")
	text, err = exec.Command("ffprobe", "-v", "error", "-show_entries", "format=duration", "-of", "csv=p=0", out).Output()
	require.NoError(t, err)
	assert.InDelta(t, 5.0, number(t, string(text)), 0.1)
	// What is red on the phone is red in the video.
	pixel, err := exec.Command("ffmpeg", "-v", "error", "-i", out, "-frames:v", "1", "-vf", "crop=2:2:30:60", "-f", "rawvideo", "-pix_fmt", "rgb24", "-").Output()
	require.NoError(t, err)
	assert.InDelta(t, 220, float64(pixel[0]), 12)
	assert.InDelta(t, 0, float64(pixel[1]), 12)
	_, err = os.Stat(f.dir)
	assert.True(t, os.IsNotExist(err), "the frames are gone")
}

func number(t *testing.T, s string) float64 {
	t.Helper()
	d, err := time.ParseDuration(strings.TrimSpace(s) + "s")
	require.NoError(t, err)
	return d.Seconds()
}

func TestAFilmNeverMakesACallerWait(t *testing.T) {
	f, err := New(t.TempDir(), nil, nil, nil, nil)
	require.NoError(t, err)
	p := plain(t, 4, 8, color.White)
	start := time.Now()
	for i := range 1000 { // nobody develops them
		f.AddPNG(int64(i), p)
		f.Poke()
	}
	assert.Less(t, time.Since(start), time.Second)
}
