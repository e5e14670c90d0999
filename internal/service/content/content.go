// Package content keeps what is tested and what tests it: builds and packages, as they were uploaded, with what was read from them.
//
// In: uploads, streamed. Out: rows with facts and findings; a file that was refused leaves nothing.
package content

import (
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
