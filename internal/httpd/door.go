package httpd

// /webdriver: the remote end that any W3C WebDriver client talks to.

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"tessellant/internal/core/access"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
	"tessellant/internal/remoteend"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

// Door is where the W3C WebDriver remote end lies.
const Door = "/webdriver"

const (
	largeBody  = 64 << 10         // bytes; longer ones wait for a place
	largeAtOne = 3                // places
	largeWaits = 30 * time.Second // for one
)

// webdriver answers what comes through the door. Nothing of a body is read before it is known that its sender may send it.
func webdriver(s *service.Service) echo.HandlerFunc {
	sameOrigin := http.NewCrossOriginProtection()
	places := make(chan struct{}, largeAtOne)
	return func(c *echo.Context) error {
		r, w := c.Request(), c.Response()
		path := strings.TrimPrefix(r.URL.EscapedPath(), Door)
		if sameOrigin.Check(r) != nil {
			out := remoteend.Answer(w3c.Fail(w3c.UnknownError, "another site's page asked for it; sessions are commanded by programs, or by pages of this address"))
			out.Status = http.StatusForbidden
			out.Write(w)
			return nil
		}
		if r.Method == http.MethodGet && strings.EqualFold(r.Header.Get("Upgrade"), "websocket") {
			return listen(s, w, r, path)
		}
		call, werr := w3c.Route(r.Method, path)
		if werr != nil {
			remoteend.Answer(werr).Write(w)
			return nil
		}
		key := keyOf(r)
		who := service.Identity{}
		most := remoteend.Longest(call)
		switch {
		case call.Name == "Status":
			ready := s.Ready(r.Context()) == nil
			remoteend.Status(ready, map[bool]string{true: "sessions can be opened; whether they wait depends on the devices", false: "the database does not answer"}[ready]).Write(w)
			return nil
		case call.Name == "New Session" && key == "":
			most = ours.MaxKeyless
		case call.Name == "New Session":
			var err error
			if who, err = mayTest(s, s.Enter, r, key); err != nil {
				deny(w, w3c.SessionNotCreated, err)
				return nil
			}
		default:
			var err error
			if key != "" {
				if who, err = mayTest(s, s.EnterSession, r, key); err != nil {
					deny(w, w3c.InvalidSessionID, err)
					return nil
				}
			}
			if werr := s.HasSession(r.Context(), who.WorkspaceID, call.Session); werr != nil {
				remoteend.Answer(werr).Write(w)
				return nil
			}
		}
		if r.ContentLength > most && most > 0 {
			remoteend.Answer(remoteend.TooLong(most)).Write(w)
			return nil
		}
		if most > remoteend.MaxPlain && (r.ContentLength < 0 || r.ContentLength > largeBody) {
			wait, cancel := context.WithTimeout(r.Context(), largeWaits)
			defer cancel()
			select {
			case places <- struct{}{}:
				defer func() { <-places }()
			case <-wait.Done():
				remoteend.Answer(w3c.Fail(w3c.UnknownError, "%d files are being put already; try again in a while", largeAtOne)).Write(w)
				return nil
			}
		}
		body, werr := remoteend.ReadBody(newPatientBody(r.Context(), r.Body, http.NewResponseController(w)), most)
		if werr != nil {
			remoteend.Answer(werr).Write(w)
			return nil
		}
		if call.Name == "New Session" {
			if key == "" {
				var err error
				key = ours.KeyIn(body)
				if who, err = mayTest(s, s.Enter, r, key); err != nil {
					deny(w, w3c.SessionNotCreated, err)
					return nil
				}
			}
			defer remain(s, r, key)()
			s.OpenSession(r.Context(), who, body, listensAt(r)).Write(w)
			return nil
		}
		if key != "" {
			defer remain(s, r, key)()
		}
		s.Command(r.Context(), who.WorkspaceID, remoteend.Request{Method: r.Method, Path: path, Body: body}).Write(w)
		return nil
	}
}

// mayTest says who a key belongs to, unless it may neither test nor borrow.
func mayTest(s *service.Service, enter func(context.Context, string) (service.Identity, error), r *http.Request, key string) (service.Identity, error) {
	who, err := enter(r.Context(), key)
	if err == nil {
		err = s.Allow(who, access.Borrow) // all who may test may
	}
	return who, err
}

// remain ends the request when the key does.
func remain(s *service.Service, r *http.Request, key string) (leave func()) {
	end, ok := r.Context().Value(keyEnd).(context.CancelCauseFunc)
	if !ok {
		return func() {}
	}
	return s.Remain(key, func() { end(errEnded) })
}

// deny says why a key will not do. The status asks for one where another would, as clients that know of basic authentication expect.
func deny(w http.ResponseWriter, code w3c.Code, err error) {
	var no *refuse.Error
	if !errors.As(err, &no) {
		remoteend.Answer(w3c.Fail(w3c.UnknownError, "the key can't be looked at now; try again in a while")).Write(w)
		return
	}
	out := remoteend.Answer(w3c.Fail(code, "%v", no))
	if out.Status = statusOf[no.Kind]; out.Status != http.StatusUnauthorized {
		out.Write(w)
		return
	}
	w.Header().Set("WWW-Authenticate", `Basic realm="Tessellant: any name, and a key as the password"`)
	out.Write(w)
}

func keyOf(r *http.Request) string {
	if _, password, ok := r.BasicAuth(); ok {
		return password
	}
	key, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return strings.TrimSpace(key)
}
