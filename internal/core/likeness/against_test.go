package likeness

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func plate(w, h int) *image.RGBA {
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.Draw(m, m.Bounds(), image.NewUniform(color.RGBA{250, 250, 250, 255}), image.Point{}, draw.Src)
	return m
}

func box(m *image.RGBA, r image.Rectangle, grey uint8) *image.RGBA {
	draw.Draw(m, r, image.NewUniform(color.RGBA{grey, grey, grey, 255}), image.Point{}, draw.Src)
	return m
}

func TestWhatMovedIsMarkedAndSmoothedEdgesAreForgiven(t *testing.T) {
	// A button with an edge that lies between two pixels: one that is smoothed otherwise.
	button := func(x int, edge uint8) *image.RGBA {
		return box(box(plate(320, 640), image.Rect(x, 300, x+80, 340), 40), image.Rect(x+80, 300, x+81, 340), edge)
	}
	m, err := Against(button(100, 200), button(100, 90), 1, nil)
	require.NoError(t, err)
	assert.Empty(t, m.Regions, "an edge that is smoothed otherwise")
	assert.Zero(t, m.Share)

	m, err = Against(button(100, 200), button(101, 200), 1, nil)
	require.NoError(t, err)
	assert.Empty(t, m.Regions, "one pixel beside")

	m, err = Against(button(100, 200), button(140, 200), 1, nil)
	require.NoError(t, err)
	require.Len(t, m.Regions, 2, "where it was, and where it is")
	assert.Equal(t, image.Rect(96, 296, 144, 344), m.Regions[0].Union(image.Rectangle{}).Intersect(image.Rect(96, 296, 144, 344)))
	assert.InDelta(t, 80.0*40/(320*616), m.Share, 0.002)

	m, err = Against(button(100, 200), button(140, 200), 1, []image.Rectangle{{Min: image.Pt(90, 290), Max: image.Pt(240, 350)}})
	require.NoError(t, err)
	assert.Empty(t, m.Regions, "what is masked is not looked at")

	clock := box(plate(320, 640), image.Rect(10, 4, 50, 18), 0)
	m, err = Against(plate(320, 640), clock, 1, nil)
	require.NoError(t, err)
	assert.Empty(t, m.Regions, "the status bar is the system's")

	_, err = Against(plate(320, 640), plate(320, 641), 1, nil)
	assert.ErrorIs(t, err, ErrOtherSize)
}

func TestAPictureThatIsNoneIsSaid(t *testing.T) {
	_, err := Decode([]byte("not a picture"))
	assert.ErrorIs(t, err, ErrNoPicture)
	var huge bytes.Buffer
	require.NoError(t, png.Encode(&huge, image.NewGray(image.Rect(0, 0, 8000, 5000))))
	_, err = Decode(huge.Bytes())
	assert.ErrorContains(t, err, "8000 × 5000 pixels, more than 32 million")
}

func TestStacksHaveTheOddOnesFirst(t *testing.T) {
	usual, odd := box(plate(360, 640), image.Rect(40, 200, 140, 220), 0), box(plate(360, 640), image.Rect(40, 200, 140, 240), 0)
	box(odd, image.Rect(40, 300, 90, 360), 0)
	stacks := Stacks([]Print{Of(usual, 1, image.Rectangle{}), Of(odd, 1, image.Rectangle{}), Of(usual, 1, image.Rectangle{}), {}})
	require.Len(t, stacks, 3)
	assert.Equal(t, []int{0, 2}, stacks[2].Of)
	assert.Zero(t, stacks[2].Apart)
	assert.ElementsMatch(t, []int{1, 3}, []int{stacks[0].Of[0], stacks[1].Of[0]})
	assert.Empty(t, Stacks(nil))
}

func TestAPictureOfNothingOrOfNoiseHasAPrint(t *testing.T) {
	assert.Empty(t, Of(plate(1, 1), 3, image.Rectangle{}).Parts)
	assert.Empty(t, Of(plate(300, 300), 0, image.Rectangle{}).Parts)
	noise := image.NewRGBA(image.Rect(0, 0, 700, 700))
	x := uint32(1)
	for i := range noise.Pix {
		x = x*1664525 + 1013904223
		noise.Pix[i] = byte(x >> 24)
	}
	p := Of(noise, 1, image.Rectangle{})
	assert.LessOrEqual(t, len(p.Parts), maxParts)
	assert.True(t, Compare(p, p).Alike)
}
