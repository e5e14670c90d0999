package app

import (
	"fmt"
	"strings"

	"go.starlark.net/starlark"
)

// widget is a part of a screen, as the behaviour file makes it.
type widget struct {
	kind     string
	id       string
	text     string
	detail   string
	value    string
	hint     string
	label    string // what a screen reader says
	size     string // of a text: title, body, small, big
	style    string // of a button: filled or plain; of a text: faint
	enabled  bool
	checked  bool
	numeric  bool
	scroll   bool
	secret   bool // a field that shows dots
	dark     bool // a screen that is dark whatever the device says
	minCell  int  // dp: of a grid's cells
	height   int  // dp: of a space
	points   []float64
	onTap    starlark.Callable
	onLong   starlark.Callable
	onChange starlark.Callable
	back     starlark.Callable
	dialog   *widget // over a screen
	children []*widget
}

func (w *widget) String() string        { return w.kind + "(" + w.id + ")" }
func (w *widget) Type() string          { return "widget" }
func (w *widget) Freeze()               {}
func (w *widget) Truth() starlark.Bool  { return true }
func (w *widget) Hash() (uint32, error) { return 0, fmt.Errorf("a widget can't be a key") }

// kinds are the widgets that a behaviour file can make.
var kinds = []string{"screen", "text", "button", "field", "row", "switch", "card", "grid", "chart", "space", "spinner", "line", "pair", "dialog", "web"}

// newWidget makes the widget that the builtin is named after; every kind takes
// the same named arguments and uses what it needs.
func newWidget(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	w := &widget{kind: b.Name(), enabled: true, scroll: true}
	var body, points *starlark.List
	var onTap, onLong, onChange, back, over starlark.Value
	text := "text?"
	if err := starlark.UnpackArgs(b.Name(), args, kw, text, &w.text, "id?", &w.id, "detail?", &w.detail, "value?", &w.value,
		"hint?", &w.hint, "label?", &w.label, "size?", &w.size, "style?", &w.style, "enabled?", &w.enabled, "checked?", &w.checked,
		"numeric?", &w.numeric, "scroll?", &w.scroll, "min_cell?", &w.minCell, "height?", &w.height, "points?", &points,
		"secret?", &w.secret, "dark?", &w.dark, "on_tap?", &onTap, "on_long?", &onLong, "on_change?", &onChange, "back?", &back, "dialog?", &over, "body?", &body); err != nil {
		return nil, err
	}
	for _, h := range []struct {
		from starlark.Value
		to   *starlark.Callable
	}{{onTap, &w.onTap}, {onLong, &w.onLong}, {onChange, &w.onChange}, {back, &w.back}} {
		if f, ok := h.from.(starlark.Callable); ok {
			*h.to = f
		}
	}
	if d, ok := over.(*widget); ok {
		w.dialog = d
	}
	if body != nil {
		for i := range body.Len() {
			c, ok := body.Index(i).(*widget)
			if !ok {
				return nil, fmt.Errorf("%s: its body holds a %s", b.Name(), body.Index(i).Type())
			}
			w.children = append(w.children, c)
		}
	}
	if points != nil {
		for i := range points.Len() {
			f, ok := starlark.AsFloat(points.Index(i))
			if !ok {
				return nil, fmt.Errorf("%s: a point is no number", b.Name())
			}
			w.points = append(w.points, f)
		}
	}
	return w, nil
}

// class is the Android class that the widget would be.
func (w *widget) class() string {
	switch w.kind {
	case "text":
		return "android.widget.TextView"
	case "button":
		return "android.widget.Button"
	case "field":
		return "android.widget.EditText"
	case "switch":
		return "android.widget.Switch"
	case "web":
		return "android.webkit.WebView"
	case "chart":
		return "android.widget.ImageView"
	case "spinner":
		return "android.widget.ProgressBar"
	case "row":
		return "android.widget.Button"
	}
	return "android.view.ViewGroup"
}

// shown is the text that the widget shows, as a person reads it.
func (w *widget) shown() string {
	if w.kind == "web" { // its text is the page's address
		return ""
	}
	if w.kind == "field" && w.secret {
		return strings.Repeat("•", len([]rune(w.value)))
	}
	if w.kind == "field" {
		return w.value
	}
	if w.detail != "" && (w.kind == "row" || w.kind == "pair") {
		return strings.TrimSpace(w.text + "\n" + w.detail)
	}
	return w.text
}
