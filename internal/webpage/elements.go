package webpage

// Elements: found, and asked (section 12 of the standard).

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/devtools"
)

// ShadowKey is the name under which a shadow root's reference stands (section 12.2, "web shadow root identifier").
const ShadowKey = "shadow-6066-11e4-a52e-4f735466cecf"

// refer gives an object its reference: the same each time.
func (x *Page) refer(ctx context.Context, o object) (string, error) {
	var d struct {
		Node struct{ BackendNodeID int }
	}
	if err := x.doOn(ctx, o, "DOM.describeNode", nil, &d); err != nil {
		return "", err
	}
	ref := fmt.Sprintf("w-%s-%d", x.id, d.Node.BackendNodeID)
	if session, _ := o.parts(); session != "" { // whose numbers are its own
		ref += "-" + strings.ToLower(session[:min(8, len(session))])
	}
	if len(x.refs) >= maxRefs {
		clear(x.refs)
	}
	x.refs[ref] = string(o)
	return ref, nil
}

// element finds the object of a reference, which is in its document still.
func (x *Page) element(ctx context.Context, ref string) (object, *w3c.Error) {
	o, known := x.refs[ref]
	if !known {
		return "", w3c.Fail(w3c.NoSuchElement, "there is no element with the reference %.100q in this page", ref)
	}
	var here bool
	err := x.value(ctx, object(o), &here, `function() { return this.isConnected && this.ownerDocument.defaultView !== null }`)
	if err == nil && !here {
		return "", w3c.Fail(w3c.StaleElementReference, "the element is not in the document any more; find it again")
	}
	return object(o), failed("look for the element", err)
}

// findBy finds elements below one, or in the whole document.
const findBy = `function(using, value, root) {
	root = root || document;
	const text = (e) => (e.innerText ?? e.textContent ?? '').replace(/\s+/g, ' ').trim();
	switch (using) {
	case 'css selector': return [...root.querySelectorAll(value)];
	case 'tag name': return [...(root.getElementsByTagName ? root.getElementsByTagName(value) : root.querySelectorAll(value))];
	case 'link text': return [...root.querySelectorAll('a')].filter((e) => text(e) === value.trim());
	case 'partial link text': return [...root.querySelectorAll('a')].filter((e) => text(e).includes(value));
	case 'xpath': {
		const all = document.evaluate(value, root, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null), out = [];
		for (let i = 0; i < all.snapshotLength; i++) {
			const n = all.snapshotItem(i);
			if (n.nodeType !== Node.ELEMENT_NODE) throw new DOMException('it gives what is no element', 'SyntaxError');
			out.push(n);
		}
		return out;
	}}
}`

// mostFound is how many elements a command may find.
const mostFound = 5000

// Find finds elements as long as the implicit timeout lasts; from is the reference of the element, or shadow root, below which. One: the first will do.
func (x *Page) Find(ctx context.Context, using, value, from string, one bool) (refs []string, werr *w3c.Error) {
	switch using {
	case "css selector", "xpath", "link text", "partial link text", "tag name":
	default:
		return nil, w3c.Fail(w3c.InvalidArgument, "there is no strategy %.50q", using)
	}
	begun := time.Now()
	for {
		root := any(nil)
		if from != "" {
			o, err := x.root(ctx, from)
			if err != nil {
				return nil, err
			}
			root = o
		}
		r, err := x.call(ctx, "", findBy, false, using, value, root)
		var t *thrown
		if errors.As(err, &t) {
			return nil, w3c.Fail(w3c.InvalidSelector, "the locator %.200q can't be used: %v", value, t)
		}
		if err == nil {
			refs, err = x.references(ctx, r, one)
		}
		var no *devtools.Error
		switch {
		case err != nil && !(errors.As(err, &no) && isStale(no.Message)): // it is navigating: once more
			return nil, failed("find", err)
		case err == nil && len(refs) > 0:
			return refs, nil
		}
		left := x.Timeouts.Implicit - time.Since(begun)
		if left <= 0 {
			return nil, nil
		}
		select {
		case <-time.After(min(left, poll)):
		case <-ctx.Done():
			return nil, failed("find", ctx.Err())
		}
	}
}

// references gives those of the elements of an array, or of its first.
func (x *Page) references(ctx context.Context, r devtools.Remote, one bool) (refs []string, err error) {
	found, err := x.list(ctx, r)
	if one && len(found) > 1 {
		found = found[:1]
	}
	for _, o := range found {
		ref, err := x.refer(ctx, o)
		if err != nil {
			return nil, err
		}
		refs = append(refs, ref)
	}
	return refs, err
}

// list gives the objects of an array.
func (x *Page) list(ctx context.Context, r devtools.Remote) (out []object, err error) {
	if r.ObjectID == "" {
		return nil, nil
	}
	var props struct {
		Result []struct {
			Name       string
			Enumerable bool
			Value      devtools.Remote
		}
	}
	of := object(r.ObjectID)
	if err := x.doOn(ctx, of, "Runtime.getProperties", map[string]any{"ownProperties": true}, &props); err != nil {
		return nil, err
	}
	session, _ := of.parts()
	for _, p := range props.Result {
		if p.Enumerable && p.Value.ObjectID != "" && len(out) < mostFound {
			out = append(out, objectIn(session, p.Value.ObjectID))
		}
	}
	return out, nil
}

// root is an element, or a shadow root, below which is looked.
func (x *Page) root(ctx context.Context, ref string) (object, *w3c.Error) {
	if !strings.HasPrefix(ref, "s-") {
		return x.element(ctx, ref)
	}
	o, known := x.refs[ref]
	if !known {
		return "", w3c.Fail(w3c.NoSuchShadowRoot, "there is no shadow root with the reference %.100q in this page", ref)
	}
	var here bool
	err := x.value(ctx, object(o), &here, `function() { return this.isConnected }`)
	if err == nil && !here {
		return "", w3c.Fail(w3c.DetachedShadowRoot, "the shadow root is not in the document any more")
	}
	if werr := failed("look for the shadow root", err); werr != nil && werr.Code == w3c.StaleElementReference {
		return "", w3c.Fail(w3c.DetachedShadowRoot, "the shadow root is not in the document any more")
	}
	return object(o), failed("look for the shadow root", err)
}

// Shadow gives the reference of an element's shadow root.
func (x *Page) Shadow(ctx context.Context, ref string) (string, *w3c.Error) {
	e, werr := x.element(ctx, ref)
	if werr != nil {
		return "", werr
	}
	r, err := x.call(ctx, e, `function() { return this.shadowRoot }`, false)
	if err != nil {
		return "", failed("look for the shadow root", err)
	}
	if r.ObjectID == "" {
		return "", w3c.Fail(w3c.NoSuchShadowRoot, "the element has no shadow root")
	}
	shadow, err := x.refer(ctx, object(r.ObjectID))
	if err != nil {
		return "", failed("look for the shadow root", err)
	}
	as := "s-" + strings.TrimPrefix(shadow, "w-")
	x.refs[as] = r.ObjectID
	return as, nil
}

// Active gives the element that has the focus.
func (x *Page) Active(ctx context.Context) (string, *w3c.Error) {
	r, err := x.call(ctx, "", `function() { return document.activeElement || document.body }`, false)
	if err != nil {
		return "", failed("find what has the focus", err)
	}
	if r.ObjectID == "" {
		return "", w3c.Fail(w3c.NoSuchElement, "no element has the focus")
	}
	ref, err := x.refer(ctx, object(r.ObjectID))
	return ref, failed("find what has the focus", err)
}

// asks are the functions that say something of an element; name is the argument of those that have one.
var asks = map[string]string{
	"Get Element Text": `function() {
		if (!(` + displayed + `).call(this)) return '';
		const text = (e) => { // what stands in a textarea by its document counts, though it is no rendered text
			if (e.nodeType === Node.TEXT_NODE) return e.data.trim();
			if (e.nodeType !== Node.ELEMENT_NODE || e !== this && !e.checkVisibility()) return '';
			if (e.localName === 'textarea') return e.textContent;
			if (!e.querySelector?.('textarea')) return e.innerText ?? e.textContent ?? '';
			return [...e.childNodes].map(text).filter((t) => t.trim()).join('\n');
		};
		return text(this).replace(/\u00a0/g, ' ').replace(/[ \t]+\n/g, '\n').replace(/\n[ \t]+/g, '\n').replace(/\n{2,}/g, '\n').trim();
	}`,
	"Get Element Tag Name":  `function() { return this.localName ?? this.tagName }`,
	"Is Element Displayed":  displayed,
	"Is Element Enabled":    `function() { return !this.matches(':disabled') }`,
	"Is Element Selected":   `function() { return this.localName === 'option' ? this.selected : /^(checkbox|radio)$/.test(this.type) && this.localName === 'input' ? this.checked : false }`,
	"Get Element CSS Value": `function(name) { return getComputedStyle(this).getPropertyValue(name) }`,
	"Get Element Rect":      `function() { const r = this.getBoundingClientRect(); return {x: r.x + window.scrollX, y: r.y + window.scrollY, width: r.width, height: r.height} }`,
	"Get Element Attribute": `function(name) {
		const as = ['allowfullscreen', 'async', 'autofocus', 'autoplay', 'checked', 'controls', 'default', 'defer', 'disabled', 'formnovalidate', 'inert', 'ismap', 'itemscope', 'loop', 'multiple', 'muted', 'nomodule', 'novalidate', 'open', 'playsinline', 'readonly', 'required', 'reversed', 'selected', 'hidden'];
		if (as.includes(name.toLowerCase())) return this.hasAttribute(name) ? 'true' : null;
		return this.getAttribute(name);
	}`,
}

// displayed is the standard's appendix on displayedness, as a browser tells it.
const displayed = `function() {
	if (this.localName === 'option' || this.localName === 'optgroup') { const s = this.closest('select'); return !!s && s.checkVisibility({visibilityProperty: true, opacityProperty: true}) }
	if (this.localName === 'body') return true;
	if (!this.checkVisibility({visibilityProperty: true, opacityProperty: true})) return false;
	const sized = (e) => { const r = e.getBoundingClientRect(); return r.width > 0 && r.height > 0 || [...e.childNodes].some((n) => n.nodeType === Node.TEXT_NODE ? n.data.trim() !== '' : n.nodeType === Node.ELEMENT_NODE && sized(n)) };
	return sized(this);
}`

// Ask asks an element something: the name of the standard's command says what.
func (x *Page) Ask(ctx context.Context, what, ref, name string) (v any, werr *w3c.Error) {
	e, werr := x.element(ctx, ref)
	if werr != nil {
		return nil, werr
	}
	var err error
	switch what {
	case "Get Computed Role", "Get Computed Label":
		return x.accessible(ctx, e, what)
	case "Get Element Property":
		return x.member(ctx, e, name)
	default:
		err = x.value(ctx, e, &v, asks[what], name)
	}
	return v, failed("ask the element", err)
}

// accessible asks what assistive technology is told of an element.
func (x *Page) accessible(ctx context.Context, e object, what string) (any, *w3c.Error) {
	var tree struct {
		Nodes []struct {
			Ignored    bool
			Role, Name struct{ Value any }
		}
	}
	if err := x.doOn(ctx, e, "Accessibility.getPartialAXTree", map[string]any{"fetchRelatives": false}, &tree); err != nil {
		return nil, failed("ask the element", err)
	}
	role, name := any("none"), any("")
	if len(tree.Nodes) > 0 {
		if n := tree.Nodes[0]; n.Role.Value != nil {
			role = n.Role.Value
			if n.Name.Value != nil {
				name = n.Name.Value
			}
		}
	}
	if what == "Get Computed Role" {
		return role, nil
	}
	return name, nil
}
