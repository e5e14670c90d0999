package evidence

// Evidence as hosts upload it: whole, or part by part while an attempt goes on; and what is made of the parts of an attempt that was lost with its host.

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"syscall"

	"tessellant/internal/blobs"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/hostlink"
	"tessellant/internal/store"
)

func attemptKey(h store.Hold, name string) string {
	return h.WorkspaceID + "/attempts/" + h.AttemptID + "/" + name
}

// partsOf is where the parts of an artifact lie that is still being written.
func partsOf(h store.Hold, name string) string { return attemptKey(h, "parts/"+name+"/") }

// named gives the artifact of a name, whatever its host says that it is.
func named(a hostlink.Artifact) (hostlink.Artifact, error) {
	known, ok := tracks.Named(a.Name)
	if !ok {
		return known, fmt.Errorf("%w: %.200q is no artifact's name", hostlink.ErrUnfit, a.Name)
	}
	return known, nil
}

// Append takes in a part of an artifact that is still being written.
func (s *Evidence) Append(ctx context.Context, h store.Hold, a hostlink.Artifact, offset int64, part []byte) error {
	a, err := named(a)
	if err != nil {
		return err
	}
	if !slices.Contains(tracks.Growing(), a) || offset > mostBytes {
		return fmt.Errorf("%w: %.200q does not come in parts, or not so many", hostlink.ErrUnfit, a.Name)
	}
	if old, err := s.closed(ctx, h, a.Name); err != nil || old.ID != "" {
		return err // it is there whole
	}
	if err := s.count(ctx, h, int64(len(part)), 1); err != nil {
		return err
	}
	_, _, err = s.Blobs.Put(ctx, fmt.Sprintf("%s%016d", partsOf(h, a.Name), offset), bytes.NewReader(part))
	if err != nil {
		s.giveBack(ctx, h, int64(len(part)))
	}
	return full(err)
}

// full says in the host's words that there is no room, or never will be.
func full(err error) error {
	if store.Unfit(err) {
		return fmt.Errorf("%w: %w", hostlink.ErrUnfit, err)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, blobs.ErrFull) {
		return fmt.Errorf("%w: %w", hostlink.ErrFull, err)
	}
	return err
}

// Keep takes in an artifact; it takes the place of its parts, and of one of the same name.
func (s *Evidence) Keep(ctx context.Context, h store.Hold, a hostlink.Artifact, r io.Reader) error {
	a, err := named(a)
	if err != nil {
		return err
	}
	old, err := s.closed(ctx, h, a.Name)
	if err != nil {
		return err
	}
	if old.ID != "" {
		return same(old, r)
	}
	if err := s.count(ctx, h, 0, 1); err != nil {
		return err
	}
	counted := &counting{r: r, taken: func(n int64) error { return s.count(ctx, h, n, 0) }}
	err = errors.Join(s.keep(ctx, h, a, counted, false), counted.rest())
	if err != nil {
		s.giveBack(ctx, h, counted.all)
	}
	return full(err)
}

// What a host may hand in of one attempt, also twice: more than any has, and less than a disk.
const (
	mostBytes  = 64 << 30
	mostPieces = 1_000_000
	countEvery = 64 << 20 // bytes of an upload are counted together
)

// count counts what a host hands in; an error that is hostlink.ErrUnfit when it is too much.
func (s *Evidence) count(ctx context.Context, h store.Hold, bytes int64, pieces int) error {
	ok, err := s.Store.HandedIn(ctx, h.AttemptID, bytes, pieces, cmp.Or(s.MostBytes, mostBytes), cmp.Or(s.MostPieces, mostPieces))
	if err == nil && !ok {
		err = fmt.Errorf("%w: its host has handed in as much of this attempt as it may", hostlink.ErrUnfit)
	}
	return err
}

// giveBack takes from what was counted a piece that could not be kept: it comes again.
func (s *Evidence) giveBack(ctx context.Context, h store.Hold, bytes int64) {
	if _, err := s.Store.HandedIn(context.WithoutCancel(ctx), h.AttemptID, -bytes, -1, mostBytes, mostPieces); err != nil {
		s.Log.Debug("a piece that was not kept stays counted", "attempt", h.AttemptID, "err", err)
	}
}

// counting counts what is read.
type counting struct {
	r     io.Reader
	n     int64 // not counted yet
	all   int64 // counted
	taken func(n int64) error
}

func (c *counting) Read(b []byte) (int, error) {
	if c.n >= countEvery {
		if err := c.rest(); err != nil {
			return 0, err
		}
	}
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

func (c *counting) rest() error {
	n := c.n
	c.n = 0
	if err := c.taken(n); err != nil {
		return err
	}
	c.all += n
	return nil
}

// closed gives an artifact that stays as it is: it came whole, and the attempt has ended since.
func (s *Evidence) closed(ctx context.Context, h store.Hold, name string) (store.Artifact, error) {
	if !h.Ended.Valid {
		return store.Artifact{}, nil
	}
	old, err := s.Store.ArtifactByName(ctx, h.AttemptID, name)
	if errors.Is(err, store.ErrNotFound) || old.Assembled {
		return store.Artifact{}, nil
	}
	return old, err
}

// same says whether what comes is what is there already: a host that does not know whether it arrived hands it in again.
func same(old store.Artifact, r io.Reader) error {
	hash := sha256.New()
	if _, err := io.Copy(hash, r); err != nil {
		return err
	}
	if hex.EncodeToString(hash.Sum(nil)) != old.SHA256 {
		return fmt.Errorf("%w: the attempt has ended, and %.200q is there already: evidence is not replaced", hostlink.ErrUnfit, old.Name)
	}
	return nil
}

func (s *Evidence) keep(ctx context.Context, h store.Hold, a hostlink.Artifact, r io.Reader, assembled bool) error {
	key := attemptKey(h, a.Name)
	size, sha, err := s.Blobs.Put(ctx, key, r)
	if err != nil {
		return err
	}
	if err := s.Store.PutArtifact(ctx, store.Artifact{ID: store.NewID(), WorkspaceID: h.WorkspaceID, AttemptID: h.AttemptID, Name: a.Name, Kind: a.Kind,
		ContentType: a.ContentType, Size: size, SHA256: sha, BlobKey: key, Assembled: assembled}); err != nil {
		return err
	}
	parts, err := s.Blobs.List(ctx, partsOf(h, a.Name))
	for _, p := range parts {
		err = errors.Join(err, s.Blobs.Delete(ctx, p.Key))
	}
	return err
}

// Assemble makes artifacts of the parts that a host handed in before it went away.
func (s *Evidence) Assemble(ctx context.Context, h store.Hold) error {
	have, err := s.Store.Artifacts(ctx, h.AttemptID)
	if err != nil {
		return err
	}
	for _, a := range tracks.Growing() {
		if slices.ContainsFunc(have, func(x store.Artifact) bool { return x.Name == a.Name }) {
			continue
		}
		parts, err := s.Blobs.List(ctx, partsOf(h, a.Name))
		if err != nil {
			return err
		}
		if len(parts) == 0 {
			continue
		}
		whole := io.NopCloser(s.joined(ctx, parts))
		if a.Kind == "timeline" {
			came := map[string]bool{"": true}
			for _, a := range have {
				came[a.Name] = true
			}
			if lacks(s.joined(ctx, parts), came) {
				whole = withoutLost(whole, came)
			}
		}
		err = s.keep(ctx, h, a, whole, true)
		_ = whole.Close()
		if err != nil {
			return err
		}
	}
	return s.Store.ForgetLostPictures(ctx, h.AttemptID)
}

// lacks says whether a timeline names a picture that never came.
func lacks(r io.Reader, came map[string]bool) (lost bool) {
	_ = timeline.ReadFrom(r, func(e timeline.Event, _ int64) error {
		if lost = !came[e.File] || !came[e.Tree]; lost {
			return timeline.ErrEnough
		}
		return nil
	})
	return lost
}

// withoutLost gives a timeline in which what names a picture that never came says so instead.
func withoutLost(r io.Reader, came map[string]bool) io.ReadCloser {
	out, in := io.Pipe()
	go func() {
		w := timeline.NewWriter(in)
		in.CloseWithError(timeline.Read(r, func(e timeline.Event) error {
			for _, name := range []*string{&e.File, &e.Tree} {
				if !came[*name] {
					args := map[string]string{"lost with its host": *name}
					maps.Copy(args, e.Args)
					e.Args, *name = args, ""
				}
			}
			_, err := w.Append(e)
			return err
		}))
	}()
	return out
}

// joined reads parts one after the other.
func (s *Evidence) joined(ctx context.Context, parts []blobs.Part) io.Reader {
	readers := make([]io.Reader, len(parts))
	for i, p := range parts {
		readers[i] = &lazy{open: func() (io.ReadCloser, error) { return s.Blobs.Read(ctx, p.Key, 0, -1) }}
	}
	return io.MultiReader(readers...)
}

// lazy opens what it reads when it is read.
type lazy struct {
	open func() (io.ReadCloser, error)
	r    io.ReadCloser
}

func (l *lazy) Read(b []byte) (n int, err error) {
	if l.r == nil {
		if l.r, err = l.open(); err != nil {
			return 0, err
		}
	}
	n, err = l.r.Read(b)
	if err != nil {
		_ = l.r.Close()
	}
	return n, err
}

// Ended says that an attempt has ended: its log is read ahead, for who looks at it soon.
func (s *Evidence) Ended(h store.Hold) { s.expect(h) }
