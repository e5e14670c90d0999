package versions

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestVersionsAreComparedNumberByNumber(t *testing.T) {
	ordered := []string{"0", "8", "8.0.1", "8.1", "8.9", "8.10", "10", "14.0.0.1"}
	for i, a := range ordered {
		for j, b := range ordered {
			got, ok := Compare(a, b)
			assert.True(t, ok)
			assert.Equal(t, i < j, got < 0, "%s, %s", a, b)
			assert.Equal(t, i == j, got == 0, "%s, %s", a, b)
		}
	}
	same, ok := Compare("8", "8.0")
	assert.True(t, ok)
	assert.Zero(t, same)
	for _, no := range []string{"", "8.", ".8", "a", "8.x", "-1", "+1", "1e3", "99999999999999999999"} {
		_, ok := Compare(no, "1")
		assert.False(t, ok, no)
		_, ok = Compare("1", no)
		assert.False(t, ok, no)
	}
}
