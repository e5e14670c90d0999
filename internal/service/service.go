// Package service is the use cases, room by room, put together.
//
//	access    who asks              content   builds and packages     runs, sessions   what is done with them
//	hosts     what they say         fleet     devices for people      dispatcher       who gets which device
//	pools     devices under a name  plans     what a run would be
//	evidence  what was gathered     feed      what changes            orders           the way to hosts
//	answers   what runs say     reports   for elsewhere        bisections   the first bad build
//	shares    links for people without a key    looks   runs step by step       hands, screens   devices that people hold, what locators mean
//	queue, specs, secrets, upkeep, refuse, paging, chore
//
// It knows nothing of HTTP: callers give an Identity and values, and get rows or a *refuse.Error that says what was tried, why
// not, and what to do.
package service

import (
	"context"
	"log/slog"
	"time"

	"tessellant/internal/blobs"
	"tessellant/internal/bus"
	"tessellant/internal/service/access"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/bisections"
	"tessellant/internal/service/content"
	"tessellant/internal/service/dispatcher"
	"tessellant/internal/service/evidence"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/fleet"
	"tessellant/internal/service/hands"
	"tessellant/internal/service/hosts"
	"tessellant/internal/service/looks"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/pools"
	"tessellant/internal/service/queue"
	"tessellant/internal/service/reports"
	"tessellant/internal/service/runs"
	"tessellant/internal/service/screens"
	"tessellant/internal/service/secrets"
	"tessellant/internal/service/sessions"
	"tessellant/internal/service/shares"
	"tessellant/internal/service/specs"
	"tessellant/internal/service/upkeep"
	"tessellant/internal/store"
)

// Config is what a service needs.
type Config struct {
	Store           *store.Store
	Blobs           *blobs.Store
	Bus             bus.Bus
	Log             *slog.Logger
	Version         string
	MaxBuild        int64         // bytes of an upload; 0: 4 GiB
	QuarantineLasts time.Duration // how long a device that quarantined itself rests before a check can release it; 0: a minute
	Reach           hosts.Reach   // how hosts in other processes reach the bus
	Secrets         *secrets.Secrets
}

// Service is all rooms. What each can do, the service can.
type Service struct {
	Store   *store.Store
	Blobs   *blobs.Store
	Bus     bus.Bus
	Log     *slog.Logger
	Version string
	Feed    *feed.Feed
	Secrets *secrets.Secrets

	*access.Access
	*content.Content
	*plans.Plans
	*runs.Runs
	*answers.Answers
	*reports.Reports
	*bisections.Bisections
	*shares.Shares
	*looks.Looks
	*hands.Hands
	*screens.Screens
	*sessions.Sessions
	*evidence.Evidence
	*dispatcher.Dispatcher
	*hosts.Hosts
	*fleet.Fleet
	*pools.Pools
	*upkeep.Upkeep
}

// New puts a service together.
func New(c Config) *Service {
	f := &feed.Feed{Bus: c.Bus}
	o := &orders.Orders{Store: c.Store, Bus: c.Bus, Log: c.Log}
	sp := &specs.Specs{Store: c.Store, Secrets: c.Secrets}
	q := &queue.Queue{Store: c.Store}
	s := &Service{Store: c.Store, Blobs: c.Blobs, Bus: c.Bus, Log: c.Log, Version: c.Version, Feed: f}
	s.Access = access.New(c.Store, c.Bus, c.Log)
	s.Content = content.New(c.Store, c.Blobs, c.Log, f, c.MaxBuild)
	s.Pools = &pools.Pools{Store: c.Store}
	s.Sessions = sessions.New(sessions.Sessions{Store: c.Store, Bus: c.Bus, Log: c.Log, Feed: f, Content: s.Content, Queue: q, Orders: o, Pools: s.Pools})
	s.Secrets = c.Secrets
	s.Plans = &plans.Plans{Store: c.Store, Content: s.Content, Pools: s.Pools}
	s.Answers = &answers.Answers{Store: c.Store, Log: c.Log, Feed: f}
	s.Runs = &runs.Runs{Answers: s.Answers, Store: c.Store, Secrets: c.Secrets, Bus: c.Bus, Log: c.Log, Feed: f, Plans: s.Plans, Specs: sp, Queue: q, Sessions: s.Sessions, Orders: o}
	s.Evidence = &evidence.Evidence{Store: c.Store, Blobs: c.Blobs, Log: c.Log, Feed: f, Runs: s.Runs, Sessions: s.Sessions}
	s.Reports = &reports.Reports{Store: c.Store, Blobs: c.Blobs, Runs: s.Runs, Answers: s.Answers}
	s.Bisections = &bisections.Bisections{Store: c.Store, Bus: c.Bus, Log: c.Log, Content: s.Content, Runs: s.Runs, Answers: s.Answers, Secrets: c.Secrets}
	s.Shares = &shares.Shares{Store: c.Store, Log: c.Log, Runs: s.Runs, Reports: s.Reports}
	s.Looks = &looks.Looks{Store: c.Store, Blobs: c.Blobs, Log: c.Log, Runs: s.Runs}
	s.Hands = &hands.Hands{Store: c.Store, Log: c.Log, Feed: f, Content: s.Content, Pools: s.Pools, Orders: o, Sessions: s.Sessions, Timelines: s.Evidence.WholeTimeline}
	s.Screens = &screens.Screens{Store: c.Store, Blobs: c.Blobs, Hands: s.Hands}
	s.Dispatcher = &dispatcher.Dispatcher{Store: c.Store, Bus: c.Bus, Log: c.Log, Feed: f, Specs: sp, Evidence: s.Evidence, Orders: o, Sessions: s.Sessions, Answers: s.Answers}
	s.Hosts = &hosts.Hosts{Store: c.Store, Log: c.Log, Access: s.Access, Feed: f, Content: s.Content, Specs: sp, Evidence: s.Evidence, ReferencesOf: s.Looks.ForHold, Orders: o, Dispatcher: s.Dispatcher, QuarantineLasts: c.QuarantineLasts, Reach: c.Reach}
	s.Fleet = &fleet.Fleet{Store: c.Store, Log: c.Log, Feed: f, Evidence: s.Evidence, Orders: o, Dispatcher: s.Dispatcher, Hosts: s.Hosts, Pools: s.Pools}
	s.Upkeep = &upkeep.Upkeep{Store: c.Store, Blobs: c.Blobs, Log: c.Log, Version: c.Version}
	return s
}

// Ready says whether the service can do its work: whether the database answers.
func (s *Service) Ready(ctx context.Context) error { return s.Store.Ping(ctx) }
