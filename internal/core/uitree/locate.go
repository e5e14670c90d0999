package uitree

// Finding elements by locators that nobody here has read: what a locator may cost is bounded, whatever is nested in it,
// and a library that panics on it says no more than that it can't be used.

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/andybalholm/cascadia"
	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"

	"tessellant/internal/core/foreign"
)

const (
	maxLocator = 4096 // bytes
	// maxWork is how many steps from node to node one locator may take; an honest one takes thousands.
	maxWork = 4_000_000
	// maxTime is for what steps do not count: long texts that are compared.
	maxTime = 2 * time.Second
)

// BadLocator says why a locator can't be used.
type BadLocator struct{ Locator, Why string }

func (b *BadLocator) Error() string {
	return fmt.Sprintf("the locator %q can't be used: %s", b.Locator, b.Why)
}

// IsXPath reports whether a locator is read as XPath: it begins with "/", "("
// or "./". All others are CSS selectors.
func IsXPath(locator string) bool {
	l := strings.TrimSpace(locator)
	return strings.HasPrefix(l, "/") || strings.HasPrefix(l, "(") || strings.HasPrefix(l, "./")
}

// CheckLocator reports a *BadLocator when the locator can't be parsed.
func CheckLocator(locator string) error {
	if strings.TrimSpace(locator) == "" {
		return &BadLocator{clipped(locator), "it is empty"}
	}
	if IsXPath(locator) {
		_, err := parseXPath(locator)
		return err
	}
	_, err := parseCSS(locator)
	return err
}

// Find returns the elements that the locator means, in the order of the tree.
func (s *Screen) Find(locator string) ([]*Element, error) {
	if err := CheckLocator(locator); err != nil {
		return nil, err
	}
	return s.FindIn(nil, locator, IsXPath(locator))
}

// FindIn returns the elements that a CSS selector, or an XPath expression, means among those below from, in the order of
// the tree; nil: on the whole screen. An XPath expression begins at from. The error is a *BadLocator, also for one that takes too much work.
func (s *Screen) FindIn(from *Element, locator string, asXPath bool) (out []*Element, err error) {
	s.index()
	top := nodePair{s.html, s.xml}
	if from != nil {
		top = s.nodes[from]
	}
	w := &work{left: maxWork, until: time.Now().Add(maxTime)}
	if asXPath {
		expr, err := parseXPath(locator)
		if err != nil {
			return nil, err
		}
		err = guarded(locator, "as XPath: ", func() error {
			out, err = s.byXPath(expr, top, w)
			return err
		})
		return out, named(err, locator)
	}
	css, err := parseCSS(locator)
	if err != nil {
		return nil, err
	}
	err = guarded(locator, "as CSS: ", func() error {
		for _, n := range css.all(top.html, w) {
			if e := s.byHTML[n]; e != nil && e != from {
				out = append(out, e)
			}
		}
		return nil
	})
	return out, err
}

// named puts the locator to an error that lacks it.
func named(err error, locator string) error {
	var bad *BadLocator
	if errors.As(err, &bad) && bad.Locator == "" {
		bad.Locator = clipped(locator)
	}
	return err
}

// clipped is a locator, or what a library says of it, as it may stand in an error.
func clipped(text string) string { return foreign.Name(text, 200) }

var errTooMuchWork = errors.New("it takes too much work on this screen; make it more direct")

// work is what is left of what one locator may cost. It ends an evaluation in the middle of a library by a
// panic, which guarded takes up.
type work struct {
	left  int
	until time.Time
}

func (w *work) spend(n int) {
	if w.left -= n; w.left < 0 {
		panic(errTooMuchWork)
	}
	if w.left%256 < n && time.Now().After(w.until) {
		panic(errTooMuchWork)
	}
}

// guarded runs f; where that panics, the locator can't be used.
func guarded(locator, as string, f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = &BadLocator{clipped(locator), as + clipped(fmt.Sprint(r))}
		}
	}()
	return f()
}

// beyond finds functions of later versions of XPath that the library has: they may make texts of any length, or compile patterns.
var beyond = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?:^|[^\w.-])(replace|matches|string-join|reverse)\s*\(`)
})

var quoted = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`"[^"]*"|'[^']*'`) })

// parseXPath compiles an XPath 1.0 expression, and lower-case and ends-with besides.
func parseXPath(locator string) (expr *xpath.Expr, err error) {
	if len(locator) > maxLocator {
		return nil, &BadLocator{clipped(locator), "it is longer than 4096 bytes"}
	}
	if m := beyond().FindStringSubmatch(quoted().ReplaceAllString(locator, `""`)); m != nil {
		return nil, &BadLocator{clipped(locator), "as XPath: there is no function " + m[1] + " in XPath 1.0; contains, starts-with and translate may do"}
	}
	err = guarded(locator, "as XPath: ", func() error {
		if expr, err = xpath.Compile(locator); err != nil {
			return &BadLocator{clipped(locator), "as XPath: " + clipped(err.Error())}
		}
		return nil
	})
	return expr, err
}

func (s *Screen) byXPath(expr *xpath.Expr, top nodePair, w *work) (out []*Element, err error) {
	found, ok := expr.Evaluate(&walker{xmlquery.CreateXPathNavigator(top.xml), w}).(*xpath.NodeIterator)
	if !ok {
		return nil, &BadLocator{Why: "as XPath: it gives a value, not elements"}
	}
	seen := map[*Element]bool{}
	for found.MoveNext() {
		w.spend(1)
		nav := found.Current().(*walker)
		e := s.byXML[nav.Current()]
		if nav.NodeType() == xpath.AttributeNode || nav.NodeType() == xpath.TextNode {
			return nil, &BadLocator{Why: "as XPath: it gives attributes or texts, not elements"}
		}
		if e != nil && !seen[e] {
			seen[e] = true
			out = append(out, e)
		}
	}
	return out, nil
}

// walker is the library's way through the tree, with each step paid for. In our trees all text stands in attributes.
type walker struct {
	*xmlquery.NodeNavigator
	w *work
}

var _ xpath.NodeNavigator = (*walker)(nil)

// copyCosts is more than a step: what is copied is kept.
const copyCosts = 4

// Copy implements xpath.NodeNavigator.
func (n *walker) Copy() xpath.NodeNavigator {
	n.w.spend(copyCosts)
	return &walker{n.NodeNavigator.Copy().(*xmlquery.NodeNavigator), n.w}
}

// Value implements xpath.NodeNavigator.
func (n *walker) Value() string {
	if n.NodeType() != xpath.AttributeNode {
		n.w.spend(1)
		return "" // there are no texts between elements
	}
	v := n.NodeNavigator.Value()
	n.w.spend(1 + len(v)/64)
	return v
}

// MoveToParent implements xpath.NodeNavigator.
func (n *walker) MoveToParent() bool { n.w.spend(1); return n.NodeNavigator.MoveToParent() }

// MoveToNextAttribute implements xpath.NodeNavigator.
func (n *walker) MoveToNextAttribute() bool {
	n.w.spend(1)
	return n.NodeNavigator.MoveToNextAttribute()
}

// MoveToChild implements xpath.NodeNavigator.
func (n *walker) MoveToChild() bool { n.w.spend(1); return n.NodeNavigator.MoveToChild() }

// MoveToFirst implements xpath.NodeNavigator.
func (n *walker) MoveToFirst() bool {
	moved := false
	for n.MoveToPrevious() {
		moved = true
	}
	return moved
}

// MoveToNext implements xpath.NodeNavigator.
func (n *walker) MoveToNext() bool { n.w.spend(1); return n.NodeNavigator.MoveToNext() }

// MoveToPrevious implements xpath.NodeNavigator.
func (n *walker) MoveToPrevious() bool { n.w.spend(1); return n.NodeNavigator.MoveToPrevious() }

// MoveToRoot implements xpath.NodeNavigator.
func (n *walker) MoveToRoot() { n.w.spend(1); n.NodeNavigator.MoveToRoot() }

// MoveTo implements xpath.NodeNavigator.
func (n *walker) MoveTo(other xpath.NodeNavigator) bool {
	n.w.spend(1)
	o, ok := other.(*walker)
	return ok && n.NodeNavigator.MoveTo(o.NodeNavigator)
}

// parseCSS reads a selector.
func parseCSS(locator string) (css selector, err error) {
	if len(locator) > maxLocator {
		return css, &BadLocator{clipped(locator), "it is longer than 4096 bytes"}
	}
	err = guarded(locator, "as CSS: ", func() error {
		_, err := cascadia.ParseGroup(locator)
		if err == nil {
			css, err = takeApart(locator)
		}
		if err != nil {
			return &BadLocator{clipped(locator), "as CSS: " + clipped(err.Error()) + ` (texts with spaces need quotes, as in button[text="Start survey"])`}
		}
		return nil
	})
	return css, err
}
