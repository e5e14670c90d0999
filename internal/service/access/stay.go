package access

// Requests that go on: they end when the key or the sign-in ends that let them in.

import (
	"context"
	"errors"
	"maps"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/service/refuse"
)

const (
	lookEvery  = 5 * time.Second // whether keys ran out, and for what the bus did not tell
	lookWithin = 5 * time.Second
)

// Remain has end called once the key, or the token of a browser's sign-in, that a request showed is no longer good. Leave is called when the request is over.
func (s *Access) Remain(shown string, end func()) (leave func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.going[shown] == nil {
		s.going[shown] = map[*func()]bool{}
	}
	s.going[shown][&end] = true
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.going[shown], &end)
		if len(s.going[shown]) == 0 {
			delete(s.going, shown)
		}
	}
}

// FollowKeys hears of keys that end, in whichever process, and ends what goes on with them, until ctx is over.
func (s *Access) FollowKeys(ctx context.Context) {
	news, stop := s.Bus.Subscribe(bus.Access)
	defer stop()
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	for {
		select {
		case <-news:
			s.drop()
		case <-look.C:
		case <-ctx.Done():
			return
		}
		s.endStays(ctx)
	}
}

// endStays asks anew whether those whose requests go on are still let in.
func (s *Access) endStays(ctx context.Context) {
	s.mu.Lock()
	shown := make([]string, 0, len(s.going))
	for key := range s.going {
		shown = append(shown, key)
	}
	s.mu.Unlock()
	for _, key := range shown {
		ask, cancel := context.WithTimeout(ctx, lookWithin)
		var err error
		if IsSignin(key) {
			_, _, err = s.EnterSigned(ask, key)
		} else {
			_, err = s.find(ask, key, Hash(key))
		}
		cancel()
		var no *refuse.Error
		if !errors.As(err, &no) {
			continue
		}
		s.mu.Lock()
		ends := maps.Clone(s.going[key])
		s.mu.Unlock()
		for end := range ends {
			(*end)()
		}
	}
}
