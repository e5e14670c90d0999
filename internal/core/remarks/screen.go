package remarks

import (
	"fmt"
	"image"
	"math"
	"slices"

	"tessellant/internal/core/uitree"
)

// Screen is what is looked at.
type Screen struct {
	Tree    *uitree.Screen
	Picture image.Image // nil: colours are not looked at
	Scale   float64     // pixels for a dp: the density divided by 160
	App     string      // whose elements are looked at; "": all
	Font    float64     // the font scale; 0: 1
	IOS     bool        // its unit is the point, and a finger needs less of it
}

// target is the least width and height of what is touched, and its unit.
func (s Screen) target() (least int, unit string) {
	if s.IOS {
		return targetPT, "pt"
	}
	return targetDP, "dp"
}

const (
	targetDP = 48   // the least width and height of what is touched
	targetPT = 44   // the same on iOS
	slackDP  = 1.0  // that a rounded length may lack
	textDP   = 10.0 // the least height of a line of text
	under    = 0.5  // of a control that another one covers, for its middle to be looked at
)

// placed is an element with those above it.
type placed struct {
	*uitree.Element
	above []*uitree.Element
}

// under says whether o is above p in the tree.
func (p placed) under(o *uitree.Element) bool { return slices.Contains(p.above, o) }

// scrolls says whether what an element stands in scrolls.
func (p placed) scrolls() bool { return slices.ContainsFunc(p.above, isScroller) }

func isScroller(e *uitree.Element) bool {
	return e.Scrollable || e.Kind == "scroll" || e.Kind == "list"
}

// elements are those of the app, from the bottom of the picture up: what comes later is drawn over what came before.
func (s Screen) elements() (out []placed) {
	var walk func(es []*uitree.Element, above []*uitree.Element)
	walk = func(es []*uitree.Element, above []*uitree.Element) {
		for _, e := range es {
			if s.App == "" || e.App == "" || e.App == s.App {
				out = append(out, placed{e, above})
			}
			walk(e.Children, append(above[:len(above):len(above)], e))
		}
	}
	walk(s.Tree.Elements, nil)
	return out
}

// isControl says whether a person works with an element.
func isControl(e *uitree.Element) bool {
	switch e.Kind {
	case "button", "field", "switch", "checkbox":
		return true
	}
	return e.Clickable
}

func (s Screen) dp(px int) float64 { return float64(px) / s.Scale }

// Find looks at one screen. What is wrong with more than so many elements of it is left out: the gravest come first.
func Find(s Screen) []Remark {
	if s.Tree == nil || s.Scale <= 0 {
		return nil
	}
	all := s.elements()
	edge := s.edge(all)
	var out []Remark
	for i, p := range all {
		e := p.Element
		if e.Bounds.Empty() {
			continue
		}
		say := func(k Kind, format string, args ...any) {
			out = append(out, Remark{Kind: k, Key: keyOf(e), What: nameOf(e), Says: nameOf(e) + " " + fmt.Sprintf(format, args...), Bounds: e.Bounds})
		}
		if isControl(e) && e.Enabled && !p.inControl() {
			s.control(p, edge, say)
			if over := covering(p, all[i+1:]); over != nil {
				say(Covered, "lies under %s: a tap on its middle goes there", nameOf(over))
			}
		}
		if e.Text != "" && len(e.Children) == 0 {
			s.text(p, edge, say)
		}
	}
	Sort(out)
	return out[:min(len(out), maxRemarks)]
}

// control looks at what a person works with.
func (s Screen) control(p placed, edge uitree.Rect, say func(Kind, string, ...any)) {
	b := p.Bounds
	w, h := s.dp(b.Right-b.Left), s.dp(b.Bottom-b.Top)
	target, unit := s.target()
	least := float64(target) - slackDP
	small := w < least || h < least
	cut := b.Bottom >= edge.Bottom && h < least || b.Right >= edge.Right && w < least
	switch {
	case cut && !p.scrolls():
		say(CutOff, "is cut off by the edge of the screen: %s × %s dp of it can be seen, and the screen does not scroll", whole(w), whole(h))
	case small && !p.scrolledOff() && !p.Scrollable:
		say(Small, "is %s × %s %s; a finger needs %d × %d", whole(w), whole(h), unit, target, target)
	}
	if said(p.Element) == "" {
		say(NoLabel, "has no label: a screen reader can't name it")
	}
}

// text looks at what a person reads.
func (s Screen) text(p placed, edge uitree.Rect, say func(Kind, string, ...any)) {
	h := s.dp(p.Bounds.Bottom - p.Bounds.Top)
	if p.Bounds.Bottom >= edge.Bottom && h < textDP*max(s.Font, 1) && !p.scrolls() {
		say(TextCut, "is cut by the edge of the screen: %s dp of its height can be seen, and the screen does not scroll", whole(h))
		return
	}
	look, ok := s.ink(p.Element)
	if !ok || p.scrolledOff() {
		return
	}
	need := contrastText
	if look.high >= largeDP {
		need = contrastLarge
	}
	if look.contrast < need-0.005 && p.Enabled && !p.disabled() {
		say(Faint, "has a contrast of %.1f:1; %.1f:1 is needed", look.contrast, need)
	}
	switch {
	case p.Kind != "text": // a button's or a field's box is its frame
	case look.cutBelow:
		say(TextCut, "does not fit: it is cut at its bottom")
	case look.cutAfter:
		say(TextCut, "does not fit: it is cut at its end")
	}
}

// scrolledOff says whether an element, or what it is part of, touches the edge of what it scrolls in: the rest of it can be scrolled to.
func (p placed) scrolledOff() bool {
	for i, a := range p.above {
		if !isScroller(a) {
			continue
		}
		for _, in := range append(slices.Clone(p.above[i+1:]), p.Element) {
			if e, b := in.Bounds, a.Bounds; (e.Bottom >= b.Bottom || e.Top <= b.Top) && e.Bottom-e.Top < b.Bottom-b.Top {
				return true
			}
		}
	}
	return false
}

func (p placed) disabled() bool {
	for _, a := range p.above {
		if !a.Enabled {
			return true
		}
	}
	return false
}

// inControl says whether an element is part of a control: that is what is touched, and named.
func (p placed) inControl() bool {
	for _, a := range p.above {
		if isControl(a) && a.Enabled && a.Clickable {
			return true
		}
	}
	return false
}

// edge is what of the screen is the app's: what does not scroll is cut off there. The system's bar at the bottom is not the app's: the largest areas of the app end above it.
func (s Screen) edge(all []placed) (r uitree.Rect) {
	for _, p := range all {
		r = uitree.Rect{Right: max(r.Right, p.Bounds.Right), Bottom: max(r.Bottom, p.Bounds.Bottom)}
	}
	high := r.Bottom
	for _, p := range all {
		if len(p.Children) > 0 && p.Bounds.Bottom-p.Bounds.Top > high/2 {
			r.Bottom = min(r.Bottom, p.Bounds.Bottom)
		}
	}
	return r
}

// covering is a control, drawn later, that takes a tap on an element's middle.
func covering(p placed, later []placed) *uitree.Element {
	x, y := p.Bounds.Center()
	area := float64((p.Bounds.Right - p.Bounds.Left) * (p.Bounds.Bottom - p.Bounds.Top))
	for _, o := range later {
		b := o.Bounds
		if b.Empty() || !isControl(o.Element) || o.under(p.Element) || p.under(o.Element) {
			continue
		}
		shared := float64(max(0, min(b.Right, p.Bounds.Right)-max(b.Left, p.Bounds.Left)) * max(0, min(b.Bottom, p.Bounds.Bottom)-max(b.Top, p.Bounds.Top)))
		if x >= b.Left && x < b.Right && y >= b.Top && y < b.Bottom && shared >= under*area {
			return o.Element
		}
	}
	return nil
}

func whole(dp float64) string { return fmt.Sprint(math.Round(dp)) }
