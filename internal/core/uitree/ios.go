package uitree

import (
	"encoding/xml"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// iosKinds are our words for iOS's types of elements, in lower case. Source: Apple's developer documentation, XCUIElement.ElementType. All other types
// of it that are here are groups.
var iosKinds = map[string]string{
	"button": "button", "link": "button", "key": "button", "tab": "button", "menuitem": "button", "menubutton": "button", "popupbutton": "button", "toolbarbutton": "button", "segment": "button",
	"radiobutton": "checkbox", "checkbox": "checkbox", "switch": "switch", "toggle": "switch",
	"textfield": "field", "securetextfield": "field", "searchfield": "field", "textview": "field", "combobox": "field",
	"statictext": "text", "image": "image", "icon": "image",
	"table": "list", "collectionview": "list", "outline": "list", "scrollview": "scroll",
	"progressindicator": "progress", "activityindicator": "progress", "slider": "progress",

	"application": "group", "window": "group", "other": "group", "group": "group", "any": "group", "cell": "group", "tablerow": "group", "navigationbar": "group", "tabbar": "group", "tabgroup": "group", "toolbar": "group",
	"statusbar": "group", "alert": "group", "dialog": "group", "sheet": "group", "popover": "group", "drawer": "group", "menu": "group", "menubar": "group", "keyboard": "group", "webview": "group", "map": "group", "picker": "group",
	"pickerwheel": "group", "datepicker": "group", "pagecontrol": "group", "pageindicator": "group", "segmentedcontrol": "group", "stepper": "group", "ratingindicator": "group", "disclosuretriangle": "group",
}

// iosPrefix stands before a type where it is written as the constant of Apple's header files.
const iosPrefix = "xcuielementtype"

// ParseIOS reads the source of a screen of iOS as labs give it: XML whose elements are named by the types of Apple's XCUIElement, with the attributes of
// XCUIElementAttributes (identifier, label, title, value, placeholderValue, frame, isEnabled, isSelected, hasFocus) or the same written shorter, and places
// in points. By so many pixels a point they become pixels. As on other platforms, only what lies on the screen is in the tree.
func ParseIOS(raw []byte, scale float64) (*Screen, error) {
	app, screen, known := "", Rect{}, false
	s, err := grammar{each: func(t xml.StartElement) *Element {
		e := &Element{Enabled: true, Class: t.Name.Local}
		visible := true
		var frame [4]float64
		var label, title, name, identifier, placeholder string
		for _, a := range t.Attr {
			yes := a.Value == "true" || a.Value == "1" || a.Value == "YES"
			switch strings.ToLower(a.Name.Local) {
			case "type", "elementtype":
				e.Class = a.Value
			case "identifier":
				identifier = a.Value
			case "name":
				name = a.Value
			case "label":
				label = a.Value
			case "title":
				title = a.Value
			case "value":
				e.Value = a.Value
			case "placeholdervalue", "placeholder":
				placeholder = a.Value
			case "enabled", "isenabled":
				e.Enabled = yes
			case "selected", "isselected":
				e.Selected = yes
			case "focused", "hasfocus":
				e.Focused = yes
			case "visible", "isvisible":
				visible = yes
			case "bundleidentifier", "bundleid":
				app = a.Value
			case "frame":
				frame = iosFrame(a.Value)
			case "x", "y", "width", "height":
				frame[strings.Index("xywh", strings.ToLower(a.Name.Local[:1]))], _ = strconv.ParseFloat(a.Value, 64)
			}
		}
		kind := strings.TrimPrefix(strings.ToLower(e.Class), iosPrefix)
		e.Kind, e.App, e.ID = iosKinds[kind], app, identifier
		if known = known || e.Kind != ""; e.Kind == "" {
			e.Kind = "group"
		}
		if e.ID == "" && name != label { // some write one name for both
			e.ID = name
		}
		e.Bounds = pixels(frame, scale)
		if screen == (Rect{}) && !e.Bounds.Empty() {
			screen = e.Bounds
		}
		e.Bounds = cut(e.Bounds, screen)
		shown := label
		if shown == "" {
			shown = title
		}
		e.Scrollable = e.Kind == "list" || e.Kind == "scroll"
		e.Clickable = e.Kind == "button" || e.Kind == "field" || e.Kind == "switch" || e.Kind == "checkbox" || kind == "cell"
		switch e.Kind {
		case "field":
			e.Hint, e.Label, e.Password = placeholder, label, kind == "securetextfield"
			if e.Value == placeholder { // an empty field says its hint
				e.Value = ""
			}
			e.Text = e.Value
		case "switch", "checkbox":
			e.Text, e.Checked, e.Value = shown, e.Value == "1" || e.Value == "true" || e.Selected, ""
		case "text", "button":
			if e.Text = shown; shown == "" {
				e.Text = e.Value
			}
			e.Value = ""
		default:
			e.Label = shown
		}
		if !visible {
			e.Bounds = Rect{}
		}
		return e
	}}.read(raw)
	if err != nil {
		return nil, err
	}
	if !known {
		return nil, fmt.Errorf("there is no tree of iOS in the device's answer %q", short(raw))
	}
	s.Elements = onScreen(s.Elements)
	if screen.Right-screen.Left > screen.Bottom-screen.Top {
		s.Rotation = 1
	}
	return s, nil
}

// onScreen leaves out what can't be seen, and has nothing in it that can.
func onScreen(es []*Element) []*Element {
	out := es[:0]
	for _, e := range es {
		if e.Children = onScreen(e.Children); !e.Bounds.Empty() || len(e.Children) > 0 {
			out = append(out, e)
		}
	}
	return out
}

// frameForm is how a rectangle of points is written as text (NSStringFromCGRect): {{x, y}, {width, height}}.
var frameForm = sync.OnceValue(func() *regexp.Regexp {
	const n = `\s*(-?[0-9.]+)\s*`
	return regexp.MustCompile(`^\{\{` + n + `,` + n + `\},\s*\{` + n + `,` + n + `\}\}$`)
})

func iosFrame(text string) (f [4]float64) {
	for i, g := range frameForm().FindStringSubmatch(strings.TrimSpace(text)) {
		if i > 0 {
			f[i-1], _ = strconv.ParseFloat(g, 64)
		}
	}
	return f
}

// pixels turns a place in points into pixels. What is no number, or beyond any screen, is nowhere.
func pixels(f [4]float64, scale float64) Rect {
	for _, v := range f {
		if math.IsNaN(v) || math.Abs(v) > 1e6 {
			return Rect{}
		}
	}
	px := func(v float64) int { return int(math.Round(v * scale)) }
	return Rect{px(f[0]), px(f[1]), px(f[0] + f[2]), px(f[1] + f[3])}
}

// cut gives what of a rectangle lies in another; where that is empty, the first.
func cut(r, in Rect) Rect {
	if in.Empty() {
		return r
	}
	return Rect{max(r.Left, in.Left), max(r.Top, in.Top), min(r.Right, in.Right), min(r.Bottom, in.Bottom)}
}
