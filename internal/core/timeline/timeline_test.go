package timeline

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEventsComeBackInOrderAndNumbered(t *testing.T) {
	var buf bytes.Buffer
	w := NewWriter(&buf)
	for _, e := range []Event{{At: 0, Kind: Stage, Name: "preparing"}, {At: 12, Kind: Command, Name: "tap", Args: map[string]string{"x": "3"}, Took: 5}} {
		_, err := w.Append(e)
		require.NoError(t, err)
	}
	buf.WriteString(`{"seq":3,"at":20,"ki`) // the writer was killed here
	var got []Event
	require.NoError(t, Read(&buf, func(e Event) error { got = append(got, e); return nil }))
	require.Len(t, got, 2)
	assert.Equal(t, 2, got[1].Seq)
	assert.Equal(t, "3", got[1].Args["x"])
}

func TestReadRefusesWhatIsNoTimeline(t *testing.T) {
	assert.ErrorContains(t, Read(strings.NewReader("hello\n"), nil), "line 1 is no event")
	assert.ErrorContains(t, Read(strings.NewReader(strings.Repeat("x", maxLine+10)), nil), "longer than")
}

func TestAlignTrustsTheQuickestAnswer(t *testing.T) {
	device := time.Date(2031, 5, 6, 7, 8, 9, 0, time.UTC)
	zero, doubt, err := Align(
		Sample{Before: 100 * time.Millisecond, After: 900 * time.Millisecond, Device: device.Add(9 * time.Hour)},
		Sample{Before: 1000 * time.Millisecond, After: 1010 * time.Millisecond, Device: device})
	require.NoError(t, err)
	assert.Equal(t, 5*time.Millisecond, doubt)
	assert.Equal(t, device.Add(-1005*time.Millisecond), zero)
	_, _, err = Align()
	assert.Error(t, err)
}
