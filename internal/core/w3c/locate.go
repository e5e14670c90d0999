package w3c

// What locators mean on a screen (section 12.3), and elements as the wire has them.

import (
	"errors"
	"fmt"
	"strings"

	"tessellant/internal/core/uitree"
)

// ElementKey is the name under which an element's reference stands (section 12.1, "web element identifier").
const ElementKey = "element-6066-11e4-a52e-4f735466cecf"

// Strategies are the standard's, and all that there are.
var Strategies = []string{"css selector", "link text", "partial link text", "tag name", "xpath"}

// Locate finds the elements that a strategy and a value mean, below from; nil: on the whole screen.
func Locate(s *uitree.Screen, from *uitree.Element, using, value string) ([]*uitree.Element, *Error) {
	locator := value
	var holds func(*uitree.Element) bool
	switch using {
	case "css selector", "xpath":
	case "tag name":
		if value == "" {
			return nil, Fail(InvalidSelector, "a tag name must not be empty")
		}
		holds = func(e *uitree.Element) bool { return e.Kind == value }
	case "link text":
		holds = func(e *uitree.Element) bool { return strings.TrimSpace(Text(e, false)) == strings.TrimSpace(value) }
	case "partial link text":
		holds = func(e *uitree.Element) bool { return strings.Contains(Text(e, false), value) }
	default:
		return nil, Fail(InvalidArgument, "there is no strategy %q in the standard; %s", using, instead(using, value))
	}
	if holds != nil {
		var out []*uitree.Element
		for _, e := range s.Under(from) {
			if holds(e) {
				out = append(out, e)
			}
		}
		return out, nil
	}
	es, err := s.FindIn(from, locator, using == "xpath")
	var bad *uitree.BadLocator
	if errors.As(err, &bad) {
		return nil, Fail(InvalidSelector, "%s", bad.Error())
	}
	if err != nil {
		return nil, Fail(InvalidSelector, "%v", err)
	}
	return es, nil
}

// instead says what does the same as a strategy that the standard does not have.
func instead(using, value string) string {
	attribute := map[string]string{"id": "id", "name": "label", "class name": "class"}[strings.ToLower(using)]
	if attribute == "" {
		return "there are " + strings.Join(Strategies, ", ")
	}
	quoted := `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`
	return fmt.Sprintf("css selector [%s=%s] does the same", attribute, quoted)
}

// Text is what a person reads on an element: its own text, else its content as a field, else its label; with
// inside, of a group, on all that lies in it, a line each (section 12.4.5).
func Text(e *uitree.Element, inside bool) string {
	for _, s := range []string{e.Text, e.Value, e.Label} {
		if s != "" {
			return s
		}
	}
	if !inside {
		return ""
	}
	var lines []string
	for _, c := range e.Children {
		if s := Text(c, true); s != "" {
			lines = append(lines, s)
		}
	}
	return strings.Join(lines, "\n")
}

// Attribute gives an attribute of the tree; nil where it is not there, or false (section 12.4.2 has booleans so).
func Attribute(e *uitree.Element, name string) any {
	v, ok := e.Attribute(name)
	if !ok || v == "false" {
		return nil
	}
	return v
}

// Property gives an attribute with its type: true, false or text; nil where it is not there.
func Property(e *uitree.Element, name string) any {
	switch name {
	case "enabled":
		return e.Enabled
	case "disabled":
		return !e.Enabled
	case "checked":
		return e.Checked
	case "selected":
		return e.Selected
	case "focused":
		return e.Focused
	case "scrollable":
		return e.Scrollable
	case "clickable":
		return e.Clickable
	case "password":
		return e.Password
	}
	v, ok := e.Attribute(name)
	if !ok {
		return nil
	}
	return v
}

// Selected says whether an element is checked or selected (section 12.4.1).
func Selected(e *uitree.Element) bool { return e.Checked || e.Selected }

// roles are the WAI-ARIA 1.2 roles of the kinds.
var roles = map[string]string{"button": "button", "text": "generic", "field": "textbox", "image": "img", "list": "list", "switch": "switch", "checkbox": "checkbox", "progress": "progressbar",
	"scroll": "generic", "group": "group"}

// Role is the element's computed role (section 12.4.9).
func Role(e *uitree.Element) string {
	if r := roles[e.Kind]; r != "" {
		return r
	}
	return "none"
}

// Label is the element's computed label (section 12.4.10): what a screen reader says.
func Label(e *uitree.Element) string {
	for _, s := range []string{e.Label, e.Text, e.Hint} {
		if s != "" {
			return s
		}
	}
	return Text(e, true)
}
