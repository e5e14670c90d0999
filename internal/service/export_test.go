package service

import "context"

// For tests of this package: what the dispatcher and the feed do by themselves, now.

func (s *Service) EndUnawaited(ctx context.Context) error { return s.endUnawaited(ctx) }

// Remembered is of how many attempts the feed keeps what happens.
func (f *Feed) Remembered() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.now)
}

func (s *Service) Settled(ctx context.Context, err error, find func(context.Context) error) (bool, error) {
	return s.settled(ctx, err, find)
}
