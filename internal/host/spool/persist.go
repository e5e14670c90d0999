package spool

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"tessellant/internal/hostlink"
)

// Persist tries again and again what needs the service, for ten minutes.
func Persist(ctx context.Context, log *slog.Logger, what string, f func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	for wait := 100 * time.Millisecond; ; wait = min(wait*2, 5*time.Second) {
		err := f(ctx)
		if err == nil || errors.Is(err, hostlink.ErrOver) {
			return err
		}
		log.Debug("trying again", "what", what, "err", err)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}
