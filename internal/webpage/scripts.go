package webpage

// Scripts of the client's (section 13.2 of the standard).

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"time"

	"tessellant/internal/core/w3c"
)

// around runs a script's function and writes what it returned as the standard wants it ("JSON clone"): elements and shadow roots by their place in a list, which stays in
// the page until they have their references. All else comes at once: the page may be gone by the next call.
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
		const json = JSON.stringify({value: clone(out)});
		if (list.length) Object.defineProperty(globalThis, q.keep, {value: list, configurable: true});
		return {json, things: list.length};
	} catch (e) {
		return {json: JSON.stringify({code: e?.wd ?? 'javascript error', message: String(e?.stack ?? e)}), things: 0};
	}
}`

// member reads a member of an element, as a script would give it.
func (x *Page) member(ctx context.Context, of object, name string) (any, *w3c.Error) {
	return x.script(ctx, map[string]any{"script": "", "args": []any{name}, "member": true, "on": 0}, []any{of})
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
	keep := "things-" + rand.Text()
	q["keep"] = keep
	raw, err := json.Marshal(q)
	if err != nil {
		return nil, w3c.Fail(w3c.InvalidArgument, "the script's arguments can't be passed on: %v", err)
	}
	var ran struct {
		JSON   string
		Things int
	}
	if err := x.value(ctx, "", &ran, around, append([]any{string(raw)}, known...)...); err != nil {
		var t *thrown
		if errors.As(err, &t) {
			return nil, w3c.Fail(w3c.JavascriptError, "%v", t)
		}
		return nil, failed("run the script", err)
	}
	var out struct {
		Value         any
		Code, Message string
	}
	if err := json.Unmarshal([]byte(ran.JSON), &out); err != nil {
		return nil, w3c.Fail(w3c.JavascriptError, "what the script gave can't be read: %v", err)
	}
	if out.Code != "" {
		return nil, w3c.Fail(w3c.Code(out.Code), "%s", out.Message)
	}
	if ran.Things > 0 {
		defer func() { _ = x.value(ctx, "", nil, `function(keep) { delete globalThis[keep] }`, keep) }()
	}
	return x.referred(ctx, keep, out.Value)
}

// referred puts references in the place of things, which the page keeps under a name.
func (x *Page) referred(ctx context.Context, keep string, v any) (any, *w3c.Error) {
	switch v := v.(type) {
	case []any:
		for i := range v {
			one, err := x.referred(ctx, keep, v[i])
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
			r, err := x.call(ctx, "", `function(keep, i) { return globalThis[keep][i] }`, false, keep, n)
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
			one, err := x.referred(ctx, keep, v[k])
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
