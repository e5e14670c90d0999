// Package fleet is what people do with devices: they list them, quarantine and release them, end the work on one, have one checked, and pair phones.
package fleet

import (
	"log/slog"

	"tessellant/internal/service/dispatcher"
	"tessellant/internal/service/evidence"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/hosts"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/pools"
	"tessellant/internal/store"
)

// Fleet is that room.
type Fleet struct {
	Store      *store.Store
	Log        *slog.Logger
	Feed       *feed.Feed
	Evidence   *evidence.Evidence
	Orders     *orders.Orders
	Dispatcher *dispatcher.Dispatcher
	Hosts      *hosts.Hosts
	Pools      *pools.Pools
}
