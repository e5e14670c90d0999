package w3c

// Which element of a screen is the one that a reference was given for (section 12.2).
//
// A native screen's tree comes anew with each look, and nothing in it says which
// element is which. An element is known again by its kind, class and id, then by the text it had, then by its
// place in the tree.

import (
	"crypto/sha256"
	"fmt"
	"strings"

	"tessellant/internal/core/uitree"
)

// Known is an element as it was when a reference was given for it.
type Known struct {
	kind, class, id, app, text string
	place                      string
	bounds                     uitree.Rect
}

// Remember notes what an element can be known again by; at are the places on its screen.
func Remember(at map[*uitree.Element]string, e *uitree.Element) Known {
	return Known{e.Kind, e.Class, e.ID, e.App, brief(Text(e, true)), at[e], e.Bounds}
}

// brief is a text as it is remembered: a long one by its hash, since thousands are.
func brief(text string) string {
	if len(text) <= 200 {
		return text
	}
	return fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
}

// Likeness is what all elements have in common that are alike.
func (k Known) Likeness() string { return strings.Join([]string{k.kind, k.class, k.id, k.app}, "\x00") }

// Alike says whether an element is of the kind, class and id of a remembered one.
func (k Known) Alike(e *uitree.Element) bool {
	return e.Kind == k.kind && e.Class == k.class && e.ID == k.id && e.App == k.app
}

// Others are the texts of the elements that were like a remembered one on its screen, itself among them, by their places.
type Others map[string]string

// Others notes them.
func (k Known) Others(at map[*uitree.Element]string) Others {
	out := Others{}
	for e, place := range at {
		if k.Alike(e) {
			out[place] = brief(Text(e, true))
		}
	}
	return out
}

// Again finds a remembered element on a screen; nil: it is not there any more, the reference is stale. It is
//
//   - the only element of its kind, class and id, where it has an id;
//   - else the only one of those that has the text it had: it may have moved;
//   - else the one of those in the same place of the tree, when it has the same text, or when its text alone
//     has changed: it lies where it lay, and is none of the others that has come there, as rows do when their list
//     is scrolled.
func (k Known) Again(s *uitree.Screen, others Others) *uitree.Element {
	var alike []*uitree.Element
	for _, e := range s.All() {
		if k.Alike(e) {
			alike = append(alike, e)
		}
	}
	if k.id != "" && len(alike) == 1 {
		return alike[0]
	}
	var same []*uitree.Element
	for _, e := range alike {
		if brief(Text(e, true)) == k.text {
			same = append(same, e)
		}
	}
	if len(same) == 1 && k.text != "" {
		return same[0]
	}
	at := Places(s)
	now := k.Others(at)
	for _, e := range alike {
		if at[e] != k.place {
			continue
		}
		text := now[k.place]
		if text == k.text || (e.Bounds == k.bounds && !came(text, k.place, others, now)) {
			return e
		}
		return nil
	}
	return nil
}

// came says whether what has a text in a place now had it in another before, where it is not any more.
func came(text, place string, before, now Others) bool {
	for p, t := range before {
		if p != place && t == text && text != "" && now[p] != text {
			return true
		}
	}
	return false
}

// Places gives every element of a screen its place in the tree: its number below its parent, and those of all above it.
func Places(s *uitree.Screen) map[*uitree.Element]string {
	out := map[*uitree.Element]string{}
	var walk func(es []*uitree.Element, above string)
	walk = func(es []*uitree.Element, above string) {
		for i, e := range es {
			out[e] = above + fmt.Sprintf("/%d", i)
			walk(e.Children, out[e])
		}
	}
	walk(s.Elements, "")
	return out
}

// Describe names an element for people.
func Describe(e *uitree.Element) string {
	name := e.Kind
	if e.ID != "" {
		name += "#" + e.ID
	}
	if t := strings.TrimSpace(Text(e, false)); t != "" {
		if r := []rune(t); len(r) > 40 {
			t = string(r[:40]) + "…"
		}
		name += fmt.Sprintf(" %q", t)
	}
	return name
}
