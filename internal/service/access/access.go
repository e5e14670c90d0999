// Package access says who asks: by a key, a browser's sign-in, or a ticket.
//
// Keys are long and random; what is kept of one is its hash. In: what somebody shows. Out: an Identity, or a refusal.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// store.Identity is who asks, and in which workspace.
type Identity = store.Identity

// Access is that room.
type Access struct {
	Store *store.Store
	Log   *slog.Logger

	known *lru.Cache[string, keyHolder] // by the key's hash
}

// New makes it.
func New(s *store.Store, log *slog.Logger) *Access {
	known, _ := lru.New[string, keyHolder](maxKeys) // it fails for no size alone
	return &Access{s, log, known}
}

// Owner refuses whoever is no owner of the workspace. Title says what was tried.
func Owner(who Identity, title string) error {
	if who.Role != "owner" {
		return refuse.New(refuse.Denied, title, "ask an owner of the workspace", "your role %s is not allowed to do this", who.Role)
	}
	return nil
}

// KeyPrefix begins every key, so that a key that leaked can be known as one.
const KeyPrefix = "tsl_"

// NewKey makes a key.
func NewKey() string { return KeyPrefix + strings.ToLower(rand.Text()) }

// Hash is what is kept of a key. Keys are long and random, so that a plain hash
// can't be reversed by guessing.
func Hash(key string) []byte {
	h := sha256.Sum256([]byte(key))
	return h[:]
}

// FirstKey makes the workspace and its first key where there is no key yet. It
// answers the key that it made, "" when there was one. Given is the key to use; "" for a random one.
func (s *Access) FirstKey(ctx context.Context, workspace, given string) (string, error) {
	n, err := s.Store.CountKeys(ctx)
	if err != nil {
		return "", err
	}
	key := given
	if given != "" {
		if len(given) < 20 {
			return "", errors.New("the key given for the first start is shorter than 20 characters: anybody could guess it")
		}
		if _, err := s.Store.KeyByHash(ctx, Hash(given)); err == nil {
			return "", nil
		}
	} else if n > 0 {
		return "", nil
	} else {
		key = NewKey()
	}
	err = s.Store.AddKey(ctx, workspace, "owner", "first key", Hash(key))
	if errors.Is(err, store.ErrTaken) { // another process of the service has just made it
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("make the first key: %w", err)
	}
	return key, nil
}

// SetProgramNetwork says whether programs of the workspace's packages may use the network.
func (s *Access) SetProgramNetwork(ctx context.Context, who store.Identity, on bool) (store.Identity, error) {
	if err := Owner(who, "change the workspace"); err != nil {
		return who, err
	}
	if err := s.Store.SetProgramNetwork(ctx, who.WorkspaceID, on); err != nil {
		return who, err
	}
	s.Log.Info("the network for programs was set", "workspace", who.Workspace, "on", on)
	who.ProgramNetwork = on
	return who, nil
}

// Enter says who a key belongs to.
func (s *Access) Enter(ctx context.Context, key string) (store.Identity, error) {
	const title = "enter the workspace"
	if key == "" {
		return store.Identity{}, refuse.New(refuse.Denied, title, "send Authorization: Bearer KEY; the command line reads TESSELLANT_KEY", "no key was given")
	}
	id, err := s.Store.KeyByHash(ctx, Hash(key))
	if errors.Is(err, store.ErrNotFound) {
		return id, refuse.New(refuse.Denied, title, "check the key; the first one was printed when the service started for the first time", "this key is unknown")
	}
	return id, err
}

const (
	// SigninLongest is how long a browser's sign-in lasts in all; it ends so long after its last use.
	SigninLongest = 7 * 24 * time.Hour
	signinIdle    = 12 * time.Hour
	// TicketLasts is how long a ticket can be used, once.
	TicketLasts = 10 * time.Minute
)

// SignIn gives the token of a browser's sign-in, for a key or a ticket.
func (s *Access) SignIn(ctx context.Context, key, ticket string) (token string, err error) {
	const title = "sign in"
	var keyID string
	switch {
	case key != "":
		who, err := s.Enter(ctx, key)
		if err != nil {
			return "", err
		}
		keyID = who.KeyID
	case ticket != "":
		keyID, err = s.Store.UseTicket(ctx, Hash(ticket))
		if errors.Is(err, store.ErrNotFound) {
			return "", refuse.New(refuse.Denied, title, "sign in with your key, or get a new link with: tessellant console", "this link was already used, or is older than %d minutes", int(TicketLasts.Minutes()))
		}
		if err != nil {
			return "", err
		}
	default:
		return "", refuse.New(refuse.Denied, title, "type the key of your workspace; the first one was printed when the service started for the first time", "no key was given")
	}
	token = "tsb_" + strings.ToLower(rand.Text())
	return token, s.Store.AddSignin(ctx, store.SigninBrowser, Hash(token), keyID, signinIdle)
}

// EnterSigned says whose browser this is, and until when.
func (s *Access) EnterSigned(ctx context.Context, token string) (store.Identity, time.Time, error) {
	who, expires, err := s.Store.SigninByHash(ctx, Hash(token), signinIdle, SigninLongest)
	if errors.Is(err, store.ErrNotFound) {
		err = refuse.New(refuse.Denied, "enter the workspace", "sign in again", "this browser is no longer signed in")
	}
	return who, expires, err
}

// SignOut ends a browser's sign-in.
func (s *Access) SignOut(ctx context.Context, token string) error {
	return s.Store.EndSignin(ctx, Hash(token))
}

// NewTicket makes a ticket that signs a browser in once.
func (s *Access) NewTicket(ctx context.Context, who store.Identity) (string, time.Time, error) {
	ticket := strings.ToLower(rand.Text())
	return ticket, time.Now().UTC().Add(TicketLasts).Truncate(time.Second), s.Store.AddSignin(ctx, store.SigninTicket, Hash(ticket), who.KeyID, TicketLasts)
}

// keyHolder is who was found to hold a key, and when.
type keyHolder struct {
	workspace string
	at        time.Time
}

const (
	keyTrust = 15 * time.Second // a key that was taken away opens no session, and commands one so much longer
	keyAsk   = 2 * time.Second  // for the database to say whose a key is that it has known before
	maxKeys  = 1000
)

// Holder says which workspace a key is of. A session's client shows it with each command: the database is asked now and
// then, and while it is away what it said last holds.
func (s *Access) Holder(ctx context.Context, key string) (workspace string, err error) {
	hash := string(Hash(key))
	known, before := s.known.Get(hash)
	if before {
		if time.Since(known.at) < keyTrust {
			return known.workspace, nil
		}
		s.known.Add(hash, keyHolder{known.workspace, time.Now()}) // one asks; the others need not wait
	}
	ask, cancel := ctx, func() {}
	if before {
		ask, cancel = context.WithTimeout(ctx, keyAsk)
	}
	defer cancel()
	who, err := s.Enter(ask, key)
	var no *refuse.Error
	if before && err != nil && !errors.As(err, &no) {
		return known.workspace, ctx.Err()
	}
	if err != nil {
		s.known.Remove(hash)
		return "", err
	}
	s.known.Add(hash, keyHolder{who.WorkspaceID, time.Now()})
	return who.WorkspaceID, nil
}
