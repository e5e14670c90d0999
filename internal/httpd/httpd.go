// Package httpd is the service's HTTP face: REST under /api/v1 as api/openapi.yaml
// says, live events, the console's files, health, readiness and metrics.
//
// It turns requests into calls of internal/service, and errors into
// application/problem+json (RFC 9457). It decides nothing itself.
package httpd

import (
	"cmp"
	"context"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/net/netutil"

	"tessellant/api"
	"tessellant/console"
	"tessellant/internal/blobs"
	"tessellant/internal/core/access"
	"tessellant/internal/guard"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

const (
	maxHeader      = 64 << 10 // bytes
	headerWithin   = 10 * time.Second
	idleWithin     = 2 * time.Minute // between two requests
	maxConnections = 4096
)

// Server is the service behind HTTP, with deadlines for whatever a client may be slow at.
func Server(s *service.Service, metrics *prometheus.Registry) *http.Server {
	return &http.Server{Handler: New(s, metrics), ReadHeaderTimeout: headerWithin, IdleTimeout: idleWithin, MaxHeaderBytes: maxHeader,
		ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug)}
}

// Bounded takes no more connections at once than the service has memory for; further ones wait.
func Bounded(l net.Listener) net.Listener { return netutil.LimitListener(l, maxConnections) }

// New gives the handler of the whole service.
func New(s *service.Service, metrics *prometheus.Registry) http.Handler {
	e := echo.NewWithConfig(echo.Config{Router: echo.NewRouter(echo.RouterConfig{UnescapePathParamValues: true})})
	e.Logger = s.Log
	e.Binder = jsonBody{}
	e.HTTPErrorHandler = func(c *echo.Context, err error) { answerError(c, s.Log, err) }
	took := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "tessellant_http_request_seconds", Help: "Time to answer an HTTP request.",
		Buckets: []float64{.001, .005, .025, .1, .5, 2, 10, 60}}, []string{"method", "route", "status"})
	metrics.MustRegister(took, guard.Panics)
	e.Use(measure(took, s.Log), recovered(s.Log))
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "alive\n") })
	e.GET("/readyz", func(c *echo.Context) error {
		ctx, cancel := context.WithTimeout(c.Request().Context(), 3*time.Second)
		defer cancel()
		if err := s.Ready(ctx); err != nil {
			s.Log.Warn("not ready", "err", err)
			return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
		}
		return c.String(http.StatusOK, "ready\n")
	})
	e.GET("/metrics", echo.WrapHandler(promhttp.HandlerFor(metrics, promhttp.HandlerOpts{})), enter(s, func(*echo.Context) access.Action { return metricsAction }))
	may, err := described()
	if err != nil {
		panic(err) // of a description that no test has seen
	}
	g := e.Group(api.Prefix, middleware.GzipWithConfig(middleware.GzipConfig{Skipper: notPacked, Level: 3, MinLength: 1000}), enter(s, func(c *echo.Context) access.Action { return may.of(c.Request().Method, c.Path()) }), bounds(s))
	api.RegisterHandlers(g, api.NewStrictHandler(&server{s, make(chan struct{}, windowsAtOnce)}, nil))
	if lacks := may.lacks(e.Router().Routes()); len(lacks) > 0 {
		panic(fmt.Sprintf("operations without an action: %v", lacks))
	}
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodDelete, http.MethodPut, http.MethodPatch} {
		e.Add(method, Door+"/*", webdriver(s))
	}
	openShares(e, s)
	e.GET("/*", consoleFiles(console.Files(), s.Feed.Here))
	return outermost(e, e.Router().Routes())
}

const (
	drainBytes = 64 << 20        // of a body that nobody wants any more
	drainTime  = 5 * time.Second // for it
)

// outermost does what holds for every request: answers are written at a pace, HEAD is GET without the body (RFC 9110 section 9.3.2), a wrong
// method is told which are right, and a client whose request was refused early is heard out, so that it sees the answer.
func outermost(e http.Handler, routes echo.Routes) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r, end := ending(r)
		defer end(nil)
		pw := newPatientWriter(r.Context(), w)
		w.Header().Set("X-Content-Type-Options", "nosniff")
		body := r.Body
		endless := strings.HasSuffix(r.URL.Path, "/events") || strings.HasSuffix(r.URL.Path, "/backup")
		if r.Method == http.MethodHead && !endless {
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		if allowed := methodsOf(routes, r.URL.Path); len(allowed) > 0 && !slices.Contains(allowed, r.Method) {
			w.Header().Set("Allow", strings.Join(allowed, ", "))
			writeProblem(pw, r, problem("method", http.StatusMethodNotAllowed, "could not do that", fmt.Sprintf("%.20s is not done on %.200s", r.Method, r.URL.Path), "use "+strings.Join(allowed, " or ")))
		} else {
			e.ServeHTTP(pw, r)
		}
		_ = pw.rc.SetWriteDeadline(time.Now().Add(idleWrite)) // for what is written yet
		if body == nil || body == http.NoBody {
			return
		}
		_ = pw.rc.SetReadDeadline(time.Now().Add(drainTime))
		if n, _ := io.CopyN(io.Discard, body, 1); n > 0 {
			_ = pw.rc.Flush()
			_, _ = io.CopyN(io.Discard, body, drainBytes)
		}
	})
}

// methodsOf gives the methods that a path of the API has; none: it is no path of the API.
func methodsOf(routes echo.Routes, path string) (out []string) {
	if !strings.HasPrefix(path, api.Prefix+"/") && path != "/metrics" && path != "/healthz" && path != "/readyz" {
		return nil
	}
	parts := strings.Split(path, "/")
	for _, r := range routes {
		wanted := strings.Split(r.Path, "/")
		fits := len(wanted) == len(parts)
		for i := 0; fits && i < len(parts); i++ {
			fits = wanted[i] == parts[i] || (strings.HasPrefix(wanted[i], ":") && parts[i] != "")
		}
		if fits && !slices.Contains(out, r.Method) {
			out = append(out, r.Method)
		}
	}
	slices.Sort(out)
	return out
}

// recovered ends a request that panics, and nothing else.
func recovered(log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) (err error) {
			defer func() {
				if r := recover(); r == http.ErrAbortHandler { //nolint:errorlint // as net/http compares it
					panic(r)
				} else if r != nil {
					err = guard.Caught(log, guard.Request, r)
				}
			}()
			return next(c)
		}
	}
}

// notPacked leaves out what is packed already, what has ranges, what streams, and connections that become something else.
func notPacked(c *echo.Context) bool {
	if c.Request().Header.Get("Upgrade") != "" {
		return true
	}
	for _, end := range []string{"/events", "/icon", "/artifacts/:id", "/screen", "/picture", "/files", "/backup", "/holds/:id/build", "/holds/:id/package"} {
		if strings.HasSuffix(c.Path(), end) {
			return true
		}
	}
	return false
}

func measure(took *prometheus.HistogramVec, log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			start := time.Now()
			if err := next(c); err != nil {
				answerError(c, log, err)
			}
			status := 0
			if r, err := echo.UnwrapResponse(c.Response()); err == nil {
				status = r.Status
			}
			route := c.Path()
			if route == "" {
				route = "none"
			}
			took.WithLabelValues(c.Request().Method, route, fmt.Sprint(status)).Observe(time.Since(start).Seconds())
			log.Debug("request", "method", c.Request().Method, "route", route, "status", status, "took", time.Since(start))
			return nil
		}
	}
}

var statusOf = map[refuse.Kind]int{refuse.NotFound: 404, refuse.Invalid: 400, refuse.Refused: 422, refuse.TooLarge: 413, refuse.CutOff: 400, refuse.Denied: 401, refuse.Forbidden: 403, refuse.Foreign: 403, refuse.Outdated: 426, refuse.Unsupported: 415, refuse.Unavailable: 503}

func problem(kind string, status int, title, detail, remedy string) api.Problem {
	return api.Problem{Type: "urn:tessellant:problem:" + kind, Status: status, Title: title, Detail: &detail, Remedy: &remedy}
}

// innermost is the error that others were wrapped around.
func innermost(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// answerError writes an error as a problem (RFC 9457).
func answerError(c *echo.Context, log *slog.Logger, err error) {
	if r, uerr := echo.UnwrapResponse(c.Response()); uerr == nil && r.Committed {
		return
	}
	p := api.Problem{Type: "about:blank", Title: "the service failed", Status: http.StatusInternalServerError}
	var se *refuse.Error
	var he *echo.HTTPError
	var coder echo.HTTPStatusCoder
	var tooBig *http.MaxBytesError
	var netErr *net.OpError
	switch {
	case errors.As(err, &se):
		p = api.Problem{Type: "urn:tessellant:problem:" + string(se.Kind), Title: "could not " + se.Title, Status: statusOf[se.Kind], Detail: &se.Why}
		if se.Remedy != "" {
			p.Remedy = &se.Remedy
		}
		if len(se.Findings) > 0 {
			fs := findings(se.Findings)
			p.Findings = &fs
		}
	case errors.As(err, &tooBig):
		p = problem("too-large", http.StatusRequestEntityTooLarge, "could not read the request", fmt.Sprintf("its body is longer than the %d bytes that may come here", tooBig.Limit), "send less")
	case errors.Is(err, io.EOF):
		p = problem("invalid", http.StatusBadRequest, "could not read the request", "it has no body", "send JSON as the API's description has it")
	case errors.As(err, &he):
		p.Status, p.Title = he.Code, cmp.Or(he.Message, http.StatusText(he.Code))
		if name, ok := badParameter(he.Message); ok {
			p = problem("invalid", he.Code, "could not read the request", fmt.Sprintf("its parameter %s has a value that can't be read, or lacks one", name), "see the parameter in the API's description")
		}
	case errors.As(err, &coder):
		p.Status, p.Title = coder.StatusCode(), err.Error()
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT), errors.Is(err, blobs.ErrFull):
		log.Error("the disk is full", "method", c.Request().Method, "path", c.Request().URL.Path, "err", err)
		p = problem("disk-full", http.StatusInsufficientStorage, "could not keep it", "the service's disk is full", "tell who runs the service; nothing was kept of this request")
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysql.ErrInvalidConn), errors.As(err, &netErr):
		log.Error("the database does not answer", "method", c.Request().Method, "path", c.Request().URL.Path, "err", err)
		p = problem("unavailable", http.StatusServiceUnavailable, "could not do it now", "the service's database does not answer", "try again in a while")
	case errors.Is(err, context.Canceled):
		p.Status, p.Title = 499, "the client went away"
	default:
		id := fmt.Sprintf("%x", time.Now().UnixNano())
		log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "err", err, "incident", id)
		detail, remedy := "the service's log has the reason under incident "+id, "try again; if it happens again, show the log to the person who runs the service"
		p.Detail, p.Remedy = &detail, &remedy
	}
	if why := innermost(err); p.Status == http.StatusBadRequest && p.Title == http.StatusText(p.Status) && why != err {
		p = problem("invalid", p.Status, "could not read the request", "its body is not what is wanted here: "+why.Error(), "send JSON as the API's description has it")
	}
	if p.Status == http.StatusNotFound && p.Type == "about:blank" {
		p.Title = fmt.Sprintf("there is no %.20s %.200s here", c.Request().Method, c.Request().URL.Path)
	}
	if p.Status == http.StatusUnauthorized {
		c.Response().Header().Set("WWW-Authenticate", "Bearer")
	}
	writeProblem(c.Response(), c.Request(), p)
}

func writeProblem(w http.ResponseWriter, r *http.Request, p api.Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	if r.Method != http.MethodHead {
		_ = json.NewEncoder(w).Encode(p)
	}
}

var parameterForm = regexp.MustCompile(`parameter '?"?([\w-]+)`)

// badParameter finds the parameter that the generated code complains of.
func badParameter(said string) (name string, ok bool) {
	m := parameterForm.FindStringSubmatch(said)
	if m == nil {
		return "", false
	}
	return m[1], true
}
