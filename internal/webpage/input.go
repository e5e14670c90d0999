package webpage

// Elements that are clicked, emptied and typed into (section 12.5 of the standard).

import (
	"context"
	"errors"

	"tessellant/internal/core/w3c"
)

// aim scrolls an element into view and gives the point at which it is clicked (section 12.1, "in-view center point"), or why it can't be.
const aim = `function(click) {
	const hit = (e, x, y) => { let at = document.elementFromPoint(x, y); while (at?.shadowRoot) { const inner = at.shadowRoot.elementFromPoint(x, y); if (!inner || inner === at) break; at = inner } return at };
	let e = this;
	if (e.localName === 'option' || e.localName === 'optgroup') e = e.closest('select') ?? e.closest('datalist') ?? e;
	const first = () => [...e.getClientRects()].find((r) => r.width > 0 && r.height > 0);
	let r = first();
	const inView = (r) => r && r.left < innerWidth && r.top < innerHeight && r.right > 0 && r.bottom > 0;
	const middle = (r) => { const l = Math.max(0, r.left), t = Math.max(0, r.top); return [(l + Math.min(innerWidth, r.right)) / 2, (t + Math.min(innerHeight, r.bottom)) / 2] };
	const whole = (r) => r.left >= 0 && r.top >= 0 && r.right <= innerWidth && r.bottom <= innerHeight;
	if (window !== window.top) e.scrollIntoView({block: 'nearest', inline: 'nearest', behavior: 'instant'}), r = first();
	if (!r || !whole(r)) { e.scrollIntoView({block: 'end', inline: 'nearest', behavior: 'instant'}); r = first() }
	if (!r || !inView(r)) return {code: 'element not interactable', message: 'it has no size, or is not in view'};
	const [x, y] = middle(r);
	if (click) {
		const at = hit(e, x, y);
		if (!at || at !== e && !e.contains(at) && !(at.getRootNode().host && e.contains(at.getRootNode().host))) {
			const over = at ? '<' + at.localName + (at.id ? ' id="' + at.id + '"' : '') + '>' : 'nothing';
			return at && getComputedStyle(e).visibility === 'hidden' ? {code: 'element not interactable', message: 'it is hidden'} : {code: 'element click intercepted', message: over + ' would take the click at ' + Math.round(x) + ',' + Math.round(y)};
		}
	}
	return {x, y};
}`

// Click clicks an element (section 12.5.1).
func (x *Page) Click(ctx context.Context, ref string) *w3c.Error {
	e, werr := x.element(ctx, ref)
	if werr != nil {
		return werr
	}
	var at struct {
		X, Y          float64
		Code, Message string
	}
	if err := x.value(ctx, e, &at, aim, true); err != nil {
		return failed("click", err)
	}
	if at.Code != "" {
		return w3c.Fail(w3c.Code(at.Code), "the element can't be clicked: %s", at.Message)
	}
	left, top, err := x.offset(ctx)
	if err != nil {
		return failed("click", err)
	}
	var chosen bool
	if err := x.value(ctx, e, &chosen, `function() {
		if (this.localName !== 'option') return false;
		const s = this.closest('select');
		if (!s || this.matches(':disabled')) return true;
		s.focus();
		for (const kind of ['mouseover', 'mousemove', 'mousedown']) s.dispatchEvent(new MouseEvent(kind, {bubbles: true}));
		const now = s.multiple ? !this.selected : true, changed = this.selected !== now;
		this.selected = now;
		if (changed) { s.dispatchEvent(new Event('input', {bubbles: true})); s.dispatchEvent(new Event('change', {bubbles: true})) }
		for (const kind of ['mouseup', 'click']) s.dispatchEvent(new MouseEvent(kind, {bubbles: true}));
		return true;
	}`); err != nil && !errors.Is(err, errDialog) {
		return failed("click", err)
	}
	if !chosen {
		for _, kind := range []string{"mouseMoved", "mousePressed", "mouseReleased"} {
			q := map[string]any{"type": kind, "x": at.X + left, "y": at.Y + top, "button": "left", "clickCount": 1, "buttons": map[bool]int{true: 1}[kind == "mousePressed"]}
			if kind == "mouseMoved" {
				q["button"] = "none"
			}
			if err := x.do(ctx, "Input.dispatchMouseEvent", q, nil); err != nil && !errors.Is(err, errDialog) {
				return failed("click", err)
			}
		}
	}
	return x.settle(ctx)
}

// Clear empties a field (section 12.5.2).
func (x *Page) Clear(ctx context.Context, ref string) *w3c.Error {
	e, werr := x.element(ctx, ref)
	if werr != nil {
		return werr
	}
	var no string
	if err := x.value(ctx, e, &no, `function() {
		const form = ['input', 'textarea', 'select', 'output', 'button'].includes(this.localName);
		const typed = this.localName === 'textarea' || this.localName === 'input' && !['hidden', 'submit', 'button', 'reset', 'image', 'checkbox', 'radio'].includes(this.type);
		if (!typed && !this.isContentEditable || form && (this.matches(':disabled') || this.readOnly)) return 'invalid element state';
		this.scrollIntoView({block: 'end', inline: 'nearest', behavior: 'instant'});
		if (!(`+displayed+`).call(this)) return 'element not interactable';
		this.focus();
		if (this.isContentEditable && !typed) { if (this.innerHTML !== '') this.innerHTML = '' } else if (this.value !== '') { this.value = ''; this.dispatchEvent(new Event('input', {bubbles: true})); this.dispatchEvent(new Event('change', {bubbles: true})) }
		this.blur();
		return '';
	}`); err != nil {
		return failed("clear", err)
	}
	if no != "" {
		return w3c.Fail(w3c.Code(no), "the element can't be emptied: it is no field that can be edited")
	}
	return nil
}

// Keys types into an element (section 12.5.3). Keys of the standard's own (section 17.4.2) are pressed.
func (x *Page) Keys(ctx context.Context, ref, text string) *w3c.Error {
	e, werr := x.element(ctx, ref)
	if werr != nil {
		return werr
	}
	var no string
	if err := x.value(ctx, e, &no, `function() {
		if (this.localName === 'input' && this.type === 'file') return 'unsupported operation';
		this.scrollIntoView({block: 'end', inline: 'nearest', behavior: 'instant'});
		if (!(`+displayed+`).call(this) || this.matches(':disabled')) return 'element not interactable';
		const was = document.activeElement;
		this.focus();
		if (document.activeElement !== this && !this.contains(document.activeElement) && this.localName !== 'body') return 'element not interactable';
		if (was !== this) {
			if ('selectionStart' in this && /^(text|search|url|tel|password|textarea)$/.test(this.type)) this.setSelectionRange(this.value.length, this.value.length);
			else if (this.isContentEditable) { const s = getSelection(); s.selectAllChildren(this); s.collapseToEnd() }
		}
		return '';
	}`); err != nil {
		return failed("send keys", err)
	}
	switch w3c.Code(no) {
	case "":
	case w3c.UnsupportedOperation:
		return w3c.Fail(w3c.UnsupportedOperation, "files can't be given to a page here")
	default:
		return w3c.Fail(w3c.Code(no), "the element takes no keys: it can't have the focus")
	}
	if err := x.press(ctx, text); err != nil {
		return failed("send keys", err)
	}
	return x.settle(ctx)
}
