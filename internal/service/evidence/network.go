package evidence

// The network log of an attempt, read in windows by an index; while it grows, too.

import (
	"context"
	"io"
	"sync"
	"time"

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
	n, err := s.network(ctx, who, leg, attempt)
	if err != nil {
		return w, err
	}
	w.Attempt, w.Live = n.attempt, n.live
	rows := n.index.Choose(c.Choice)
	w.Rows = len(rows)
	for i := min(c.First, len(rows)); i < min(c.First+c.Limit, len(rows)); i++ {
		w.Items = append(w.Items, NetworkRow{rows[i] + 1, n.index.Rows[rows[i]]})
	}
	return w, nil
}

// networkSlices is into how many slices the time of an overview is divided.
const networkSlices = 600

// NetworkOverview sums up the network log of an attempt.
func (s *Evidence) NetworkOverview(ctx context.Context, who store.Identity, leg string, attempt int) (har.Overview, error) {
	n, err := s.network(ctx, who, leg, attempt)
	if err != nil {
		return har.Overview{}, err
	}
	return n.index.Overview(networkSlices), nil
}

// Exchange gives one entry of the network log as it stands there; n is its number, from 1.
func (s *Evidence) Exchange(ctx context.Context, who store.Identity, leg string, attempt, n int) (e har.Entry, err error) {
	l, err := s.network(ctx, who, leg, attempt)
	if err != nil {
		return e, err
	}
	if n < 1 || n > len(l.index.Rows) {
		return e, refuse.New(refuse.NotFound, "show the exchange", "see them with: tessellant leg network "+leg, "the network log has no exchange %d", n)
	}
	at, length := l.index.Span(n - 1)
	line := make([]byte, length)
	if _, err := l.at(ctx).ReadAt(line, at); err != nil {
		return e, err
	}
	return har.ParseLine(line)
}

// networkLog is a network log on the shelf.
type networkLog struct {
	mu   sync.Mutex // while it is read
	when time.Time  // it was read, while it grows
	networkRead
}

// networkRead is what was read of a network log.
type networkRead struct {
	attempt int
	live    bool
	index   *har.Index
	at      func(context.Context) io.ReaderAt
}

func (l *networkLog) bytes() int64 {
	if !l.mu.TryLock() {
		return 0 // it is being made
	}
	defer l.mu.Unlock()
	if l.index == nil {
		return 0
	}
	return l.index.Bytes
}

// network reads the network log of an attempt, as far as it has come.
func (s *Evidence) network(ctx context.Context, who store.Identity, leg string, attempt int) (networkRead, error) {
	a, d, err := s.attempt(ctx, who, leg, attempt)
	if err != nil {
		return networkRead{}, err
	}
	if a == nil {
		return networkRead{live: d.Stage != "done", index: &har.Index{}}, nil
	}
	whole := artifact(a, "network")
	key := a.ID
	if whole == nil {
		key = "so far " + a.ID
	}
	l := s.networks.at(key, func() *networkLog { return &networkLog{} })
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.index != nil && (whole != nil || time.Since(l.when) < soFarRests) {
		return l.networkRead, nil
	}
	now := networkRead{attempt: a.Number, live: !a.Ended.Valid, index: &har.Index{}}
	h := store.Hold{WorkspaceID: d.WorkspaceID, AttemptID: a.ID}
	if whole != nil {
		now.at = func(ctx context.Context) io.ReaderAt { return s.Blobs.At(ctx, whole.BlobKey, whole.Size) }
	} else {
		parts, err := s.Blobs.List(ctx, partsOf(h, tracks.Network))
		if err != nil {
			return now, err
		}
		now.at = func(ctx context.Context) io.ReaderAt { return &partsAt{ctx, s.Blobs, parts} }
	}
	r, err := s.track(ctx, h, a.Artifacts, tracks.Network)
	if err != nil {
		return now, err
	}
	if r != nil {
		defer r.Close()
		if now.index, err = har.Scan(r); err != nil {
			return now, err
		}
	}
	l.networkRead, l.when = now, time.Now()
	return now, nil
}
