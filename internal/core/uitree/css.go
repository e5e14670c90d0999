package uitree

// CSS selectors. Parts that look at one element alone are the library's; what holds one element against others (groups,
// combinators, :not, :has, :haschild) is done here, each question answered once: the library's own way doubles its work with each level.

import (
	"errors"
	"fmt"
	"strings"

	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"
)

// selector is a selector list: an element must match one of it (Selectors Level 4, section 4.1).
type selector []*complexSelector

// complexSelector is compounds with combinators between them: links[i] stands before parts[i+1].
type complexSelector struct {
	parts []*compound
	links []byte // ' ', '>', '+' or '~'
}

// compound is what one element must be.
type compound struct {
	own    cascadia.Sel // nil: anything
	colons int          // pseudo-classes in it, which look at children and siblings
	funcs  []relation
}

// relation is :not, :has or :haschild.
type relation struct {
	name string
	of   selector
}

// takeApart reads a selector that the library has found right.
func takeApart(text string) (selector, error) {
	r := &cssReader{text: text}
	s, err := r.list(false)
	if err == nil && r.at < len(text) {
		err = fmt.Errorf("it can't be read from %q on", clipped(text[r.at:]))
	}
	return s, err
}

type cssReader struct {
	text  string
	at    int
	depth int
}

// maxNested is how deep :not and :has may lie in each other.
const maxNested = 20

// list reads complex selectors up to the end, or inside of a function up to its parenthesis.
func (r *cssReader) list(inside bool) (out selector, err error) {
	if r.depth++; r.depth > maxNested {
		return nil, fmt.Errorf("it is nested more than %d deep", maxNested)
	}
	defer func() { r.depth-- }()
	for {
		one, err := r.complex()
		if err != nil {
			return nil, err
		}
		out = append(out, one)
		if r.at == len(r.text) || (inside && r.text[r.at] == ')') {
			return out, nil
		}
		if r.text[r.at] != ',' {
			return out, nil
		}
		r.at++
	}
}

func (r *cssReader) complex() (*complexSelector, error) {
	out := &complexSelector{}
	r.space()
	for {
		c, err := r.compound()
		if err != nil {
			return nil, err
		}
		out.parts = append(out.parts, c)
		link := byte(0)
		if r.space() {
			link = ' '
		}
		if r.at < len(r.text) && strings.IndexByte(">+~", r.text[r.at]) >= 0 {
			link = r.text[r.at]
			r.at++
			r.space()
		}
		if r.at == len(r.text) || r.text[r.at] == ',' || r.text[r.at] == ')' || link == 0 {
			return out, nil
		}
		out.links = append(out.links, link)
	}
}

// space passes over white space and comments.
func (r *cssReader) space() (some bool) {
	for r.at < len(r.text) {
		switch {
		case strings.IndexByte(" \t\r\n\f", r.text[r.at]) >= 0:
			r.at++
		case strings.HasPrefix(r.text[r.at:], "/*"):
			end := strings.Index(r.text[r.at+2:], "*/")
			if end < 0 {
				return some
			}
			r.at += end + 4
		default:
			return some
		}
		some = true
	}
	return some
}

func (r *cssReader) compound() (*compound, error) {
	out := &compound{}
	var own strings.Builder
	for r.at < len(r.text) {
		c := r.text[r.at]
		if strings.IndexByte(" \t\r\n\f,)>+~", c) >= 0 || strings.HasPrefix(r.text[r.at:], "/*") {
			break
		}
		from := r.at
		switch c {
		case ':':
			f, err := r.function()
			if err != nil {
				return nil, err
			}
			if f != nil {
				out.funcs = append(out.funcs, *f)
				continue
			}
			out.colons++
		case '[', '(':
			r.bracket(map[byte]byte{'[': ']', '(': ')'}[c])
		case '\\':
			r.escape()
		default:
			r.at++
		}
		own.WriteString(r.text[from:r.at])
	}
	if own.Len() == 0 {
		if len(out.funcs) == 0 {
			return nil, errors.New("there is nothing between its combinators")
		}
		return out, nil
	}
	if strings.Contains(quoted().ReplaceAllString(own.String(), `""`), "#=") {
		return nil, errors.New("CSS has no patterns: *=, ^= and $= may do")
	}
	var err error
	out.own, err = cascadia.Parse(own.String())
	return out, err
}

// function reads :not(…), :has(…) or :haschild(…); nil: it is none of them, and the colon and the name are passed over.
func (r *cssReader) function() (*relation, error) {
	end := r.at + 1
	for end < len(r.text) && (r.text[end] == '-' || r.text[end] == '_' || r.text[end] == '\\' || r.text[end] == ':' || isLetter(r.text[end])) {
		end++
	}
	name := strings.ToLower(r.text[r.at+1 : end])
	switch {
	case strings.Contains(name, `\`):
		return nil, errors.New("a pseudo-class is written without escapes")
	case name == "matches" || name == "matchesown":
		return nil, errors.New("CSS has no :" + name + "; :contains and *= may do")
	case (name != "not" && name != "has" && name != "haschild") || end == len(r.text) || r.text[end] != '(':
		r.at = end
		return nil, nil
	}
	r.at = end + 1
	of, err := r.list(true)
	if err != nil {
		return nil, err
	}
	if r.at == len(r.text) || r.text[r.at] != ')' {
		return nil, errors.New("a parenthesis is not closed")
	}
	r.at++
	return &relation{name, of}, nil
}

func isLetter(c byte) bool {
	return c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || c >= 0x80
}

// bracket passes over what stands between brackets, texts in quotes in it too.
func (r *cssReader) bracket(end byte) {
	for r.at++; r.at < len(r.text); {
		switch c := r.text[r.at]; c {
		case end:
			r.at++
			return
		case '"', '\'':
			for r.at++; r.at < len(r.text) && r.text[r.at] != c; r.at++ {
				if r.text[r.at] == '\\' {
					r.at++
				}
			}
			r.at++
		case '\\':
			r.escape()
		default:
			r.at++
		}
	}
	r.at = min(r.at, len(r.text))
}

// escape passes over a backslash and what it stands before: a character, or a number with the space that ends it (CSS Syntax Level 3, section 4.3.7).
func (r *cssReader) escape() {
	r.at++
	digits := 0
	for digits < 6 && r.at < len(r.text) && strings.IndexByte("0123456789abcdefABCDEF", r.text[r.at]) >= 0 {
		r.at++
		digits++
	}
	switch {
	case digits == 0:
		r.at = min(r.at+1, len(r.text))
	case strings.HasPrefix(r.text[r.at:], "\r\n"):
		r.at += 2
	case r.at < len(r.text) && strings.IndexByte(" \t\r\n\f", r.text[r.at]) >= 0:
		r.at++
	}
}

// all gives the elements at and below top that match, in the order of the tree.
func (s selector) all(top *html.Node, w *work) (out []*html.Node) {
	m := &matcher{w: w, known: map[question]bool{}, reach: map[*html.Node]int{}}
	var walk func(n *html.Node)
	walk = func(n *html.Node) {
		w.spend(1)
		if m.any(s, n) {
			out = append(out, n)
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
	}
	walk(top)
	return out
}

// matcher answers questions, each once.
type matcher struct {
	w     *work
	known map[question]bool
	reach map[*html.Node]int // how many nodes a pseudo-class of a node looks at
}

// question is whether a node matches the first parts of a complex selector.
type question struct {
	of    *complexSelector
	parts int
	node  *html.Node
}

const questionCosts = 8 // it is remembered

func (m *matcher) any(s selector, n *html.Node) bool {
	for _, c := range s {
		if m.matches(c, len(c.parts), n) {
			return true
		}
	}
	return false
}

func (m *matcher) matches(c *complexSelector, parts int, n *html.Node) bool {
	if n.Type != html.ElementNode {
		m.w.spend(1)
		return false
	}
	q := question{c, parts, n}
	if yes, asked := m.known[q]; asked {
		m.w.spend(1)
		return yes
	}
	m.w.spend(questionCosts)
	yes := m.is(c.parts[parts-1], n) && (parts == 1 || m.linked(c, parts-1, n))
	m.known[q] = yes
	return yes
}

// linked says whether what stands before a node in the tree matches the first parts.
func (m *matcher) linked(c *complexSelector, parts int, n *html.Node) bool {
	switch c.links[parts-1] {
	case '>':
		return n.Parent != nil && m.matches(c, parts, n.Parent)
	case '+':
		return n.PrevSibling != nil && m.matches(c, parts, n.PrevSibling)
	case '~':
		for p := n.PrevSibling; p != nil; p = p.PrevSibling {
			if m.matches(c, parts, p) {
				return true
			}
		}
		return false
	}
	for p := n.Parent; p != nil; p = p.Parent {
		if m.matches(c, parts, p) {
			return true
		}
	}
	return false
}

func (m *matcher) is(c *compound, n *html.Node) bool {
	if c.own != nil {
		if c.colons > 0 {
			m.w.spend(c.colons * m.looksAt(n))
		}
		if !c.own.Match(n) {
			return false
		}
	}
	for _, f := range c.funcs {
		found := false
		switch f.name {
		case "not":
			found = !m.any(f.of, n)
		case "haschild":
			for k := n.FirstChild; k != nil && !found; k = k.NextSibling {
				found = m.any(f.of, k)
			}
		case "has":
			found = m.below(f.of, n)
		}
		if !found {
			return false
		}
	}
	return true
}

func (m *matcher) below(s selector, n *html.Node) bool {
	for k := n.FirstChild; k != nil; k = k.NextSibling {
		if m.any(s, k) || m.below(s, k) {
			return true
		}
	}
	return false
}

// looksAt is how many nodes a pseudo-class may look at from a node: those below it, and those beside it.
func (m *matcher) looksAt(n *html.Node) int {
	size := 1 + m.size(n)
	if n.Parent != nil {
		size += m.size(n.Parent)
	}
	return size
}

func (m *matcher) size(n *html.Node) int {
	if known, ok := m.reach[n]; ok {
		return known
	}
	m.w.spend(1)
	size := 1
	for k := n.FirstChild; k != nil; k = k.NextSibling {
		size += m.size(k)
	}
	m.reach[n] = size
	return size
}
