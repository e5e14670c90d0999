package httpd

// Who is let in, and to what: each operation of api/openapi.yaml names its action, and access says whether a key may do it.

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"go.yaml.in/yaml/v3"

	"tessellant/api"
	"tessellant/internal/core/access"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

// actions are the actions of routes, as METHOD /path/:id.
type actions map[string]access.Action

// metricsAction is the action of what is found outside of the API's description.
const metricsAction = access.See

var inBraces = regexp.MustCompile(`\{(\w+)\}`)

// described reads the operations' actions from the API's description.
func described() (actions, error) {
	var doc struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	if err := yaml.Unmarshal(api.Description, &doc); err != nil {
		return nil, err
	}
	out := actions{}
	for path, operations := range doc.Paths {
		for method, raw := range operations {
			if method == "parameters" {
				continue
			}
			var operation struct {
				May access.Action `yaml:"x-may"`
			}
			if err := raw.Decode(&operation); err != nil {
				return nil, fmt.Errorf("%s %s: %w", method, path, err)
			}
			if !access.Known(operation.May) {
				return nil, fmt.Errorf("%s %s: there is no action %q", method, path, operation.May)
			}
			out[strings.ToUpper(method)+" "+api.Prefix+inBraces.ReplaceAllString(path, ":$1")] = operation.May
		}
	}
	return out, nil
}

// of gives the action of a route. What names none, as a path that does not exist, is for those with a key.
func (a actions) of(method, route string) access.Action {
	if action, ok := a[method+" "+route]; ok {
		return action
	}
	return access.Enter
}

// lacks lists the routes of the API that name no action.
func (a actions) lacks(routes echo.Routes) (out []string) {
	for _, r := range routes {
		if _, ok := a[r.Method+" "+r.Path]; !ok && strings.HasPrefix(r.Path, api.Prefix+"/") && r.Method != echo.RouteNotFound {
			out = append(out, r.Method+" "+r.Path)
		}
	}
	return out
}

type contextKey string

const (
	keyIdentity contextKey = "identity"
	keyRequest  contextKey = "request"
	keyExpires  contextKey = "expires" // of a browser's sign-in
	keyEnd      contextKey = "end"     // ends the request
)

// errEnded says that a request ended since its key did.
var errEnded = errors.New("the key has ended")

// ending makes a request one that can be ended.
func ending(r *http.Request) (*http.Request, context.CancelCauseFunc) {
	ctx, end := context.WithCancelCause(r.Context())
	return r.WithContext(context.WithValue(ctx, keyEnd, end)), end
}

// enter lets in who has a key, or a browser that signed in, to what its role allows. What a browser
// changes it must have been asked to by a page of ours. The request ends when the key does.
func enter(s *service.Service, action func(c *echo.Context) access.Action) echo.MiddlewareFunc {
	sameOrigin := http.NewCrossOriginProtection()
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			ctx := r.Context()
			shown, hasKey := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
			shown = strings.TrimSpace(shown)
			if !hasKey && sameOrigin.Check(r) != nil {
				return &refuse.Error{Kind: refuse.Foreign, Title: "do that", Why: "another site's page asked for it", Remedy: "open the console at the service's own address"}
			}
			wants := action(c)
			if wants == access.Anyone {
				c.SetRequest(r.WithContext(context.WithValue(ctx, keyRequest, r)))
				return next(c)
			}
			var who service.Identity
			var expires time.Time
			var err error
			if cookie, cerr := r.Cookie(cookieName(r)); !hasKey && cerr == nil {
				shown = cookie.Value
				who, expires, err = s.EnterSigned(ctx, shown)
			} else {
				who, err = s.Enter(ctx, shown)
			}
			if err == nil {
				err = s.Allow(who, wants)
			}
			if err != nil {
				return err
			}
			if end, ok := ctx.Value(keyEnd).(context.CancelCauseFunc); ok {
				defer s.Remain(shown, func() { end(errEnded) })()
			}
			r = r.WithContext(context.WithValue(context.WithValue(ctx, keyIdentity, who), keyExpires, expires))
			c.SetRequest(r.WithContext(context.WithValue(r.Context(), keyRequest, r)))
			err = next(c)
			if err == nil || !errors.Is(context.Cause(ctx), errEnded) {
				return err
			}
			if w, uerr := echo.UnwrapResponse(c.Response()); uerr == nil && w.Committed {
				panic(http.ErrAbortHandler) // so that nobody takes what came for the whole
			}
			return refuse.New(refuse.Denied, "do that", "use another key", "the key ended while it was done")
		}
	}
}

func identity(ctx context.Context) service.Identity {
	who, _ := ctx.Value(keyIdentity).(service.Identity)
	return who
}
