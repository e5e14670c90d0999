// Package content keeps what is tested and what tests it: builds and packages, as they were uploaded, with what was read from them.
//
// In: uploads, streamed. Out: rows with facts and findings; a file that was refused leaves nothing.
package content

import (
	"context"
	"io"
	"log/slog"

	"tessellant/internal/blobs"
	"tessellant/internal/service/feed"
	"tessellant/internal/store"
)

// Content is that room.
type Content struct {
	Store    *store.Store
	Blobs    *blobs.Store
	Log      *slog.Logger
	Feed     *feed.Feed
	MaxBuild int64 // bytes of an upload; 0: 4 GiB

	reads chan struct{} // a place for each upload that is being read
}

// New makes the room.
func New(st *store.Store, bl *blobs.Store, log *slog.Logger, f *feed.Feed, maxBuild int64) *Content {
	return &Content{Store: st, Blobs: bl, Log: log, Feed: f, MaxBuild: maxBuild, reads: make(chan struct{}, readersAtOnce)}
}

// ReadBuild reads a build's file.
func (s *Content) ReadBuild(ctx context.Context, workspace, id string) (io.ReadCloser, error) {
	b, err := s.Store.BuildByID(ctx, workspace, id)
	if err != nil {
		return nil, err
	}
	return s.Blobs.Read(ctx, b.BlobKey, 0, -1)
}

// ReadPackage reads a package's file.
func (s *Content) ReadPackage(ctx context.Context, workspace, id string) (io.ReadCloser, error) {
	p, err := s.Store.PackageByID(ctx, workspace, id)
	if err != nil {
		return nil, err
	}
	return s.Blobs.Read(ctx, p.BlobKey, 0, -1)
}
