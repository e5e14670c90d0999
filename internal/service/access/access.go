// Package access says who asks, and whether they may: by a key, a browser's sign-in, or a ticket.
//
// Keys are long and random; what is kept of one is its hash (keys.go makes and withdraws them, signins.go is for browsers, stay.go ends what goes on when a key ends). Who may do what
// stands in core/access; Allow asks there. In: what somebody shows. Out: an Identity, or a refusal.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"tessellant/internal/bus"
	"tessellant/internal/core/access"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Identity is who asks, and in which workspace.
type Identity = store.Identity

// Access is that room.
type Access struct {
	Store *store.Store
	Bus   bus.Bus
	Log   *slog.Logger

	known *lru.Cache[string, holder] // by the key's hash

	mu    sync.Mutex
	drops int                         // how often known was emptied
	going map[string]map[*func()]bool // what ends requests that go on, by what they showed
}

// New makes it.
func New(s *store.Store, b bus.Bus, log *slog.Logger) *Access {
	known, _ := lru.New[string, holder](maxKeys) // it fails for no size alone
	return &Access{Store: s, Bus: b, Log: log, known: known, going: map[string]map[*func()]bool{}}
}

// holder is who was found to hold a key, and when.
type holder struct {
	who Identity
	at  time.Time
}

const (
	// trust is how long a key that was good is taken for good: all processes hear at once of one that was withdrawn, unless the bus is away.
	trust    = 5 * time.Second
	keyAsk   = 2 * time.Second // for the database to say whose a key is that it has known before
	maxKeys  = 10_000
	entering = "enter the workspace"
)

// KeyPrefix begins every key, so that a key that leaked can be known as one; HostKeyPrefix a host's.
const (
	KeyPrefix     = "tsl_"
	HostKeyPrefix = "tslh_"
)

// NewKey makes a key.
func NewKey() string { return KeyPrefix + strings.ToLower(rand.Text()) }

// Hash is what is kept of a key. Keys are long and random, so that a plain hash
// can't be reversed by guessing.
func Hash(key string) []byte {
	h := sha256.Sum256([]byte(key))
	return h[:]
}

// Allow refuses whoever may not do something.
func (*Access) Allow(who Identity, a access.Action) error {
	if access.May(who.Role, a) {
		return nil
	}
	remedy := "use a key with the role " + access.Who(a)
	switch {
	case who.Role == access.Host:
		remedy = "use a key of a workspace; this one is for: tessellant host --join"
	case a == access.Work:
		remedy = "use a host's key; an operator makes one with: tessellant host key NAME"
	}
	return refuse.New(refuse.Forbidden, access.Words(a), remedy, "your key has the role %s, which does not allow this", who.Role)
}

// Enter says who a key belongs to.
func (s *Access) Enter(ctx context.Context, key string) (Identity, error) {
	who, _, err := s.enter(ctx, key)
	return who, err
}

// EnterSession is Enter for the commands of sessions: while the database is away, what it said last of a key holds.
func (s *Access) EnterSession(ctx context.Context, key string) (Identity, error) {
	ask, cancel := context.WithTimeout(ctx, keyAsk)
	defer cancel()
	who, before, err := s.enter(ask, key)
	var no *refuse.Error
	if err != nil && before && !errors.As(err, &no) {
		return who, ctx.Err()
	}
	return who, err
}

// enter says who a key belongs to, and whether that was known before. Where the database fails, it gives who the key belonged to.
func (s *Access) enter(ctx context.Context, key string) (who Identity, before bool, err error) {
	if key == "" {
		return who, false, refuse.New(refuse.Denied, entering, "send Authorization: Bearer KEY; the command line reads TESSELLANT_KEY", "no key was given")
	}
	hash, now := Hash(key), time.Now()
	s.mu.Lock()
	known, before := s.known.Get(string(hash))
	if known.who.Expires.Valid && !now.Before(known.who.Expires.Time) {
		before = false // what was known of it holds no more
	}
	fresh := before && now.Sub(known.at) < trust
	if before && !fresh {
		s.known.Add(string(hash), holder{known.who, now}) // one asks; the others need not wait
	}
	drops := s.drops
	s.mu.Unlock()
	if fresh {
		return known.who, true, nil
	}
	who, err = s.find(ctx, key, hash)
	var no *refuse.Error
	switch {
	case errors.As(err, &no):
		s.known.Remove(string(hash))
		return who, before, err
	case err != nil:
		return known.who, before, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if drops == s.drops { // else a key may have ended since the database was asked
		s.known.Add(string(hash), holder{who, now})
	}
	return who, before, nil
}

// find asks the database.
func (s *Access) find(ctx context.Context, key string, hash []byte) (who Identity, err error) {
	if strings.HasPrefix(key, HostKeyPrefix) {
		who.Role = access.Host
		who.Host, err = s.Store.HostByKey(ctx, hash)
		if errors.Is(err, store.ErrNotFound) {
			err = refuse.New(refuse.Denied, "enter as a host", "ask an operator for a new one; they make it with: tessellant host key NAME", "this host's key is unknown, or was removed")
		}
		return who, err
	}
	who, err = s.Store.KeyByHash(ctx, hash)
	if errors.Is(err, store.ErrNotFound) {
		return who, refuse.New(refuse.Denied, entering, "check the key; the first one was printed when the service started for the first time", "this key is unknown")
	}
	return who, errors.Join(err, ended(who))
}

// ended says why a key does not let its holder in any more; nil: it does.
func ended(who Identity) error {
	switch {
	case who.Withdrawn:
		return refuse.New(refuse.Denied, entering, "ask an owner of the workspace for a new one", "the key %q was withdrawn", who.KeyName)
	case who.Expired:
		return refuse.New(refuse.Denied, entering, "ask an owner of the workspace for a new one", "the key %q ran out on %s", who.KeyName, who.Expires.Time.Format("2 January 2006 at 15:04 UTC"))
	}
	return nil
}

// KeysEnded tells all processes of the service that a key, or a sign-in, is no longer what it was.
func (s *Access) KeysEnded() {
	s.drop()
	s.Bus.Publish(bus.Access, nil)
}

// drop forgets who holds which key.
func (s *Access) drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drops++
	s.known.Purge()
}
