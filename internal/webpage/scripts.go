package webpage

// Scripts (section 13.2) and cookies (section 14).

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"

	"tessellant/internal/core/w3c"
)

// around runs a script's function and writes what it returned as the standard wants it ("JSON clone"): elements and shadow roots by their place in a list.
const around = `async function(json, ...known) {
	const q = JSON.parse(json), list = [];
	const revive = (v) => Array.isArray(v) ? v.map(revive) : v === null || typeof v !== 'object' ? v : '\u0000known' in v ? known[v['\u0000known']] : Object.fromEntries(Object.entries(v).map(([k, x]) => [k, revive(x)]));
	const seen = [];
	const clone = (v) => {
		if (v === undefined || v === null) return null;
		if (['boolean', 'number', 'string'].includes(typeof v)) return v;
		if (typeof v === 'bigint' || typeof v === 'symbol' || typeof v === 'function') return typeof v === 'function' ? {} : null;
		if (v instanceof Node || v.nodeType === 1) {
			if (v instanceof ShadowRoot) return {'\u0000shadow': list.push(v) - 1};
			if (v.nodeType !== Node.ELEMENT_NODE) throw Object.assign(new Error('a script may give elements, and no other nodes'), {wd: 'javascript error'});
			if (!v.isConnected) throw Object.assign(new Error('an element that the script gives is not in the document'), {wd: 'stale element reference'});
			return {'\u0000element': list.push(v) - 1};
		}
		if (v === window || v instanceof Window) return {'\u0000window': 1};
		if (seen.includes(v)) throw Object.assign(new Error('what the script gives goes in a circle'), {wd: 'javascript error'});
		seen.push(v);
		try {
			if (Array.isArray(v) || v instanceof NodeList || v instanceof HTMLCollection || v instanceof FileList || v instanceof HTMLAllCollection || Object.prototype.toString.call(v) === '[object Arguments]' || v instanceof HTMLFormControlsCollection || v instanceof HTMLOptionsCollection || v instanceof DOMTokenList) return [...v].map(clone);
			if (typeof v.toJSON === 'function') return clone(v.toJSON());
			const o = {};
			for (const k of Object.keys(v)) o[k] = clone(v[k]);
			return o;
		} finally { seen.pop() }
	};
	const args = revive(q.args);
	try {
		const self = q.on === undefined ? null : known[q.on];
		let f;
		try { f = new Function(q.script) } catch (e) { throw Object.assign(new Error(String(e)), {wd: 'javascript error'}) }
		let out;
		if (q.wait) out = await new Promise((done, bad) => { try { const r = f.apply(self, [...args, done]); if (r && typeof r.then === 'function') r.then(undefined, bad) } catch (e) { bad(e) } });
		else out = await (q.member ? self[args[0]] : f.apply(self, args));
		return {json: JSON.stringify({value: clone(out)}), list};
	} catch (e) {
		return {json: JSON.stringify({code: e?.wd ?? 'javascript error', message: String(e?.stack ?? e)}), list: []};
	}
}`

// run runs a function of ours on an element.
func (x *Page) run(ctx context.Context, on object, _ string, args []any) (any, *w3c.Error) {
	return x.script(ctx, map[string]any{"script": "", "args": args, "member": true, "on": 0}, []any{on})
}

// Execute runs a script of the client's (sections 13.2.2 and 13.2.3). Wait: it says itself when it has ended.
func (x *Page) Execute(ctx context.Context, script string, args []any, wait bool) (any, *w3c.Error) {
	var known []any
	var revived func(v any) (any, *w3c.Error)
	revived = func(v any) (any, *w3c.Error) {
		switch v := v.(type) {
		case []any:
			out := make([]any, len(v))
			for i := range v {
				one, err := revived(v[i])
				if err != nil {
					return nil, err
				}
				out[i] = one
			}
			return out, nil
		case map[string]any:
			for _, key := range []string{w3c.ElementKey, ShadowKey} {
				if ref, is := v[key].(string); is {
					o, err := x.root(ctx, ref)
					if err != nil {
						return nil, err
					}
					known = append(known, o)
					return map[string]any{"\x00known": len(known) - 1}, nil
				}
			}
			out := map[string]any{}
			for k := range v {
				one, err := revived(v[k])
				if err != nil {
					return nil, err
				}
				out[k] = one
			}
			return out, nil
		}
		return v, nil
	}
	list, werr := revived(args)
	if werr != nil {
		return nil, werr
	}
	long := noTimeout
	if x.Timeouts.Script != nil {
		long = *x.Timeouts.Script
	}
	ctx, cancel := context.WithTimeout(ctx, long)
	defer cancel()
	v, werr := x.script(ctx, map[string]any{"script": script, "args": list, "wait": wait}, known)
	if werr != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		stop, done := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer done()
		_ = x.page.Do(stop, "Runtime.terminateExecution", nil, nil)
		return nil, w3c.Fail(w3c.ScriptTimeout, "the script had not ended after %s", long)
	}
	if werr != nil && werr.Code == w3c.UnexpectedAlertOpen { // it has opened a dialog, and goes on behind it
		return nil, nil
	}
	return v, werr
}

// script runs one and reads what it gave.
func (x *Page) script(ctx context.Context, q map[string]any, known []any) (any, *w3c.Error) {
	raw, err := json.Marshal(q)
	if err != nil {
		return nil, w3c.Fail(w3c.InvalidArgument, "the script's arguments can't be passed on: %v", err)
	}
	r, err := x.call(ctx, "", around, false, append([]any{string(raw)}, known...)...)
	if err != nil {
		var t *thrown
		if errors.As(err, &t) {
			return nil, w3c.Fail(w3c.JavascriptError, "%v", t)
		}
		return nil, failed("run the script", err)
	}
	var text string
	if err := x.value(ctx, object(r.ObjectID), &text, `function() { return this.json }`); err != nil {
		return nil, failed("run the script", err)
	}
	var out struct {
		Value         any
		Code, Message string
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		return nil, w3c.Fail(w3c.JavascriptError, "what the script gave can't be read: %v", err)
	}
	if out.Code != "" {
		return nil, w3c.Fail(w3c.Code(out.Code), "%s", out.Message)
	}
	return x.referred(ctx, object(r.ObjectID), out.Value)
}

// referred puts references in the place of things.
func (x *Page) referred(ctx context.Context, of object, v any) (any, *w3c.Error) {
	switch v := v.(type) {
	case []any:
		for i := range v {
			one, err := x.referred(ctx, of, v[i])
			if err != nil {
				return nil, err
			}
			v[i] = one
		}
	case map[string]any:
		for kind, key := range map[string]string{"\x00element": w3c.ElementKey, "\x00shadow": ShadowKey} {
			n, is := v[kind].(float64)
			if !is {
				continue
			}
			r, err := x.call(ctx, of, `function(i) { return this.list[i] }`, false, n)
			if err != nil {
				return nil, failed("run the script", err)
			}
			ref, err := x.refer(ctx, object(r.ObjectID))
			if err != nil {
				return nil, failed("run the script", err)
			}
			if key == ShadowKey {
				x.refs["s-"+ref[2:]] = r.ObjectID
				ref = "s-" + ref[2:]
			}
			return map[string]any{key: ref}, nil
		}
		if _, is := v["\x00window"]; is {
			return map[string]any{"window-fcc6-11e5-b4f8-330a88ab9d7f": x.page.Target.ID}, nil
		}
		for k := range v {
			one, err := x.referred(ctx, of, v[k])
			if err != nil {
				return nil, err
			}
			v[k] = one
		}
	}
	return v, nil
}

// noTimeout is how long a script may take whose client sets no limit: the session's own ends it before.
const noTimeout = 24 * time.Hour

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
	if err := x.do(ctx, "Network.setCookie", q, &out); err != nil || !out.Success {
		return w3c.Fail(w3c.UnableToSetCookie, "the page does not take the cookie: %v", fmt.Sprint(err))
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
