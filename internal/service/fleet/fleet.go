package fleet

import (
	"log/slog"
	"sync"
	"time"

	"tessellant/internal/blobs"
	"tessellant/internal/bus"
	"tessellant/internal/service/content"
	"tessellant/internal/service/evidence"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/sessions"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

// Fleet is that room.
type Fleet struct {
	Store    *store.Store
	Blobs    *blobs.Store
	Bus      bus.Bus
	Log      *slog.Logger
	Feed     *feed.Feed
	Content  *content.Content
	Specs    *specs.Specs
	Evidence *evidence.Evidence
	Sessions *sessions.Sessions
	Orders   *orders.Orders
	// QuarantineLasts is how long a device that quarantined itself rests before a check can release it; 0: a minute.
	QuarantineLasts time.Duration
	// Reach is how hosts in other processes reach the bus.
	Reach Reach

	linked sync.Once
	links  *link
}

// Reach is where the bus is for hosts in other processes.
type Reach struct {
	External string // a server of somebody's: its URL
	Address  string // a server of our own: where it listens
	Secret   bus.Secret
}
