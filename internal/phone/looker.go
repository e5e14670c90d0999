package phone

import (
	"context"
	"time"

	"tessellant/internal/core/uitree"
)

// maxTrust is how long a tree is taken for true at most.
const maxTrust = 500 * time.Millisecond

// Looker reads a phone's tree, unless the one at hand is so fresh that reading it took longer than has passed since, and nothing
// was done on the phone. The zero value has none.
type Looker struct {
	Latest *uitree.Screen // the newest that could be read; nil: none yet
	At     time.Time      // when it had been read

	trusted time.Duration // since then
}

// Tree reads the tree of p.
func (l *Looker) Tree(ctx context.Context, p Phone) (*uitree.Screen, error) {
	if s := l.Untouched(l.trusted); s != nil {
		return s, nil
	}
	start := time.Now()
	s, err := p.Tree(ctx)
	if err != nil {
		l.Touched()
		return nil, err
	}
	l.Latest, l.At = s, time.Now()
	l.trusted = min(l.At.Sub(start), maxTrust)
	return s, nil
}

// Untouched is the tree at hand where nothing was done on the phone since it was read, which is no longer ago than that; nil: there is none. The screen may have changed by itself.
func (l *Looker) Untouched(within time.Duration) *uitree.Screen {
	if l.Latest == nil || l.trusted == 0 || time.Since(l.At) >= within {
		return nil
	}
	return l.Latest
}

// Touched says that something was done on the phone: what was seen may not be so any more.
func (l *Looker) Touched() { l.trusted = 0 }
