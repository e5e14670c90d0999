// Package uitree is the screen as a tree, in one vocabulary for all platforms.
//
// A Screen holds elements: button, text, field, image, list, switch, checkbox,
// progress, scroll and group, each with its id, text, label, value, bounds and state, and the
// platform's own class. Locators are CSS selectors or XPath expressions over
// that tree. In: a platform's own dump. Out: elements, or the tree as XML.
package uitree

import (
	"fmt"
	"strconv"
	"sync"

	"github.com/antchfx/xmlquery"
	"golang.org/x/net/html"
)

// Rect is a rectangle in pixels of the screen; right and bottom lie outside.
type Rect struct {
	Left   int `json:"left"`
	Top    int `json:"top"`
	Right  int `json:"right"`
	Bottom int `json:"bottom"`
}

// Center is the point in the middle, where a tap goes.
func (r Rect) Center() (x, y int) { return (r.Left + r.Right) / 2, (r.Top + r.Bottom) / 2 }

// Empty reports whether nothing lies in r.
func (r Rect) Empty() bool { return r.Right <= r.Left || r.Bottom <= r.Top }

func (r Rect) String() string { return fmt.Sprintf("%d,%d,%d,%d", r.Left, r.Top, r.Right, r.Bottom) }

// Element is one thing on the screen.
type Element struct {
	Kind       string     `json:"kind"`
	ID         string     `json:"id,omitempty"`    // without the app's package
	Text       string     `json:"text,omitempty"`  // what a person reads on it
	Label      string     `json:"label,omitempty"` // what a screen reader says
	Value      string     `json:"value,omitempty"` // of a field: its content
	Hint       string     `json:"hint,omitempty"`
	Class      string     `json:"class,omitempty"` // the platform's own
	App        string     `json:"app,omitempty"`   // whose element it is
	Bounds     Rect       `json:"bounds"`
	Enabled    bool       `json:"enabled"`
	Checked    bool       `json:"checked"`
	Focused    bool       `json:"focused"`
	Selected   bool       `json:"selected"`
	Scrollable bool       `json:"scrollable"`
	Clickable  bool       `json:"clickable"`
	Password   bool       `json:"password"`
	Children   []*Element `json:"-"`
}

// Screen is the tree of one moment. It is safe for use by several goroutines that only read it.
type Screen struct {
	Elements []*Element // at the top
	Rotation int        // quarter turns

	html   *html.Node
	xml    *xmlquery.Node
	byHTML map[*html.Node]*Element
	byXML  map[*xmlquery.Node]*Element
	nodes  map[*Element]nodePair
	once   sync.Once // for all of these
}

// nodePair is an element in the two trees that the locator libraries walk.
type nodePair struct {
	html *html.Node
	xml  *xmlquery.Node
}

// Under returns every element below from, in the order of the tree; nil: all of them.
func (s *Screen) Under(from *Element) []*Element {
	if from == nil {
		return s.All()
	}
	return (&Screen{Elements: from.Children}).All()
}

// All returns every element, in the order of the tree.
func (s *Screen) All() []*Element {
	var out []*Element
	var walk func([]*Element)
	walk = func(es []*Element) {
		for _, e := range es {
			out = append(out, e)
			walk(e.Children)
		}
	}
	walk(s.Elements)
	return out
}

// XML writes the tree in our vocabulary, indented.
func (s *Screen) XML() string {
	s.index()
	return s.xml.OutputXMLWithOptions(xmlquery.WithIndentation("  "), xmlquery.WithOutputSelf(), xmlquery.WithEmptyTagSupport())
}

type pair struct{ name, value string }

// attributes are what locators and the XML see of an element.
func (e *Element) attributes() []pair {
	out := []pair{}
	add := func(name, v string) {
		if v != "" {
			out = append(out, pair{name, v})
		}
	}
	add("id", e.ID)
	add("text", e.Text)
	add("label", e.Label)
	add("value", e.Value)
	add("hint", e.Hint)
	out = append(out, pair{"bounds", e.Bounds.String()}, pair{"enabled", strconv.FormatBool(e.Enabled)})
	for _, f := range []struct {
		name string
		is   bool
	}{{"checked", e.Checked}, {"focused", e.Focused}, {"selected", e.Selected}, {"scrollable", e.Scrollable}, {"clickable", e.Clickable}, {"password", e.Password}} {
		if f.is {
			out = append(out, pair{f.name, "true"})
		}
	}
	add("class", e.Class)
	add("app", e.App)
	return out
}

// Attribute gives what locators see as an attribute of the element.
func (e *Element) Attribute(name string) (string, bool) {
	for _, a := range e.attributes() {
		if a.name == name {
			return a.value, true
		}
	}
	return "", false
}

// index builds the two trees that the locator libraries walk.
func (s *Screen) index() { s.once.Do(s.build) }

func (s *Screen) build() {
	s.nodes = map[*Element]nodePair{}
	s.byHTML, s.byXML = map[*html.Node]*Element{}, map[*xmlquery.Node]*Element{}
	doc := &html.Node{Type: html.DocumentNode}
	h := &html.Node{Type: html.ElementNode, Data: "screen"}
	doc.AppendChild(h)
	xdoc := &xmlquery.Node{Type: xmlquery.DocumentNode}
	x := &xmlquery.Node{Type: xmlquery.ElementNode, Data: "screen"}
	xmlquery.AddChild(xdoc, x)
	var add func(h *html.Node, x *xmlquery.Node, es []*Element)
	add = func(h *html.Node, x *xmlquery.Node, es []*Element) {
		for _, e := range es {
			hn := &html.Node{Type: html.ElementNode, Data: e.Kind}
			xn := &xmlquery.Node{Type: xmlquery.ElementNode, Data: e.Kind}
			for _, a := range e.attributes() {
				hn.Attr = append(hn.Attr, html.Attribute{Key: a.name, Val: a.value})
				xmlquery.AddAttr(xn, a.name, a.value)
			}
			h.AppendChild(hn)
			xmlquery.AddChild(x, xn)
			s.byHTML[hn], s.byXML[xn], s.nodes[e] = e, e, nodePair{hn, xn}
			add(hn, xn, e.Children)
		}
	}
	add(h, x, s.Elements)
	s.html, s.xml = doc, xdoc
}
