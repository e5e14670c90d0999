package spool

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/sethvargo/go-retry"

	"tessellant/internal/hostlink"
)

// patience gives the pauses between tries of what needs the service.
func patience() retry.Backoff {
	return retry.WithCappedDuration(5*time.Second, retry.NewExponential(100*time.Millisecond))
}

// Persist tries again and again what needs the service, for ten minutes.
func Persist(ctx context.Context, log *slog.Logger, what string, f func(context.Context) error) error {
	return retry.Do(ctx, retry.WithMaxDuration(10*time.Minute, patience()), func(ctx context.Context) error {
		err := f(ctx)
		if err == nil || errors.Is(err, hostlink.ErrOver) {
			return err
		}
		log.Debug("trying again", "what", what, "err", err)
		return retry.RetryableError(err)
	})
}
