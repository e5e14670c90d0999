// Package remarks finds what is wrong with a screen that nobody wrote a test for.
//
// It looks at one screen, its tree and its picture (screen.go, colours.go), and at the same moment on several devices (across.go). A remark is no verdict: it says what
// a person, or somebody with a screen reader, would trip over. In: trees in the vocabulary of core/uitree, pictures. Out: remarks, each with the element and a sentence.
//
// Sources: Android's guidance for accessibility (a touch target of 48 × 48 dp, a label for each control), Apple's Human Interface Guidelines (44 × 44 pt); Web Content Accessibility Guidelines (WCAG) 2.2,
// success criteria 1.1.1 and 4.1.2 (names), 1.4.3 (contrast), 1.4.4 (text that can be made larger), 1.4.10 and 2.4.11 (nothing cut off or covered).
package remarks

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/uitree"
)

// Kind says what a remark is about.
type Kind string

// The kinds of remarks, the gravest first.
const (
	Missing Kind = "missing"      // a control that other devices show at this moment is not on the screen, and it can't be scrolled to
	CutOff  Kind = "cut-off"      // a control of which the edge of the screen leaves too little
	Covered Kind = "covered"      // a control under another one
	TextCut Kind = "text-cut"     // a text that does not fit
	NoLabel Kind = "no-label"     // a control without a name
	Small   Kind = "small-target" // a control that is too small for a finger
	Faint   Kind = "low-contrast" // a text that stands out too little
	Fixed   Kind = "fixed-text"   // a text that does not grow with the font size
)

// Kinds are all kinds, the gravest first, and what each means.
var Kinds = []struct {
	Kind  Kind
	About string
}{
	{Missing, "a control that other devices show at the same step is not on the screen, and the screen does not scroll"},
	{CutOff, "the edge of the screen cuts a control off"},
	{Covered, "a control lies under another one: a tap goes there"},
	{TextCut, "a text does not fit"},
	{NoLabel, "a control has no label: a screen reader can't name it"},
	{Small, "a control is smaller than 48 × 48 dp, on iOS 44 × 44 pt"},
	{Faint, "a text has less contrast than WCAG 2.2 asks for: 4.5:1, or 3:1 where it is large"},
	{Fixed, "a text does not grow with the font size"},
}

// Remark is one thing that is wrong on one screen.
type Remark struct {
	Kind   Kind        `json:"kind"`
	Key    string      `json:"key"`  // by which the element is known on other devices: its id, or what it is and says
	What   string      `json:"what"` // such as: the button “Send”
	Says   string      `json:"says"` // the whole sentence
	Bounds uitree.Rect `json:"bounds"`
}

const (
	maxRemarks = 40 // of one screen
	maxName    = 60 // characters of a text that is named
)

// rank is how grave a kind is: 0, the gravest.
func (k Kind) rank() int {
	for i, x := range Kinds {
		if x.Kind == k {
			return i
		}
	}
	return len(Kinds)
}

// Sort puts the gravest first.
func Sort(rs []Remark) {
	slices.SortStableFunc(rs, func(a, b Remark) int {
		return cmp.Or(a.Kind.rank()-b.Kind.rank(), cmp.Compare(a.Bounds.Top, b.Bounds.Top), cmp.Compare(a.Bounds.Left, b.Bounds.Left))
	})
}

// Order says which of two kinds is the graver one: negative, a.
func Order(a, b Kind) int { return a.rank() - b.rank() }

var digits = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[0-9]+`) })

// keyOf is by what an element is known on other devices, and in other runs.
func keyOf(e *uitree.Element) string {
	if e.ID != "" {
		return "#" + foreign.Name(e.ID, 100)
	}
	return e.Kind + " " + digits().ReplaceAllString(foreign.Name(said(e), maxName), "#")
}

// said is what a person reads on an element, or hears; of one that has children, also on them.
func said(e *uitree.Element) string {
	for _, s := range []string{e.Text, e.Label, e.Value, e.Hint} {
		if s = strings.TrimSpace(s); s != "" {
			return s
		}
	}
	for _, c := range e.Children {
		if s := said(c); s != "" {
			return s
		}
	}
	return ""
}

// nameOf names an element in a sentence.
func nameOf(e *uitree.Element) string {
	kind := e.Kind
	if kind == "group" {
		kind = "area"
	}
	if s := said(e); s != "" {
		return fmt.Sprintf("the %s “%s”", kind, foreign.Name(s, maxName))
	}
	if e.ID != "" {
		return fmt.Sprintf("the %s #%s", kind, foreign.Name(e.ID, maxName))
	}
	return fmt.Sprintf("a %s without text", kind)
}
