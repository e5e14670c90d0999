package netprofile

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAProfileIsANameOrNumbers(t *testing.T) {
	for _, p := range Named {
		same, err := Parse(" " + p.Name + " ")
		require.NoError(t, err)
		assert.Equal(t, p, same)
		assert.NotEmpty(t, p.About)
		assert.NotEmpty(t, p.Numbers())
	}
	p, err := Parse("120ms/2000/500/1.5")
	require.NoError(t, err)
	assert.Equal(t, Profile{Name: "120ms/2000/500/1.5", RTT: 120 * time.Millisecond, Down: 2_000_000, Up: 500_000, Loss: 1.5}, p)
	assert.Equal(t, "round trip + 120 ms, down 2 Mbit/s, up 0.5 Mbit/s, loss 1.5 %", p.Numbers())
	p, err = Parse("1s")
	require.NoError(t, err)
	assert.Equal(t, "round trip + 1000 ms, down as it is, up as it is, loss 0 %", p.Numbers())
	p, _ = Parse("0ms//64")
	assert.Equal(t, Profile{Name: "0ms//64", Up: 64_000}, p)
}

func TestAWrongProfileIsSaid(t *testing.T) {
	for text, why := range map[string]string{
		"egde":       `there is no network "egde"; was edge meant? The networks are full, offline, edge, `,
		"":           `there is no network "". The networks are`,
		"20":         `"20" is no time of a round trip`,
		"-5ms":       `"-5ms" is no time of a round trip`,
		"5ms/1":      `"1" is no rate from 8 to 10000000 kbit/s`,
		"5ms/9/9/99": `"99" is no loss from 0 to 50 percent`,
		"1/2/3/4/5":  `has more than RTT/DOWN/UP/LOSS`,
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, why, text)
	}
}
