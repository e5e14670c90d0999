package webpage

// Elements that are clicked, emptied and typed into (section 12.5 of the standard).

import (
	"context"
	"errors"
	"strings"

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
	let [ox, oy] = [0, 0];
	for (let w = window; w !== w.parent && w.frameElement; w = w.parent) { const f = w.frameElement, b = f.getBoundingClientRect(); ox += b.left + f.clientLeft; oy += b.top + f.clientTop }
	return {x: x + ox, y: y + oy};
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
			q := map[string]any{"type": kind, "x": at.X, "y": at.Y, "button": "left", "clickCount": 1, "buttons": map[bool]int{true: 1}[kind == "mousePressed"]}
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

// keyNames are the standard's keys that are pressed, as DevTools know them: name, code of its kind, and what it types.
var keyNames = map[rune]struct {
	key, code string
	number    int
	types     string
}{
	'\uE003': {"Backspace", "Backspace", 8, ""}, '\uE004': {"Tab", "Tab", 9, ""}, '\uE006': {"Enter", "Enter", 13, "\r"}, '\uE007': {"Enter", "Enter", 13, "\r"}, '\uE00C': {"Escape", "Escape", 27, ""},
	'\uE00D': {" ", "Space", 32, " "}, '\uE00E': {"PageUp", "PageUp", 33, ""}, '\uE00F': {"PageDown", "PageDown", 34, ""}, '\uE010': {"End", "End", 35, ""}, '\uE011': {"Home", "Home", 36, ""},
	'\uE012': {"ArrowLeft", "ArrowLeft", 37, ""}, '\uE013': {"ArrowUp", "ArrowUp", 38, ""}, '\uE014': {"ArrowRight", "ArrowRight", 39, ""}, '\uE015': {"ArrowDown", "ArrowDown", 40, ""}, '\uE017': {"Delete", "Delete", 46, ""},
	'\n': {"Enter", "Enter", 13, "\r"}, '\t': {"Tab", "Tab", 9, ""}, '\b': {"Backspace", "Backspace", 8, ""},
}

// modifiers are the keys that stay pressed until \uE000 or the end, with DevTools' bit for each.
var modifiers = map[rune]struct {
	key  string
	bit  int
	code int
}{'\uE008': {"Shift", 8, 16}, '\uE009': {"Control", 2, 17}, '\uE00A': {"Alt", 1, 18}, '\uE03D': {"Meta", 4, 91}}

// press presses keys and types text into what has the focus.
func (x *Page) press(ctx context.Context, text string) error {
	held := 0
	send := func(q map[string]any) error {
		q["modifiers"] = held
		err := x.do(ctx, "Input.dispatchKeyEvent", q, nil)
		if errors.Is(err, errDialog) {
			return nil
		}
		return err
	}
	release := func() error {
		for _, m := range modifiers {
			if held&m.bit != 0 {
				held &^= m.bit
				if err := send(map[string]any{"type": "keyUp", "key": m.key, "windowsVirtualKeyCode": m.code}); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for _, r := range text {
		var err error
		m, isModifier := modifiers[r]
		k, named := keyNames[r]
		switch {
		case r == '\uE000':
			err = release()
		case isModifier && held&m.bit != 0:
			held &^= m.bit
			err = send(map[string]any{"type": "keyUp", "key": m.key, "windowsVirtualKeyCode": m.code})
		case isModifier:
			held |= m.bit
			err = send(map[string]any{"type": "rawKeyDown", "key": m.key, "windowsVirtualKeyCode": m.code})
		case named:
			down := map[string]any{"type": "rawKeyDown", "key": k.key, "code": k.code, "windowsVirtualKeyCode": k.number}
			if k.types != "" {
				down["type"], down["text"] = "keyDown", k.types
			}
			if err = send(down); err == nil {
				err = send(map[string]any{"type": "keyUp", "key": k.key, "code": k.code, "windowsVirtualKeyCode": k.number})
			}
		case r >= '\uE000' && r <= '\uE05D':
			return w3c.Fail(w3c.UnsupportedOperation, "the key %U can't be pressed here", r)
		default:
			s := string(r)
			down, up := map[string]any{"type": "keyDown", "key": s, "text": s, "unmodifiedText": s}, map[string]any{"type": "keyUp", "key": s}
			if upper := strings.ToUpper(s); r < 128 && (upper >= "A" && upper <= "Z" || r >= '0' && r <= '9') {
				code := "Key" + upper
				if r >= '0' && r <= '9' {
					code = "Digit" + s
				}
				for _, q := range []map[string]any{down, up} {
					q["code"], q["windowsVirtualKeyCode"] = code, int(upper[0])
				}
			}
			if held&(2|4) != 0 { // a shortcut types nothing
				delete(down, "text")
				down["type"] = "rawKeyDown"
				if strings.EqualFold(s, "a") {
					down["commands"] = []string{"selectAll"}
				}
			}
			if err = send(down); err == nil {
				err = send(up)
			}
		}
		if err != nil {
			return err
		}
	}
	return release()
}
