package access

// Browsers: they sign in with a key, or with a ticket that works once.

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"tessellant/internal/core/access"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

const (
	// SigninLongest is how long a browser's sign-in lasts in all; it ends so long after its last use.
	SigninLongest = 7 * 24 * time.Hour
	signinIdle    = 12 * time.Hour
	signinPrefix  = "tsb_"
	// TicketLasts is how long a ticket can be used, once.
	TicketLasts = 10 * time.Minute
)

// IsSignin says whether what somebody shows is a browser's sign-in, not a key.
func IsSignin(shown string) bool { return strings.HasPrefix(shown, signinPrefix) }

// SignIn gives the token of a browser's sign-in, for a key or a ticket.
func (s *Access) SignIn(ctx context.Context, key, ticket string) (token string, err error) {
	const title = "sign in"
	var keyID string
	switch {
	case key != "":
		who, err := s.Enter(ctx, key)
		if err == nil {
			err = s.Allow(who, access.Enter)
		}
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
	token = signinPrefix + strings.ToLower(rand.Text())
	return token, s.Store.AddSignin(ctx, store.SigninBrowser, Hash(token), keyID, signinIdle)
}

// EnterSigned says whose browser this is, and until when its sign-in lasts.
func (s *Access) EnterSigned(ctx context.Context, token string) (Identity, time.Time, error) {
	who, expires, err := s.Store.SigninByHash(ctx, Hash(token), signinIdle, SigninLongest)
	if errors.Is(err, store.ErrNotFound) {
		return who, expires, refuse.New(refuse.Denied, entering, "sign in again", "this browser is no longer signed in")
	}
	if err == nil {
		err = ended(who)
	}
	if who.Expires.Valid && who.Expires.Time.Before(expires) {
		expires = who.Expires.Time
	}
	return who, expires, err
}

// SignOut ends a browser's sign-in.
func (s *Access) SignOut(ctx context.Context, token string) error {
	err := s.Store.EndSignin(ctx, Hash(token))
	s.KeysEnded()
	return err
}

// NewTicket makes a ticket that signs a browser in once.
func (s *Access) NewTicket(ctx context.Context, who Identity) (string, time.Time, error) {
	ticket := strings.ToLower(rand.Text())
	return ticket, time.Now().UTC().Add(TicketLasts).Truncate(time.Second), s.Store.AddSignin(ctx, store.SigninTicket, Hash(ticket), who.KeyID, TicketLasts)
}
