package record

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// still is a phone that shows one picture.
type still struct {
	phone.Phone
	png []byte
}

func (s still) Screenshot(context.Context) ([]byte, error) { return s.png, nil }

func picture(t *testing.T, w, h int) []byte {
	t.Helper()
	var buf bytes.Buffer
	require.NoError(t, png.Encode(&buf, image.NewNRGBA(image.Rect(0, 0, w, h))))
	return buf.Bytes()
}

func looked(t *testing.T) (*Timeline, *Looks, string) {
	t.Helper()
	dir := t.TempDir()
	r, err := NewTimeline(dir, still{}, recording.Usual(), masking.New([]string{"ebb-and-flow-4711"}), nil)
	require.NoError(t, err)
	facts := devices.Facts{Maker: "Orrery", Model: "Skerry 5", OS: "14", Density: 320, Language: "en"}
	l := NewLooks(dir, slog.New(slog.DiscardHandler), r, "org.kelpline.app", func() devices.Facts { return facts }, conditions.Set{conditions.FontScale: "1.3"}, nil, nil)
	require.NoError(t, err)
	return r, l, dir
}

func small(text string) *uitree.Screen {
	return &uitree.Screen{Elements: []*uitree.Element{{Kind: "group", App: "org.kelpline.app", Bounds: uitree.Rect{Right: 200, Bottom: 400}, Children: []*uitree.Element{
		{Kind: "button", Text: text, App: "org.kelpline.app", Clickable: true, Enabled: true, Bounds: uitree.Rect{Left: 10, Top: 10, Right: 40, Bottom: 40}}}}}}
}

func TestLooksAreOfTheirStepAndKeepSecrets(t *testing.T) {
	r, l, dir := looked(t)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error)
	go func() { done <- l.Record(ctx) }()
	n := Notes{R: r, P: still{png: picture(t, 200, 400)}}
	require.NoError(t, n.Step(ctx, "before any case", "", small("x"), false))
	for try := range 2 {
		r.InCase("shore.test_a")
		e := timeline.Event{Kind: timeline.Case, Name: "shore.test_a"}
		if try > 0 {
			e.Args = map[string]string{"try": "2"}
		}
		r.Note(e)
		require.NoError(t, n.Step(ctx, "review ebb-and-flow-4711", "a.star:3", small("the code is ebb-and-flow-4711"), false))
		require.NoError(t, n.Step(ctx, "review ebb-and-flow-4711", "a.star:4", nil, false))
	}
	found := l.Found("shore.test_a", 2, 10*time.Second)
	require.Len(t, found, 1)
	assert.Equal(t, remarks.Small, found[0].Kind)
	stop()
	require.NoError(t, <-done)
	require.NoError(t, l.Close())
	raw, err := os.ReadFile(filepath.Join(dir, tracks.Looks))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "4711")
	var got []string
	require.NoError(t, steps.ReadLooks(bytes.NewReader(raw), func(k steps.Look, _, _ int64) error {
		got = append(got, k.Case+" "+k.Step)
		assert.Equal(t, "Orrery Skerry 5, Android 14, 200 × 400, 320 dpi, en, font scale 1.3", k.Kind)
		assert.NotNil(t, k.Print)
		return nil
	}))
	assert.Len(t, got, 4, "a step outside of cases is nobody's")
}

func TestWhatComesTooFastIsLeftOutAndThatIsSaid(t *testing.T) {
	r, l, dir := looked(t)
	r.InCase("a")
	r.Note(timeline.Event{Kind: timeline.Case, Name: "a"})
	n := Notes{R: r, P: still{png: picture(t, 20, 40)}}
	for range maxMoments + 3 {
		require.NoError(t, n.Step(t.Context(), "again", "", nil, false))
	}
	require.NoError(t, l.Close(), "what waits is looked at before the end")
	require.NoError(t, r.Close())
	raw, err := os.ReadFile(filepath.Join(dir, tracks.Timeline))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "3 steps came faster than their pictures could be read")
	assert.Zero(t, allBytes.Load())
}

func TestAPictureThatIsNoneBreaksTheLooksAndNoStep(t *testing.T) {
	r, l, _ := looked(t)
	r.InCase("a")
	r.Note(timeline.Event{Kind: timeline.Case, Name: "a"})
	require.NoError(t, Notes{R: r, P: still{png: []byte("no picture")}}.Step(t.Context(), "s", "", nil, false))
	assert.ErrorContains(t, l.Close(), "no picture that can be compared")
}

func TestAStepIsHeldAgainstItsReference(t *testing.T) {
	r, l, _ := looked(t)
	r.InCase("a")
	r.Note(timeline.Event{Kind: timeline.Case, Name: "a"})
	same := picture(t, 200, 400)
	n := Notes{R: r, P: still{png: same}}
	require.NoError(t, n.Step(t.Context(), "review", "a.star:1", nil, true), "where there is none, that is said alone")
	ref := steps.Reference{ID: "r1", Case: "a", Step: "review", Nth: 2, Kind: "Orrery Skerry 5, Android 14, 200 × 400, 320 dpi, en, font scale 1.3", SHA256: "not this one", Allowed: steps.UsualAllowed}
	var zipped bytes.Buffer
	require.NoError(t, steps.WriteReferences(&zipped, []steps.Reference{ref}, func(steps.Reference) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(same)), nil }))
	var err error
	l.refs, err = steps.ReadReferences(bytes.NewReader(zipped.Bytes()), int64(zipped.Len()))
	require.NoError(t, err)
	var fails *script.Failure
	require.ErrorAs(t, n.Step(t.Context(), "review", "a.star:1", nil, true), &fails, "a reference that did not come whole is none that a step is like")
	assert.Equal(t, "the reference's picture did not come as it was kept", fails.Actual)
	assert.Equal(t, "at most 0.01 % of the picture differs", fails.Expected)
	require.NoError(t, l.Close())
}
