package content

import (
	"context"
	"errors"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/store"
)

func TestAnUploadWhoseAnswerWasLostKeepsItsFile(t *testing.T) {
	ctx, s := context.Background(), New(nil, nil, slog.New(slog.DiscardHandler), nil, 0)
	// The answer of the database got lost on the way: the upload ends with the client's context.
	keep, after := s.settled(ctx, context.DeadlineExceeded, func(context.Context) error { return nil })
	assert.True(t, keep)
	assert.NoError(t, after, "the row is there")
	keep, after = s.settled(ctx, context.DeadlineExceeded, func(context.Context) error { return store.ErrNotFound })
	assert.False(t, keep)
	assert.Error(t, after)
	keep, after = s.settled(ctx, context.DeadlineExceeded, func(context.Context) error { return errors.New("the database is away") })
	assert.True(t, keep, "nobody knows: then nothing is deleted")
	assert.Error(t, after)
}
