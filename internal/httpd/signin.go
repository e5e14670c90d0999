package httpd

// Browsers signing in and out.

import (
	"context"
	"net"
	"net/http"
	"time"

	"tessellant/api"
	"tessellant/internal/core/access"
	"tessellant/internal/service"
)

// cookieName has the service's port in it: browsers keep cookies by host alone,
// and two services on one machine must not sign each other's browsers out.
func cookieName(r *http.Request) string {
	if _, port, err := net.SplitHostPort(r.Host); err == nil {
		return "tessellant_" + port
	}
	return "tessellant"
}

func overTLS(r *http.Request) bool {
	return r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https"
}

// cookie holds a sign-in: no script can read it, no other site's page can send it.
// The service knows when it is over; the browser forgets it when it is closed, or after the longest time.
func cookie(ctx context.Context, token string, lasts time.Duration) *string {
	r, _ := ctx.Value(keyRequest).(*http.Request)
	c := http.Cookie{Name: cookieName(r), Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: overTLS(r), MaxAge: int(lasts.Seconds())}
	s := c.String()
	return &s
}

func (s *server) me(ctx context.Context, who service.Identity) api.Me {
	o := api.Me{Workspace: who.Workspace, Role: api.Role(who.Role), Key: who.KeyName, May: each(access.Allowed(who.Role), func(a access.Action) string { return string(a) }), Version: s.s.Version, ProgramNetwork: who.ProgramNetwork, OtherApps: who.OtherApps, Routes: who.Routes.V}
	if t, ok := ctx.Value(keyExpires).(time.Time); ok && !t.IsZero() {
		o.Expires = &t
	}
	return o
}

func (s *server) SetWorkspace(ctx context.Context, q api.SetWorkspaceRequestObject) (api.SetWorkspaceResponseObject, error) {
	who, err := s.s.SetAllowances(ctx, identity(ctx), q.Body.ProgramNetwork, q.Body.OtherApps, q.Body.Routes)
	return api.SetWorkspace200JSONResponse(s.me(ctx, who)), err
}

func (s *server) SignIn(ctx context.Context, q api.SignInRequestObject) (api.SignInResponseObject, error) {
	token, err := s.s.SignIn(ctx, text(q.Body.Key), text(q.Body.Ticket))
	if err != nil {
		return nil, err
	}
	who, expires, err := s.s.EnterSigned(ctx, token)
	if err != nil {
		return nil, err
	}
	return api.SignIn200JSONResponse{Body: s.me(context.WithValue(ctx, keyExpires, expires), who),
		Headers: api.SignIn200ResponseHeaders{SetCookie: cookie(ctx, token, service.SigninLongest)}}, nil
}

func (s *server) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	if r, ok := ctx.Value(keyRequest).(*http.Request); ok {
		if c, err := r.Cookie(cookieName(r)); err == nil {
			if err := s.s.SignOut(ctx, c.Value); err != nil {
				return nil, err
			}
		}
	}
	return api.SignOut204Response{Headers: api.SignOut204ResponseHeaders{SetCookie: cookie(ctx, "", -time.Second)}}, nil
}

func (s *server) AddTicket(ctx context.Context, _ api.AddTicketRequestObject) (api.AddTicketResponseObject, error) {
	ticket, expires, err := s.s.NewTicket(ctx, identity(ctx))
	return api.AddTicket201JSONResponse{Ticket: ticket, Expires: expires, Path: "/signin#" + ticket}, err
}
