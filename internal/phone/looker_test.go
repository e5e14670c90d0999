package phone

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/uitree"
)

// slow is a phone whose tree takes a while, and is another each time.
type slow struct {
	Phone
	looks int
	err   error
}

func (s *slow) Tree(context.Context) (*uitree.Screen, error) {
	s.looks++
	time.Sleep(100 * time.Millisecond)
	return &uitree.Screen{Rotation: s.looks}, s.err
}

func TestATreeThatWasJustReadIsNotReadAgain(t *testing.T) {
	p, l := &slow{}, &Looker{}
	look := func() int {
		s, err := l.Tree(t.Context(), p)
		require.NoError(t, err)
		return s.Rotation
	}
	assert.Equal(t, []int{1, 1}, []int{look(), look()})
	l.Touched()
	assert.Equal(t, 2, look(), "something was done since")
	l.At = l.At.Add(-time.Second)
	assert.Equal(t, 3, look(), "more time passed than reading it took")
	l.Touched()
	p.err = errors.New("it moves")
	_, err := l.Tree(t.Context(), p)
	require.ErrorIs(t, err, p.err)
	assert.Equal(t, 3, l.Latest.Rotation, "the newest is kept")
	p.err = nil
	assert.Equal(t, 5, look(), "and not taken for what is there now")
}
