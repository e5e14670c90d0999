package webpage

// Cookies (section 14 of the standard).

import (
	"context"
	"math"

	"tessellant/internal/core/w3c"
)

// cookie is one as DevTools have it.
type cookie struct {
	Name     string  `json:"name"`
	Value    string  `json:"value"`
	Domain   string  `json:"domain"`
	Path     string  `json:"path"`
	Expires  float64 `json:"expires"`
	HTTPOnly bool    `json:"httpOnly"`
	Secure   bool    `json:"secure"`
	Session  bool    `json:"session"`
	SameSite string  `json:"sameSite"`
}

// Cookies gives those of the page; of one name, unless it is "".
func (x *Page) Cookies(ctx context.Context, name string) (out []map[string]any, werr *w3c.Error) {
	url, werr := x.Says(ctx, URL)
	if werr != nil {
		return nil, werr
	}
	var all struct{ Cookies []cookie }
	if err := x.do(ctx, "Network.getCookies", map[string]any{"urls": []string{url}}, &all); err != nil {
		return nil, failed("read the cookies", err)
	}
	out = []map[string]any{}
	for _, c := range all.Cookies {
		if name != "" && c.Name != name {
			continue
		}
		m := map[string]any{"name": c.Name, "value": c.Value, "domain": c.Domain, "path": c.Path, "httpOnly": c.HTTPOnly, "secure": c.Secure, "sameSite": c.SameSite}
		if c.SameSite == "" {
			m["sameSite"] = "Lax"
		}
		if !c.Session && c.Expires > 0 {
			m["expiry"] = int64(math.Round(c.Expires))
		}
		out = append(out, m)
	}
	return out, nil
}

// AddCookie sets one (section 14.3).
func (x *Page) AddCookie(ctx context.Context, c map[string]any) *w3c.Error {
	q := map[string]any{}
	for key, kind := range map[string]string{"name": "text", "value": "text", "path": "text", "domain": "text", "sameSite": "text", "secure": "truth", "httpOnly": "truth", "expiry": "number"} {
		v, given := c[key]
		if !given || v == nil {
			if key == "name" || key == "value" {
				return w3c.Fail(w3c.InvalidArgument, "a cookie needs a name and a value")
			}
			continue
		}
		ok := false
		switch kind {
		case "text":
			_, ok = v.(string)
		case "truth":
			_, ok = v.(bool)
		case "number":
			var f float64
			f, ok = v.(float64)
			ok = ok && f >= 0 && f <= 1<<53-1 && f == math.Trunc(f)
		}
		if !ok {
			return w3c.Fail(w3c.InvalidArgument, "the cookie's %s is no %s", key, kind)
		}
		if key == "expiry" {
			key = "expires"
		}
		q[key] = v
	}
	if s, given := q["sameSite"]; given && s != "Lax" && s != "Strict" && s != "None" {
		return w3c.Fail(w3c.InvalidArgument, "the cookie's sameSite is Lax, Strict or None, not %v", s)
	}
	url, werr := x.Says(ctx, URL)
	if werr != nil {
		return werr
	}
	var host string
	if err := x.value(ctx, "", &host, `function() { return /^https?:$/.test(location.protocol) ? location.hostname : '' }`); err != nil {
		return failed("set the cookie", err)
	}
	if host == "" {
		return w3c.Fail(w3c.InvalidCookieDomain, "a page at %.100s has no cookies", url)
	}
	if d, given := q["domain"].(string); given && !within(host, d) {
		return w3c.Fail(w3c.InvalidCookieDomain, "the page is at %s, and sets no cookies of %s", host, d)
	}
	q["url"] = url
	var out struct{ Success bool }
	if err := x.do(ctx, "Network.setCookie", q, &out); err != nil {
		return w3c.Fail(w3c.UnableToSetCookie, "the page does not take the cookie: %v", err)
	}
	if !out.Success {
		return w3c.Fail(w3c.UnableToSetCookie, "the page does not take the cookie")
	}
	return nil
}

// within says whether a host is of a cookie's domain (RFC 6265, section 5.1.3).
func within(host, domain string) bool {
	for len(domain) > 0 && domain[0] == '.' {
		domain = domain[1:]
	}
	return host == domain || len(host) > len(domain) && host[len(host)-len(domain)-1] == '.' && host[len(host)-len(domain):] == domain
}

// RemoveCookies removes those of the page; of one name, unless it is "".
func (x *Page) RemoveCookies(ctx context.Context, name string) *w3c.Error {
	all, werr := x.Cookies(ctx, name)
	if werr != nil {
		return werr
	}
	for _, c := range all {
		if err := x.do(ctx, "Network.deleteCookies", map[string]any{"name": c["name"], "domain": c["domain"], "path": c["path"]}, nil); err != nil {
			return failed("remove the cookie", err)
		}
	}
	return nil
}
