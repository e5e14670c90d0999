package wdlab

import (
	"context"
	"sync"
)

// places are those for sessions that may be open at a time. Their number may change while some are taken.
type places struct {
	mu     sync.Mutex
	limits int // 0: as many as are wanted
	taken  int
	queue  int
	freed  chan struct{}
}

func newPlaces(limit int) *places { return &places{limits: limit, freed: make(chan struct{})} }

func (p *places) most() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.limits
}

func (p *places) limit(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.limits = n
	p.wake()
}

func (p *places) wake() {
	close(p.freed)
	p.freed = make(chan struct{})
}

// take waits for a place. Full is told how many are taken, once, where none is free.
func (p *places) take(ctx context.Context, full func(taken, limit int)) error {
	told := false
	p.mu.Lock()
	p.queue++
	defer func() {
		p.queue--
		p.mu.Unlock()
	}()
	for p.limits > 0 && p.taken >= p.limits {
		freed, taken, limit := p.freed, p.taken, p.limits
		p.mu.Unlock()
		if !told {
			full(taken, limit)
			told = true
		}
		select {
		case <-freed:
			p.mu.Lock()
		case <-ctx.Done():
			p.mu.Lock()
			return ctx.Err()
		}
	}
	p.taken++
	return nil
}

func (p *places) free() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.taken--
	p.wake()
}
