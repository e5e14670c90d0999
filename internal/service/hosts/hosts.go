// Package hosts is hosts as the service meets them: their keys and their joining, what they are told to do and what they tell (link.go).
package hosts

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/ours"
	"tessellant/internal/core/tracks"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/access"
	"tessellant/internal/service/content"
	"tessellant/internal/service/dispatcher"
	"tessellant/internal/service/evidence"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

// Hosts is that room.
type Hosts struct {
	Store    *store.Store
	Log      *slog.Logger
	Access   *access.Access
	Feed     *feed.Feed
	Content  *content.Content
	Specs    *specs.Specs
	Evidence *evidence.Evidence
	// ReferencesOf gives the references of a hold's package for its kind of device, as a zip.
	ReferencesOf func(ctx context.Context, h store.Hold, build, pkg string) (io.ReadCloser, error)
	Orders       *orders.Orders
	Dispatcher   *dispatcher.Dispatcher
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
	// Open gives where a server of our own listens; it may start it. Nil: there is none.
	Open func() (address string, err error)
	// Drop ends a host's connections to it.
	Drop func(host string)
	// Encrypted: it speaks TLS.
	Encrypted bool
}

var hostNameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// silentAfter is how many seconds a host may say nothing before it counts as silent.
const silentAfter = 20

// HostView is a host and how it stands.
type HostView struct {
	store.Host
	State string // up, silent, or new: it has never joined
}

// ListHosts lists all hosts by name.
func (s *Hosts) ListHosts(ctx context.Context) ([]HostView, error) {
	rows, err := s.Store.Hosts(ctx)
	out := make([]HostView, 0, len(rows))
	for _, h := range rows {
		v := HostView{Host: h, State: "up"}
		switch {
		case h.HasKey && !h.Joined.Valid:
			v.State = "new"
		case h.Silent > silentAfter:
			v.State = "silent"
		}
		out = append(out, v)
	}
	return out, err
}

// AddHost makes a key for a host of this name, in place of any it had.
func (s *Hosts) AddHost(ctx context.Context, who store.Identity, name string) (key string, err error) {
	const title = "make a host's key"
	if !hostNameForm.MatchString(name) {
		return "", refuse.New(refuse.Invalid, title, "use small letters, digits and dashes; start with a letter; at most 63", "%q is not a valid host name", name)
	}
	if all, err := s.Store.Hosts(ctx); err != nil {
		return "", err
	} else if slices.ContainsFunc(all, func(h store.Host) bool { return h.Name == name && !h.HasKey && !h.Joined.Valid }) {
		return "", refuse.New(refuse.Refused, title, "choose another name", "%s is the name of a built-in host", name)
	}
	key = access.HostKeyPrefix + strings.ToLower(rand.Text())
	if err := s.Store.SetHostKey(ctx, name, access.Hash(key)); err != nil {
		return "", err
	}
	s.sendAway(name)
	s.Log.Info("a host has a new key", "host", name, "by", who.KeyID)
	return key, nil
}

// RemoveHost takes a host's key away.
func (s *Hosts) RemoveHost(ctx context.Context, who store.Identity, name string) error {
	if err := s.Store.RemoveHost(ctx, name); err != nil {
		return refuse.Missing(err, "host with a key", name, "see the hosts with: tessellant host list")
	}
	s.sendAway(name)
	s.Log.Info("a host was removed", "host", name, "by", who.KeyID)
	s.Feed.DevicesChanged()
	return nil
}

// HostCertificate gives the certificate by which the proxies of a host open HTTPS, as PEM.
func (s *Hosts) HostCertificate(ctx context.Context, name string) (string, error) {
	all, err := s.Store.Hosts(ctx)
	if err != nil {
		return "", err
	}
	for _, h := range all {
		if h.Name != name {
			continue
		}
		if h.About.V.Certificate == "" {
			return "", refuse.New(refuse.NotFound, "show the host's certificate", "run the same version of tessellant there, and see its log", "the host %s has told of none", name)
		}
		return h.About.V.Certificate, nil
	}
	return "", refuse.Missing(store.ErrNotFound, "host", name, "see the hosts with: tessellant host list")
}

// sendAway ends what a host's key, or an older process of it, has going on.
func (s *Hosts) sendAway(name string) {
	s.Access.KeysEnded()
	s.hostLink().forget(name)
	if s.Reach.Drop != nil {
		s.Reach.Drop(name)
	}
}

// Gate lets hosts to a bus of our own that have joined: each shows its name, and the token that joining gave.
func Gate(st *store.Store) func(user, password string) (older, ok bool) {
	return func(user, password string) (older, ok bool) {
		ctx, cancel := context.WithTimeout(context.Background(), gateWithin)
		defer cancel()
		h, err := st.HostBySession(ctx, access.Hash(password))
		return h.Protocol < hostlink.Protocol, err == nil && h.Name == user
	}
}

const gateWithin = 5 * time.Second

// Join begins a host's session. BusURL is how the bus can be reached from where the host is.
func (s *Hosts) Join(ctx context.Context, h store.Host, version string, protocol int, busURL string) (hostlink.Welcome, error) {
	const title = "join"
	if protocol > hostlink.Protocol || protocol < hostlink.Protocol-1 {
		return hostlink.Welcome{}, refuse.New(refuse.Outdated, title, "run the same version of tessellant on both sides", "the host speaks protocol %d, this service %d and the one before", protocol, hostlink.Protocol)
	}
	if busURL == "" {
		return hostlink.Welcome{}, refuse.New(refuse.Refused, title, "start the service with --bus-listen or --bus", "hosts on other machines can't reach the bus of this service")
	}
	token := "tshs_" + strings.ToLower(rand.Text())
	if err := s.Store.JoinHost(ctx, h.ID, version, protocol, access.Hash(token)); err != nil {
		return hostlink.Welcome{}, err
	}
	s.hostLink().forget(h.Name) // it is told anew what it is
	user, password := "", ""
	if s.Reach.External == "" {
		user, password = h.Name, token
	}
	if s.Reach.Drop != nil {
		s.Reach.Drop(h.Name) // the process that had joined before
	}
	s.Log.Info("a host has joined", "host", h.Name, "version", version)
	return hostlink.Welcome{Name: h.Name, Token: token, BusURL: busURL, BusUser: user, BusPassword: password, Now: time.Now().UTC()}, nil
}

// AnswerHosts answers what hosts ask over the bus until stop is called.
func (s *Hosts) AnswerHosts() (stop func(), err error) {
	return s.Orders.AnswerCalls(func(ctx context.Context, data []byte) []byte { return s.AnswerHost(ctx, "", data) })
}

// AnswerHost answers one call of a host. Only is the id of the host that it must be of; "": the call's own token alone says whose it is.
func (s *Hosts) AnswerHost(ctx context.Context, only string, data []byte) []byte {
	var a hostlink.Answer
	protocol := 0
	err := guard.Do(s.Log, guard.Order, func() (err error) {
		a, protocol, err = s.hostLink().answer(ctx, only, data)
		return err
	})
	if err != nil {
		a = hostlink.Answer{Problem: err.Error(), Kind: hostlink.KindOf(err)}
		if a.Kind == "" {
			s.Log.Debug("a host's call failed", "err", err)
		}
	}
	var raw []byte
	if protocol == hostlink.Protocol-1 {
		raw, _ = json.Marshal(a.Before(func(h hostlink.Hold) map[string]any { return s.toldOf(ctx, h) }))
	} else {
		raw, _ = json.Marshal(a)
	}
	return raw
}

// answer gives the answer to a call, and the protocol that the host speaks.
func (l *link) answer(ctx context.Context, only string, data []byte) (a hostlink.Answer, protocol int, err error) {
	var c hostlink.Call
	if err := json.Unmarshal(data, &c); err != nil {
		return a, 0, fmt.Errorf("the call can't be read: %w", err)
	}
	h, err := l.Store.HostBySession(ctx, access.Hash(c.Token))
	if errors.Is(err, store.ErrNotFound) || (err == nil && only != "" && h.ID != only) {
		return a, 0, hostlink.ErrStranger
	}
	if err != nil {
		return a, 0, err
	}
	var hold hostlink.Hold
	if c.Hold != "" {
		if hold, err = l.holdOf(ctx, h, c.Hold); err != nil {
			return a, h.Protocol, err
		}
	}
	switch c.Kind {
	case "devices":
		about := hostlink.About{}
		if c.About != nil {
			about = *c.About
		}
		a.Names, err = l.Devices(ctx, h.Name, about, c.Seen)
	case "holds":
		a.Holds, err = l.Holds(ctx, h.Name, c.Holds)
	case "renew":
		a.Names, err = l.Renew(ctx, h.Name, c.Holds)
	case "report":
		err = l.Report(ctx, hold, c.Reports)
	case "live":
		if c.Live != nil {
			err = l.Live(ctx, hold, *c.Live)
		}
	case "release":
		if c.Release != nil {
			err = l.Release(ctx, hold, *c.Release)
		}
	case "close":
		if c.Closing != nil {
			err = l.Close(ctx, hold, *c.Closing)
		}
	default:
		err = fmt.Errorf("there is no call %q", c.Kind)
	}
	return a, h.Protocol, err
}

// toldOf gives what is answered to a session's client besides what it asked for.
func (s *Hosts) toldOf(ctx context.Context, h hostlink.Hold) map[string]any {
	held, err := s.Store.HoldByID(ctx, h.ID)
	var d store.Device
	if err == nil {
		d, err = s.Store.DeviceByID(ctx, held.DeviceID)
	}
	if err != nil {
		s.Log.Warn("a session's device can't be found", "session", h.WorkID, "err", err)
	}
	return ours.Told(h.WorkID, h.Spec.App.Ref, d.Facts.V)
}

// holdOf gives one of a host's own holds, over or not; another's is as good as none.
func (s *Hosts) holdOf(ctx context.Context, h store.Host, id string) (hostlink.Hold, error) {
	x, err := s.Store.HoldByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || (err == nil && x.HostID != h.ID) {
		return hostlink.Hold{}, fmt.Errorf("%w: this host has no hold %s", hostlink.ErrOver, id)
	}
	return hostlink.Hold{ID: x.ID, RunID: x.RunID, WorkID: x.WorkID, Kind: x.Kind, AttemptID: x.AttemptID, WorkspaceID: x.WorkspaceID}, err
}

// HostFetch reads what a host needs for its hold.
func (s *Hosts) HostFetch(ctx context.Context, h store.Host, hold string, what hostlink.Content) (io.ReadCloser, error) {
	x, err := s.holdOf(ctx, h, hold)
	if err != nil {
		return nil, gone(err)
	}
	return s.HostLink().Fetch(ctx, x, what)
}

// HostFetchBuild reads any build of the workspace of a host's hold.
func (s *Hosts) HostFetchBuild(ctx context.Context, h store.Host, hold, ref string) (io.ReadCloser, error) {
	x, err := s.holdOf(ctx, h, hold)
	if err != nil {
		return nil, gone(err)
	}
	r, err := s.HostLink().FetchBuild(ctx, x, ref)
	var no *refuse.Error
	if errors.As(err, &no) && no.Kind == refuse.NotFound { // to a host, that would say that its hold is over
		err = refuse.New(refuse.Invalid, no.Title, no.Remedy, "%s", no.Why)
	}
	return r, gone(err)
}

// HostKeep takes in an artifact of a host's hold; with an offset of 0 or more, a part of one.
func (s *Hosts) HostKeep(ctx context.Context, h store.Host, hold, name string, offset int64, r io.Reader) error {
	x, err := s.holdOf(ctx, h, hold)
	if err != nil {
		return gone(err)
	}
	a, ok := tracks.Named(name)
	if !ok {
		return refuse.New(refuse.Invalid, "keep the artifact", "", "%.200q is no artifact's name", name)
	}
	if offset < 0 {
		return gone(s.HostLink().Keep(ctx, x, a, r))
	}
	part, err := io.ReadAll(io.LimitReader(r, maxPart+1))
	if err != nil {
		return err
	}
	if len(part) > maxPart {
		return refuse.New(refuse.TooLarge, "keep a part of the artifact", "send smaller parts", "a part has at most %d bytes", maxPart)
	}
	return gone(s.HostLink().Append(ctx, x, a, offset, part))
}

const maxPart = 4 << 20

// HostScreen takes in the newest picture of a host's hold.
func (s *Hosts) HostScreen(ctx context.Context, h store.Host, hold string, at int64, frame []byte) error {
	x, err := s.holdOf(ctx, h, hold)
	if err != nil {
		return gone(err)
	}
	return s.HostLink().Live(ctx, x, hostlink.Now{Frame: frame, FrameAt: at})
}

// gone turns the host's error into one for HTTP.
func gone(err error) error {
	if errors.Is(err, hostlink.ErrUnfit) {
		return refuse.New(refuse.Refused, "keep it", "leave it out", "%v", err)
	}
	if errors.Is(err, hostlink.ErrOver) {
		return refuse.New(refuse.NotFound, "find the hold", "it has ended; discard its data", "%v", err)
	}
	return err
}

// quarantineLasts is how long a device that quarantined itself rests before a check can release it.
func (s *Hosts) quarantineLasts() time.Duration {
	if s.QuarantineLasts > 0 {
		return s.QuarantineLasts
	}
	return time.Minute
}
