package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/core/verdict"
)

func TestSentence(t *testing.T) {
	type vs = []verdict.Verdict
	for want, legs := range map[string]vs{
		"No device took part.":                                                  {},
		"The device passed.":                                                    {"passed"},
		"All 3 devices passed.":                                                 {"passed", "passed", "passed"},
		"4 of 6 devices passed; 1 crashed, 1 failed.":                           {"passed", "failed", "passed", "crashed", "passed", "passed"},
		"0 of 1 device passed; 1 was lost.":                                     {"lost"},
		"1 of 4 devices passed; 1 ran out of time; 2 still going.":              {"passed", "", "", "expired"},
		"0 of 3 devices passed; 1 could not start the package, 2 were stopped.": {"stopped", "invalid", "stopped"},
	} {
		assert.Equal(t, want, Sentence("device", legs))
	}
}
