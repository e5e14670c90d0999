package upkeep

// Evidence is not kept for ever: by age, and by how much there may be in all. Verdicts,
// messages and the runs themselves are.

import (
	"context"
	"errors"
	"time"

	"tessellant/internal/service/chore"
	"tessellant/internal/store"
)

// Retention says how long evidence is kept; zero fields: without a bound.
type Retention struct {
	Age   time.Duration // since its run ended
	Bytes int64         // of all evidence
}

const (
	clearEvery = 10 * time.Minute
	clearLease = 30 * time.Minute
	clearBatch = 200
)

// ClearOld removes evidence that is too old or too much, now and then, until ctx ends. Of several processes one does it.
func (s *Upkeep) ClearOld(ctx context.Context, r Retention) {
	if r == (Retention{}) {
		return
	}
	chore.Chore{Name: "retention", Every: clearEvery, Lasts: clearLease, Fails: "old evidence could not be removed"}.Keep(ctx, s.Store, s.Log, func() error {
		n, bytes, err := s.ClearNow(ctx, r)
		if n > 0 {
			s.Log.Info("old evidence was removed", "files", n, "bytes", bytes)
		}
		return err
	})
}

// ClearNow removes what is too old, then the oldest until what is left is not too much.
func (s *Upkeep) ClearNow(ctx context.Context, r Retention) (files int, bytes int64, err error) {
	remove := func(old []store.Artifact, most int64) error {
		n, freed := 0, int64(0)
		var err error
		for _, a := range old {
			if most > 0 && freed >= most {
				break
			}
			if err = s.Blobs.Delete(ctx, a.BlobKey); err != nil {
				break // what is gone is forgotten all the same
			}
			n++
			freed += a.Size
		}
		files, bytes = files+n, bytes+freed
		return errors.Join(err, s.Store.ForgetArtifacts(ctx, old[:n]))
	}
	for r.Age > 0 {
		old, err := s.Store.OldArtifacts(ctx, r.Age, clearBatch)
		if err = errors.Join(err, remove(old, 0)); err != nil || len(old) < clearBatch {
			if err != nil {
				return files, bytes, err
			}
			break
		}
	}
	for r.Bytes > 0 {
		have, err := s.Store.ArtifactBytes(ctx)
		if err != nil || have <= r.Bytes {
			return files, bytes, err
		}
		old, err := s.Store.OldestArtifacts(ctx, clearBatch)
		if err = errors.Join(err, remove(old, have-r.Bytes)); err != nil || len(old) == 0 {
			return files, bytes, err
		}
	}
	return files, bytes, nil
}
