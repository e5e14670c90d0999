package uitree

// The tree as we write it ourselves: what another Tessellant answers as the source of a screen.

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
)

const ourRoot = "screen"

// kinds are the words for what an element is.
var kinds = []string{"button", "text", "field", "image", "list", "switch", "checkbox", "progress", "scroll", "group"}

// IsOurs says whether a source is a tree as Screen.XML writes it.
func IsOurs(source string) bool {
	rest, ok := strings.CutPrefix(strings.TrimSpace(source), "<"+ourRoot)
	return ok && rest != "" && strings.ContainsAny(rest[:1], "> /")
}

// ParseOurs reads a tree as Screen.XML writes it.
func ParseOurs(raw []byte) (*Screen, error) {
	if text := strings.TrimSpace(string(raw)); text == "<"+ourRoot+"/>" {
		return &Screen{}, nil
	}
	return grammar{root: ourRoot, each: ourElement}.read(raw)
}

func ourElement(t xml.StartElement) *Element {
	e := &Element{Kind: t.Name.Local, Enabled: true}
	if !slices.Contains(kinds, e.Kind) {
		e.Kind = "group"
	}
	for _, a := range t.Attr {
		yes := a.Value == "true"
		switch a.Name.Local {
		case "id":
			e.ID = a.Value
		case "text":
			e.Text = a.Value
		case "label":
			e.Label = a.Value
		case "value":
			e.Value = a.Value
		case "hint":
			e.Hint = a.Value
		case "class":
			e.Class = a.Value
		case "app":
			e.App = a.Value
		case "enabled":
			e.Enabled = yes
		case "checked":
			e.Checked = yes
		case "focused":
			e.Focused = yes
		case "selected":
			e.Selected = yes
		case "scrollable":
			e.Scrollable = yes
		case "clickable":
			e.Clickable = yes
		case "password":
			e.Password = yes
		case "bounds":
			_, _ = fmt.Sscanf(a.Value, "%d,%d,%d,%d", &e.Bounds.Left, &e.Bounds.Top, &e.Bounds.Right, &e.Bounds.Bottom)
		}
	}
	return e
}
