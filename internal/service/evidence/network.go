package evidence

// The network log of an attempt, read in windows by an index; while it grows, too.

import (
	"context"
	"io"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tessellant/internal/core/har"
	"tessellant/internal/core/tracks"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// NetworkChoice says which rows are wanted, and which part of them.
type NetworkChoice struct {
	har.Choice
	First, Limit int
}

// NetworkRow is a row with its number, from 1.
type NetworkRow struct {
	N int
	har.Row
}

// NetworkWindow is some rows of a network log.
type NetworkWindow struct {
	Attempt int // 0: there is none yet
	Live    bool
	Rows    int // that were chosen
	Items   []NetworkRow
}

// Network reads a window of the network log of an attempt; attempt 0: of the last one. Where none was kept there are no rows.
func (s *Evidence) Network(ctx context.Context, who store.Identity, leg string, attempt int, c NetworkChoice) (w NetworkWindow, err error) {
	n, x, err := s.network(ctx, who, leg, attempt)
	if err != nil {
		return w, err
	}
	w.Attempt, w.Live = n.attempt, n.live
	rows := x.Choose(c.Choice)
	w.Rows = len(rows)
	for i := min(c.First, len(rows)); i < min(c.First+c.Limit, len(rows)); i++ {
		w.Items = append(w.Items, NetworkRow{rows[i] + 1, x.Rows[rows[i]]})
	}
	return w, nil
}

// networkSlices is into how many slices the time of an overview is divided.
const networkSlices = 600

// NetworkOverview sums up the network log of an attempt.
func (s *Evidence) NetworkOverview(ctx context.Context, who store.Identity, leg string, attempt int) (har.Overview, error) {
	_, x, err := s.network(ctx, who, leg, attempt)
	if err != nil {
		return har.Overview{}, err
	}
	return x.Overview(networkSlices), nil
}

// Exchange gives one entry of the network log as it stands there; n is its number, from 1.
func (s *Evidence) Exchange(ctx context.Context, who store.Identity, leg string, attempt, n int) (e har.Entry, err error) {
	l, x, err := s.network(ctx, who, leg, attempt)
	if err != nil {
		return e, err
	}
	if n < 1 || n > len(x.Rows) {
		return e, refuse.New(refuse.NotFound, "show the exchange", "see them with: tessellant leg network "+leg, "the network log has no exchange %d", n)
	}
	at, length := x.Span(n - 1)
	line := make([]byte, length)
	if _, err := l.at(ctx).ReadAt(line, at); err != nil {
		return e, err
	}
	return har.ParseLine(line)
}

// networkLog is a network log on the shelf.
type networkLog struct {
	mu      sync.Mutex
	attempt int
	live    bool
	when    time.Time // it was read, while it grows
	index   *har.Index
	at      func(context.Context) io.ReaderAt
}

// networkShelf keeps the indexes that were looked at last.
type networkShelf struct {
	mu   sync.Mutex
	logs *simplelru.LRU[string, *networkLog]
}

const shelfNetworks = 24

func (s *networkShelf) of(key string) *networkLog {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.logs == nil {
		s.logs, _ = simplelru.NewLRU[string, *networkLog](shelfNetworks, nil)
	}
	l, ok := s.logs.Get(key)
	if !ok {
		l = &networkLog{}
		s.logs.Add(key, l)
	}
	return l
}

// network gives the index of an attempt's network log.
func (s *Evidence) network(ctx context.Context, who store.Identity, leg string, attempt int) (*networkLog, *har.Index, error) {
	a, d, err := s.attempt(ctx, who, leg, attempt)
	if err != nil {
		return nil, nil, err
	}
	if a == nil {
		return &networkLog{live: d.Stage != "done"}, &har.Index{}, nil
	}
	whole := artifact(a, "network")
	key := a.ID
	if whole == nil {
		key = "so far " + a.ID
	}
	l := s.networks.of(key)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.index != nil && (whole != nil || time.Since(l.when) < soFarRests) {
		return l, l.index, nil
	}
	l.attempt, l.live = a.Number, !a.Ended.Valid
	h := store.Hold{WorkspaceID: d.WorkspaceID, AttemptID: a.ID}
	if whole != nil {
		l.at = func(ctx context.Context) io.ReaderAt { return s.Blobs.At(ctx, whole.BlobKey, whole.Size) }
	} else {
		parts, err := s.Blobs.List(ctx, partsOf(h, tracks.Network))
		if err != nil {
			return nil, nil, err
		}
		l.at = func(ctx context.Context) io.ReaderAt { return &partsAt{ctx, s.Blobs, parts} }
	}
	r, err := s.track(ctx, h, a.Artifacts, tracks.Network)
	if err != nil {
		return nil, nil, err
	}
	index := &har.Index{}
	if r != nil {
		defer r.Close()
		if index, err = har.Scan(r); err != nil {
			return nil, nil, err
		}
	}
	l.index, l.when = index, time.Now()
	return l, index, nil
}
