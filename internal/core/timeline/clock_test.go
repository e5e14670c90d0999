package timeline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAClockThatDriftsAndIsSetIsPlaced(t *testing.T) {
	zero := time.UnixMilli(1_800_000_000_000).UTC()
	var c Clock
	assert.False(t, c.Known())
	for _, e := range []Event{
		Note(0, zero, 2*time.Millisecond, false, 0),
		{Kind: Marker, Name: "else", Args: map[string]string{"device_zero_ms": "1"}},
		Note(60_000, zero.Add(300*time.Millisecond), 5*time.Millisecond, false, 0), // it goes 0.5 % too fast
		Note(70_000, zero.Add(-time.Hour+350*time.Millisecond), 3*time.Millisecond, true, 40),
		Note(80_000, zero.Add(-time.Hour+400*time.Millisecond), 3*time.Millisecond, false, 0),
	} {
		c.Feed(e)
	}
	require.True(t, c.Known())
	assert.Equal(t, 5*time.Millisecond, c.Doubt())
	on := func(line int, at int64, drift time.Duration, set time.Duration) {
		t.Helper()
		got, doubt := c.On(line, zero.Add(time.Duration(at)*time.Millisecond+drift+set))
		assert.InDelta(t, at, got, 2)
		assert.Positive(t, doubt)
	}
	on(0, 0, 0, 0)
	on(10, 30_000, 150*time.Millisecond, 0)
	on(39, 65_000, 300*time.Millisecond, 0)
	on(40, 70_000, 350*time.Millisecond, -time.Hour)
	on(99, 75_000, 375*time.Millisecond, -time.Hour)
	on(99, 90_000, 400*time.Millisecond, -time.Hour)
	at, _ := c.Newest(zero.Add(-time.Hour + 80_400*time.Millisecond))
	assert.Equal(t, int64(80_000), at)
}

func TestNotesOfBeforeAreRead(t *testing.T) {
	var c Clock
	for _, e := range []Event{
		{Kind: Marker, Name: ClockNote, At: 5, Args: map[string]string{"device_zero_ms": "1800000000000", "doubt_ms": "1"}},
		{Kind: Marker, Name: ClockNote, At: 9000, Args: map[string]string{"device_zero_ms": "1800000000000"}},
		{Kind: Marker, Name: ClockNote, At: 9100, Args: map[string]string{"device_zero_ms": "nonsense"}},
	} {
		c.Feed(e)
	}
	at, _ := c.On(3, time.UnixMilli(1_800_000_004_000))
	assert.Equal(t, int64(4000), at)
}
