package uitree

// A page as the tree: what a browser says of its document, by a script that is run in it, since the source of a page has no bounds.
//
// The words come from the roles that elements have: the element's own (HTML-AAM 1.0, section 3.5, "HTML Element Role Mappings"), or the one that the author
// gave it (WAI-ARIA 1.2, section 5.4). The name is what a person reads: its text, else what assistive technology says (accname 1.2, in short).

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"tessellant/internal/core/foreign"
)

// HTMLScript is the body of a function that gives the document as ParseHTML reads it: a text of JSON. It looks at what has a place on the page alone, at open
// shadow roots, and at frames of the same origin not at all.
const HTMLScript = `
var left = 20000, deepest = 200;
function own(e) {
  var out = '';
  for (var n = e.firstChild; n; n = n.nextSibling) if (n.nodeType === 3) out += n.data;
  return out.replace(/\s+/g, ' ').trim().slice(0, 2000);
}
function whole(e) { return (e.innerText || '').replace(/\s+/g, ' ').trim().slice(0, 2000); }
function label(e) {
  var by = (e.getAttribute('aria-labelledby') || '').split(/\s+/).map(function (id) { var x = id && document.getElementById(id); return x ? whole(x) : ''; }).join(' ').trim();
  var l = by || e.getAttribute('aria-label') || e.getAttribute('alt') || '';
  if (!l && e.labels && e.labels[0]) l = whole(e.labels[0]);
  return (l || e.getAttribute('title') || '').slice(0, 2000);
}
function node(e, depth) {
  var tag = e.localName;
  if (left-- <= 0 || depth > deepest || /^(script|style|head|meta|link|template|noscript|title|base)$/.test(tag)) return null;
  var s = getComputedStyle(e);
  if (s.display === 'none') return null;
  var r = e.getBoundingClientRect(), type = (e.getAttribute('type') || '').toLowerCase();
  var secret = tag === 'input' && type === 'password';
  var role = (e.getAttribute('role') || '').trim().split(/\s+/)[0].toLowerCase();
  var leaf = /^(button|a|option|summary)$/.test(tag) || /^(button|link|tab|menuitem|option|switch|checkbox|radio)$/.test(role);
  var o = {t: tag, b: [r.left, r.top, r.right, r.bottom]};
  if (role) o.r = role;
  if (type) o.y = type;
  if (e.id) o.i = e.id;
  var text = leaf ? whole(e) : own(e);
  if (tag === 'input' && /^(submit|button|reset)$/.test(type)) text = e.value;
  if (text && s.visibility !== 'hidden') o.x = text;
  var l = label(e); if (l) o.l = l;
  if (/^(input|textarea|select)$/.test(tag) && !secret) o.v = String(e.value).slice(0, 4000);
  if (e.placeholder) o.h = e.placeholder;
  var f = '';
  if (e.disabled || e.getAttribute('aria-disabled') === 'true') f += 'd';
  if (e.checked || e.getAttribute('aria-checked') === 'true' || e.getAttribute('aria-pressed') === 'true') f += 'c';
  if (e.getRootNode().activeElement === e && e !== document.body) f += 'f';
  if (e.selected || e.getAttribute('aria-selected') === 'true') f += 's';
  if ((/auto|scroll/.test(s.overflowY) && e.scrollHeight > e.clientHeight + 1) || (/auto|scroll/.test(s.overflowX) && e.scrollWidth > e.clientWidth + 1)) f += 'o';
  if (e === document.scrollingElement && (e.scrollHeight > innerHeight + 1 || e.scrollWidth > innerWidth + 1)) f += 'o';
  if (leaf || tag === 'label' || /^(input|select|textarea)$/.test(tag) || e.onclick || e.tabIndex >= 0) f += 'k';
  if (secret) f += 'p';
  if (s.visibility === 'hidden') f += 'h';
  if (f) o.f = f;
  var inside = [], from = e.shadowRoot || e;
  for (var c = from.firstElementChild; c; c = c.nextElementSibling) { var x = node(c, depth + 1); if (x) inside.push(x); }
  if (inside.length) o.c = inside;
  return o;
}
return JSON.stringify({scale: devicePixelRatio, host: location.host, top: node(document.documentElement, 0)});
`

// page is the document as the script says it.
type page struct {
	Scale float64   `json:"scale"`
	Host  string    `json:"host"`
	Top   *htmlNode `json:"top"`
}

type htmlNode struct {
	Tag      string      `json:"t"`
	Role     string      `json:"r"`
	Type     string      `json:"y"`
	ID       string      `json:"i"`
	Text     string      `json:"x"`
	Label    string      `json:"l"`
	Value    string      `json:"v"`
	Hint     string      `json:"h"`
	Flags    string      `json:"f"`
	Bounds   [4]float64  `json:"b"`
	Children []*htmlNode `json:"c"`
}

// ParseHTML reads what HTMLScript answers. App is the server of the page.
func ParseHTML(raw []byte) (*Screen, error) {
	if len(raw) > maxDump {
		return nil, fmt.Errorf("the page's tree is %d bytes long, more than the %d that are read", len(raw), maxDump)
	}
	var p page
	if err := json.Unmarshal(raw, &p); err != nil {
		return nil, fmt.Errorf("the page's tree is not JSON: %s", foreign.Name(err.Error(), 200))
	}
	if p.Top == nil {
		return nil, fmt.Errorf("the page has no document")
	}
	if p.Scale <= 0 || p.Scale > 20 {
		p.Scale = 1
	}
	s := &Screen{}
	nodes := 0
	var add func(n *htmlNode, depth int) []*Element
	add = func(n *htmlNode, depth int) []*Element {
		if nodes++; n == nil || nodes > maxNodes || depth > maxDepth {
			return nil
		}
		var inside []*Element
		for _, c := range n.Children {
			inside = append(inside, add(c, depth+1)...)
		}
		e := htmlElement(n, p)
		if e == nil {
			return inside
		}
		e.Children = inside
		return []*Element{e}
	}
	s.Elements = add(p.Top, 0)
	return s, nil
}

// htmlElement is one element; nil: it says nothing, and what is in it stands in its place.
func htmlElement(n *htmlNode, p page) *Element {
	has := func(f string) bool { return strings.Contains(n.Flags, f) }
	e := &Element{Kind: htmlKind(n), ID: fit(n.ID), Text: fit(n.Text), Label: fit(n.Label), Hint: fit(n.Hint), Class: fit(n.Tag), App: fit(p.Host), Bounds: htmlBounds(n.Bounds, p.Scale),
		Enabled: !has("d"), Checked: has("c"), Focused: has("f"), Selected: has("s"), Scrollable: has("o"), Clickable: has("k"), Password: has("p")}
	if n.Role != "" {
		e.Class += "[" + fit(n.Role) + "]"
	}
	if e.Kind == "field" {
		e.Value, e.Text = fit(n.Value), fit(n.Value)
	}
	if e.Scrollable && e.Kind == "group" {
		e.Kind = "scroll"
	}
	if has("h") || e.Bounds.Empty() && n.Text == "" {
		return nil
	}
	if e.Kind == "group" && e.ID == "" && e.Label == "" && !e.Clickable && !e.Scrollable { // layout alone
		return nil
	}
	return e
}

func fit(s string) string {
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "�")
	}
	return strings.Map(func(r rune) rune { // XML 1.0, section 2.2
		if r < 0x20 && r != '\t' && r != '\n' && r != '\r' || r == 0xFFFE || r == 0xFFFF {
			return -1
		}
		return r
	}, s)
}

func htmlBounds(b [4]float64, scale float64) Rect {
	at := func(v float64) int {
		if math.IsNaN(v) {
			return 0
		}
		return int(math.Round(min(max(v*scale, -1e6), 1e6)))
	}
	return Rect{at(b[0]), at(b[1]), at(b[2]), at(b[3])}
}

// roleKinds are the words for roles.
var roleKinds = []struct {
	kind  string
	roles []string
}{
	{"button", []string{"button", "link", "menuitem", "tab"}},
	{"field", []string{"textbox", "searchbox", "combobox", "spinbutton"}},
	{"checkbox", []string{"checkbox", "radio", "menuitemcheckbox", "menuitemradio"}},
	{"switch", []string{"switch"}},
	{"image", []string{"img", "image"}},
	{"list", []string{"list", "listbox", "table", "grid", "tree", "menu", "tablist"}},
	{"progress", []string{"progressbar", "meter", "slider", "scrollbar"}},
	{"text", []string{"heading", "paragraph", "cell", "columnheader", "rowheader", "status", "alert", "option"}},
}

// tagKinds are the words for elements without a role that says otherwise.
var tagKinds = []struct {
	kind string
	tags []string
}{
	{"button", []string{"button", "a", "summary"}},
	{"field", []string{"textarea", "select"}},
	{"image", []string{"img", "svg", "canvas", "picture", "video"}},
	{"list", []string{"ul", "ol", "dl", "table", "datalist"}},
	{"progress", []string{"progress", "meter"}},
	{"text", []string{"h1", "h2", "h3", "h4", "h5", "h6", "p", "label", "output", "option", "th", "td", "dt", "dd"}},
}

// inputKinds are the words for the types of input elements; any other is a field.
var inputKinds = map[string]string{"checkbox": "checkbox", "radio": "checkbox", "button": "button", "submit": "button", "reset": "button", "image": "button", "range": "progress", "color": "button", "file": "button"}

func htmlKind(n *htmlNode) string {
	for _, k := range roleKinds {
		if slices.Contains(k.roles, n.Role) {
			return k.kind
		}
	}
	if n.Tag == "input" {
		if k := inputKinds[n.Type]; k != "" {
			return k
		}
		return "field"
	}
	for _, k := range tagKinds {
		if slices.Contains(k.tags, n.Tag) && (k.kind != "text" || n.Text != "") {
			return k.kind
		}
	}
	if n.Text != "" {
		return "text"
	}
	return "group"
}
