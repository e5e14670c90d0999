package house

import (
	"context"
	"log/slog"

	"tessellant/internal/sandbox"
)

// OpenBox sees how programs of packages can be kept apart; nil: not at all, and none are run.
func OpenBox(ctx context.Context, log *slog.Logger) *sandbox.Box {
	box, err := sandbox.Probe(ctx, "")
	if err != nil {
		log.Warn("no programs of packages can be run here", "err", err)
		return nil
	}
	if box.Level != sandbox.Tight {
		log.Warn("programs of packages can't be kept apart here", "why", box.Why)
	}
	return box
}
