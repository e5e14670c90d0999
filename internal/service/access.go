package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/store"
)

// Identity is who asks, and in which workspace.
type Identity = store.Identity

// KeyPrefix begins every key, so that a key that leaked can be known as one.
const KeyPrefix = "tsl_"

// NewKey makes a key.
func NewKey() string { return KeyPrefix + strings.ToLower(rand.Text()) }

// hashKey is what is kept of a key. Keys are long and random, so that a plain hash
// can't be reversed by guessing.
func hashKey(key string) []byte {
	h := sha256.Sum256([]byte(key))
	return h[:]
}

// FirstKey makes the workspace and its first key where there is no key yet. It
// answers the key that it made, "" when there was one. Given is the key to use; "" for a random one.
func (s *Service) FirstKey(ctx context.Context, workspace, given string) (string, error) {
	n, err := s.Store.CountKeys(ctx)
	if err != nil {
		return "", err
	}
	key := given
	if given != "" {
		if len(given) < 20 {
			return "", errors.New("the key given for the first start is shorter than 20 characters: anybody could guess it")
		}
		if _, err := s.Store.KeyByHash(ctx, hashKey(given)); err == nil {
			return "", nil
		}
	} else if n > 0 {
		return "", nil
	} else {
		key = NewKey()
	}
	if err := s.Store.AddKey(ctx, workspace, "owner", "first key", hashKey(key)); err != nil {
		return "", fmt.Errorf("make the first key: %w", err)
	}
	return key, nil
}

// SetProgramNetwork says whether programs of the workspace's packages may use the network.
func (s *Service) SetProgramNetwork(ctx context.Context, who Identity, on bool) (Identity, error) {
	if err := owner(who, "change the workspace"); err != nil {
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
func (s *Service) Enter(ctx context.Context, key string) (Identity, error) {
	const title = "enter the workspace"
	if key == "" {
		return Identity{}, fail(Denied, title, "send Authorization: Bearer KEY; the command line reads TESSELLANT_KEY", "no key was given")
	}
	id, err := s.Store.KeyByHash(ctx, hashKey(key))
	if errors.Is(err, store.ErrNotFound) {
		return id, fail(Denied, title, "check the key; the first one was printed when the service started for the first time", "this key is not known")
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
func (s *Service) SignIn(ctx context.Context, key, ticket string) (token string, err error) {
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
		keyID, err = s.Store.UseTicket(ctx, hashKey(ticket))
		if errors.Is(err, store.ErrNotFound) {
			return "", fail(Denied, title, "sign in with your key, or make another link with: tessellant console", "this link was used before, or is older than %d minutes", int(TicketLasts.Minutes()))
		}
		if err != nil {
			return "", err
		}
	default:
		return "", fail(Denied, title, "type the key of your workspace; the first one was printed when the service started for the first time", "no key was given")
	}
	token = "tsb_" + strings.ToLower(rand.Text())
	return token, s.Store.AddSignin(ctx, store.SigninBrowser, hashKey(token), keyID, signinIdle)
}

// EnterSigned says whose browser this is, and until when.
func (s *Service) EnterSigned(ctx context.Context, token string) (Identity, time.Time, error) {
	who, expires, err := s.Store.SigninByHash(ctx, hashKey(token), signinIdle, SigninLongest)
	if errors.Is(err, store.ErrNotFound) {
		err = fail(Denied, "enter the workspace", "sign in again", "this browser is not signed in any more")
	}
	return who, expires, err
}

// SignOut ends a browser's sign-in.
func (s *Service) SignOut(ctx context.Context, token string) error {
	return s.Store.EndSignin(ctx, hashKey(token))
}

// NewTicket makes a ticket that signs a browser in once.
func (s *Service) NewTicket(ctx context.Context, who Identity) (string, time.Time, error) {
	ticket := strings.ToLower(rand.Text())
	return ticket, time.Now().UTC().Add(TicketLasts).Truncate(time.Second), s.Store.AddSignin(ctx, store.SigninTicket, hashKey(ticket), who.KeyID, TicketLasts)
}
