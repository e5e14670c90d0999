package httpd

// Links to runs for people who have no key: made and withdrawn over the API, opened at /share.

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"tessellant/api"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// SharePath is where links lead.
const SharePath = "/share"

func (s *server) AddShare(ctx context.Context, q api.AddShareRequestObject) (api.AddShareResponseObject, error) {
	r := service.ShareRequest{Leg: text(q.Body.Leg)}
	if q.Body.LastsSeconds != nil {
		if r.Lasts = time.Duration(*q.Body.LastsSeconds) * time.Second; r.Lasts == 0 {
			r.Lasts = -1 // said, and makes no sense
		}
	}
	if q.Body.Without != nil {
		for _, w := range *q.Body.Without {
			r.Without = append(r.Without, string(w))
		}
	}
	x, token, err := s.s.AddShare(ctx, identity(ctx), q.Id, r)
	if err != nil {
		return nil, err
	}
	link := SharePath + "/" + token + "/"
	if x.WorkID != "" {
		link += "legs/" + x.WorkID
	}
	return api.AddShare201JSONResponse{Share: runShareOut(x), Path: link}, nil
}

func (s *server) ListShares(ctx context.Context, q api.ListSharesRequestObject) (api.ListSharesResponseObject, error) {
	rows, err := s.s.ListShares(ctx, identity(ctx), q.Id)
	return api.ListShares200JSONResponse{Items: each(rows, runShareOut)}, err
}

func (s *server) RemoveShare(ctx context.Context, q api.RemoveShareRequestObject) (api.RemoveShareResponseObject, error) {
	return api.RemoveShare204Response{}, s.s.RemoveShare(ctx, identity(ctx), q.Id)
}

func runShareOut(x store.Share) api.RunShare {
	o := api.RunShare{Id: x.ID, Run: x.RunID, Leg: some(x.WorkID), Expires: x.Expires, Views: x.Views, MadeBy: x.MadeBy, Created: x.Created, Without: []api.ShareWithout{}}
	for _, w := range strings.Split(x.Without, ",") {
		if w != "" {
			o.Without = append(o.Without, api.ShareWithout(w))
		}
	}
	if x.Withdrawn.Valid {
		o.Withdrawn = &x.Withdrawn.Time
	}
	return o
}

// A visitor may open so many things of shares a second, and so many at once: pages load pictures.
const (
	visitsASecond = 20
	visitsAtOnce  = 200
	maxVisitors   = 10_000 // that are told apart
)

// visitors bounds what each of them opens.
type visitors struct {
	mu sync.Mutex
	of map[string]*rate.Limiter
}

func (v *visitors) may(r *http.Request) bool {
	from, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		from = r.RemoteAddr
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.of == nil || len(v.of) >= maxVisitors {
		v.of = map[string]*rate.Limiter{}
	}
	if v.of[from] == nil {
		v.of[from] = rate.NewLimiter(visitsASecond, visitsAtOnce)
	}
	return v.of[from].Allow()
}

// openShares serves what links lead to.
func openShares(e *echo.Echo, s *service.Service) {
	v := &visitors{}
	open := func(show func(c *echo.Context, x store.Share) error) echo.HandlerFunc {
		return func(c *echo.Context) error {
			h := c.Response().Header()
			h.Set("X-Robots-Tag", "noindex, nofollow")
			h.Set("Cache-Control", "private, no-store")
			h.Set("Referrer-Policy", "no-referrer")
			h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; media-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
			if !v.may(c.Request()) {
				h.Set("Retry-After", "5")
				return c.String(http.StatusTooManyRequests, "too much was asked for at once; try again in a few seconds\n")
			}
			x, err := s.OpenShare(c.Request().Context(), c.Param("token"))
			if err == nil {
				err = show(c, x)
			}
			return plainRefusal(c, err)
		}
	}
	run := open(func(c *echo.Context, x store.Share) error {
		p, err := s.SharedRun(c.Request().Context(), x)
		if err != nil {
			return err
		}
		return sharedPage(c, p.Write)
	})
	e.GET(SharePath+"/:token/", run)
	e.GET(SharePath+"/:token", func(c *echo.Context) error {
		return c.Redirect(http.StatusMovedPermanently, SharePath+"/"+url.PathEscape(c.Param("token"))+"/") // a path, whatever the token is
	})
	e.GET(SharePath+"/:token/legs/:leg", open(func(c *echo.Context, x store.Share) error {
		p, err := s.SharedLeg(c.Request().Context(), x, c.Param("leg"))
		if err != nil {
			return err
		}
		return sharedPage(c, p.Write)
	}))
	e.GET(SharePath+"/:token/files/:file", open(func(c *echo.Context, x store.Share) error {
		f, err := s.SharedFile(c.Request().Context(), x, c.Param("file"))
		if err != nil {
			return err
		}
		ctx := context.WithValue(c.Request().Context(), keyRequest, c.Request())
		return artifactBytes{ctx, s, f}.VisitGetArtifactResponse(c.Response())
	}))
}

// sharedPage sends a page, written whole first: it is bounded.
func sharedPage(c *echo.Context, write func(io.Writer) error) error {
	var buf bytes.Buffer
	if err := write(&buf); err != nil {
		return err
	}
	return c.HTMLBlob(http.StatusOK, buf.Bytes())
}

// plainRefusal says no to somebody who has a browser and no account.
func plainRefusal(c *echo.Context, err error) error {
	if no, ok := err.(*refuse.Error); ok && no.Kind == refuse.NotFound { //nolint:errorlint // as the room gives it
		return c.String(http.StatusNotFound, "This link is not known, has run out, or was withdrawn. Ask who gave it to you for a new one.\n")
	}
	return err
}
