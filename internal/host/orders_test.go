package host

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestASessionTakesNoMoreCommandsAtOnceThanItCanHold(t *testing.T) {
	s := newServed(t.Context(), nil)
	for i := range maxWaiting {
		r := s.take(t.Context(), Order{ID: fmt.Sprint(i), Size: 10, Piece: []byte("half")})
		assert.True(t, r.Pending, "pieces are missing")
	}
	assert.Contains(t, s.take(t.Context(), Order{ID: "one more", Size: 10}).Problem, "32 commands of the session wait already")
	for _, d := range s.done { // a minute later
		d.began = d.began.Add(-2 * maxHalf)
	}
	assert.True(t, s.take(t.Context(), Order{ID: "one more", Size: 10}).Pending, "what never came whole is forgotten")
	assert.Len(t, s.done, 1)
	assert.NotEmpty(t, s.take(t.Context(), Order{ID: "x", Size: 5, From: 4, Piece: []byte("two")}).Problem, "it makes no sense")
}
