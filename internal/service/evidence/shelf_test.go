package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

type weight struct{ n int64 }

func (w *weight) bytes() int64 { return w.n }

func TestAShelfHoldsWhatItHasRoomFor(t *testing.T) {
	var s shelf[*weight]
	empty := func() *weight { return &weight{} }
	first := s.at("first", empty)
	first.n = shelfBytes / 2 // it was read
	second := s.at("second", empty)
	second.n = shelfBytes / 2
	assert.Same(t, first, s.at("first", empty), "both fit")
	s.at("third", empty).n = 1
	assert.Same(t, first, s.at("first", empty))
	assert.NotSame(t, second, s.at("second", empty), "it was not used for longest")
	s.at("alone", empty).n = 3 * shelfBytes
	assert.EqualValues(t, 3*shelfBytes, s.at("alone", empty).bytes(), "one file is kept, however large")
}
