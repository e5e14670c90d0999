// Package locators says how an element of a screen can be addressed: by CSS selectors over the tree of core/uitree, the best first.
//
// A locator is the better the less it depends on what is not the element's own: an id that nothing else has; a label, a text that only it has; the shortest
// way from what has an id. One that means several elements comes after all that mean one. In: a screen. Out: for each element its locators, and how many
// elements each means, on this screen or on another.
package locators

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"tessellant/internal/core/uitree"
)

// By is what a locator goes by.
type By string

// What locators go by, the best first.
const (
	ID    By = "id"
	Label By = "label"
	Text  By = "text"
	Way   By = "way" // from an element with an id of its own, or from the top
)

// Locator is one way to address an element.
type Locator struct {
	By     By
	CSS    string
	Here   int  // elements of the screen that it means
	Fickle bool // there are digits in it, which may be data rather than a name
}

// maxName is how many bytes a label or text may have to be addressed by.
const maxName = 120

// Index is a screen, ready for many questions. It is safe for use by several goroutines.
type Index struct {
	Screen *uitree.Screen
	counts map[string]int // by selector: of ids, labels and texts
	above  map[*uitree.Element]*uitree.Element
	sole   map[*uitree.Element]map[string]int // below an element with an id of its own: how many of each kind
	nth    map[*uitree.Element]nth
	names  map[string]bool // selectors by which what is on the screen is known again
}

// nth is an element's place among its siblings of the same kind, from 1, and how many these are.
type nth struct{ place, of int }

// New makes the index of a screen.
func New(s *uitree.Screen) *Index {
	x := &Index{Screen: s, counts: map[string]int{}, above: map[*uitree.Element]*uitree.Element{}, sole: map[*uitree.Element]map[string]int{}, nth: map[*uitree.Element]nth{}, names: map[string]bool{}}
	var walk func(parent *uitree.Element, es []*uitree.Element)
	walk = func(parent *uitree.Element, es []*uitree.Element) {
		kinds := map[string]int{}
		for _, e := range es {
			kinds[e.Kind]++
			x.nth[e] = nth{place: kinds[e.Kind]}
			x.above[e] = parent
			for _, css := range []string{byID(e), byLabel(e), byText(e)} {
				if css != "" {
					x.counts[css]++
				}
				if css != "" && !digits(css) {
					x.names[css] = true
				}
			}
			walk(e, e.Children)
		}
		for _, e := range es {
			x.nth[e] = nth{x.nth[e].place, kinds[e.Kind]}
		}
	}
	walk(nil, s.Elements)
	var below func(es []*uitree.Element) map[string]int
	below = func(es []*uitree.Element) map[string]int {
		all := map[string]int{}
		for _, e := range es {
			inner := below(e.Children)
			if css := byID(e); css != "" && x.counts[css] == 1 {
				x.sole[e] = inner
			}
			all[e.Kind]++
			for k, n := range inner {
				all[k] += n
			}
		}
		return all
	}
	below(s.Elements)
	return x
}

// Of gives the locators of an element of the screen, the best first. There is at least one, and one that means it alone.
func (x *Index) Of(e *uitree.Element) []Locator {
	var out []Locator
	add := func(by By, css string, fickle bool) {
		if css != "" {
			out = append(out, Locator{by, css, x.counts[css], fickle})
		}
	}
	add(ID, byID(e), false)
	add(Label, byLabel(e), digits(e.Label))
	add(Text, byText(e), digits(e.Text))
	if len(out) == 0 || out[0].By != ID || out[0].Here > 1 {
		out = append(out, Locator{Way, x.way(e), 1, false})
	}
	slices.SortStableFunc(out, func(a, b Locator) int { return rank(a) - rank(b) })
	return out
}

func rank(l Locator) int {
	n := 0
	if l.Fickle {
		n = 1
	}
	if l.Here > 1 {
		n += 2
	}
	return n
}

// Means says how many elements of the screen a locator means; one that can't be used means none.
func (x *Index) Means(css string) int {
	if n, known := x.counts[css]; known {
		return n
	}
	found, err := x.Screen.Find(css)
	if err != nil {
		return 0
	}
	return len(found)
}

// Len is how many elements the screen has; of a nil Index, none.
func (x *Index) Len() int {
	if x == nil {
		return 0
	}
	return len(x.nth)
}

// way leads to an element from the nearest one above it that has an id of its own, else from the top.
func (x *Index) way(e *uitree.Element) string {
	var steps []string
	for at := e; at != nil; at = x.above[at] {
		if inner, own := x.sole[at]; own {
			if at != e && inner[e.Kind] == 1 {
				return byID(at) + " " + name(e.Kind)
			}
			steps = append(steps, byID(at))
			break
		}
		step := name(at.Kind)
		if n := x.nth[at]; n.of > 1 {
			step += fmt.Sprintf(":nth-of-type(%d)", n.place)
		}
		steps = append(steps, step)
		if x.above[at] == nil {
			steps = append(steps, "screen")
		}
	}
	slices.Reverse(steps)
	return strings.Join(steps, " > ")
}

func byID(e *uitree.Element) string {
	if e.ID == "" {
		return ""
	}
	return "#" + name(e.ID)
}

func byLabel(e *uitree.Element) string { return attribute(e, "label", e.Label) }

func byText(e *uitree.Element) string { return attribute(e, "text", e.Text) }

func attribute(e *uitree.Element, what, value string) string {
	if strings.TrimSpace(value) == "" || len(value) > maxName {
		return ""
	}
	return name(e.Kind) + "[" + what + "=" + quoted(value) + "]"
}

func digits(s string) bool { return strings.ContainsFunc(s, unicode.IsDigit) }

// name writes an identifier (CSSOM, section 2.1, "serialize an identifier").
func name(s string) string {
	var b strings.Builder
	for i, r := range s {
		digit := r >= '0' && r <= '9'
		switch {
		case r == 0:
			b.WriteRune('\uFFFD')
		case r < 0x20 || r == 0x7f || digit && (i == 0 || i == 1 && s[0] == '-'):
			fmt.Fprintf(&b, "\\%x ", r)
		case r == '-' && len(s) == 1:
			b.WriteString(`\-`)
		case r >= 0x80 || r == '-' || r == '_' || digit || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z':
			b.WriteRune(r)
		default:
			b.WriteByte('\\')
			b.WriteRune(r)
		}
	}
	return b.String()
}

// quoted writes a string (CSSOM, section 2.1, "serialize a string").
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == 0:
			b.WriteRune('\uFFFD')
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, "\\%x ", r)
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}
