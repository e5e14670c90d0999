package nearest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheWordThatWasMeant(t *testing.T) {
	known := []string{"maker", "model", "memory", "os"}
	for unknown, want := range map[string]string{"makr": "maker", "MODLE": "model", "memroy": "memory", "colour": "", "xy": "", "": "", strings.Repeat("m", 100): ""} {
		assert.Equal(t, want, Word(unknown, known), unknown)
	}
}
