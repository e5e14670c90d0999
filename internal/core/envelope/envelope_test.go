package envelope

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func ring(t *testing.T, keys ...[]byte) Ring {
	t.Helper()
	r, err := NewRing(keys...)
	require.NoError(t, err)
	return r
}

func TestWhatIsSealedIsOpenedByItsRingAndForItsPurposeAlone(t *testing.T) {
	one, two := NewKey(), NewKey()
	r := ring(t, one)
	sealed := r.Seal([]byte("ebb and flow"), "run 1, code")
	assert.True(t, Sealed(sealed))
	assert.NotContains(t, sealed, "ebb")
	assert.NotEqual(t, sealed, r.Seal([]byte("ebb and flow"), "run 1, code"), "the same value twice does not look the same")
	plain, err := r.Open(sealed, "run 1, code")
	require.NoError(t, err)
	assert.Equal(t, "ebb and flow", string(plain))
	_, err = r.Open(sealed, "run 2, code")
	assert.Error(t, err, "put in another's place")
	_, err = ring(t, two).Open(sealed, "run 1, code")
	assert.ErrorIs(t, err, ErrKey)
	for i := range sealed { // not a letter can be changed
		c := byte('A')
		if sealed[i] == c {
			c = 'B'
		}
		if got, err := r.Open(sealed[:i]+string(c)+sealed[i+1:], "run 1, code"); err == nil {
			assert.Equal(t, "ebb and flow", string(got), "at %d: only bits that mean nothing", i)
		}
	}
	for _, bad := range []string{"", "ebb", "tse1", "tse1...", "tse1.a.b.c", sealed + ".x", strings.TrimPrefix(sealed, "tse1.")} {
		_, err := r.Open(bad, "run 1, code")
		assert.Error(t, err, bad)
	}
	assert.False(t, Sealed("ebb and flow"))
}

func TestARingGetsANewKeyAndTheValuesStay(t *testing.T) {
	one, two := NewKey(), NewKey()
	sealed := ring(t, one).Seal([]byte("ebb"), "x")
	both := ring(t, two, one)
	again, changed, err := both.Rewrap(sealed, "x")
	require.NoError(t, err)
	assert.True(t, changed)
	_, changed, err = both.Rewrap(again, "x")
	require.NoError(t, err)
	assert.False(t, changed)
	plain, err := ring(t, two).Open(again, "x")
	require.NoError(t, err)
	assert.Equal(t, "ebb", string(plain))
	_, err = ring(t, one).Open(again, "x")
	assert.ErrorIs(t, err, ErrKey)
	_, err = NewRing([]byte("short"))
	assert.Error(t, err)
	_, err = NewRing()
	assert.Error(t, err)
}
