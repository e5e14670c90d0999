package app

import (
	"math"

	"tessellant/internal/standin/paint"
)

// Box is a rectangle in pixels.
type Box struct{ X1, Y1, X2, Y2 int }

func (b Box) contains(x, y int) bool { return x >= b.X1 && x < b.X2 && y >= b.Y1 && y < b.Y2 }

// Empty reports whether nothing lies in b.
func (b Box) Empty() bool { return b.X2 <= b.X1 || b.Y2 <= b.Y1 }

// Node is a widget in its place.
type Node struct {
	Kind       string
	ID         string
	Class      string
	Text       string
	Label      string
	Bounds     Box // where it lies
	Visible    Box // the part that can be seen; empty: none of it
	Clickable  bool
	Enabled    bool
	Checkable  bool
	Checked    bool
	Focused    bool
	Scrollable bool
	Long       bool   // it listens to a long press
	Secret     bool   // it shows dots
	Hint       string // what an empty field shows

	w     *widget
	lines []string
}

// Nodes are all nodes of the screen, parents before what lies on them.
func (a *App) Nodes() []*Node { return a.nodes }

const (
	barH      = 56  // dp: of the app bar
	barIOS    = 44  // the same on iOS
	margin    = 16  // dp
	gap       = 10  // dp
	keyboardH = 252 // dp
)

// KeyboardHeight is the height of the keyboard in pixels.
func (a *App) KeyboardHeight() int { return int(a.Device.px(keyboardH)) }

func (a *App) viewportTop() float64 { return float64(a.Device.StatusBarH) + a.Device.px(a.bar()) }

// bar is the height of the app's bar in dp.
func (a *App) bar() float64 {
	if a.Device.IOS {
		return barIOS
	}
	return barH
}

func (a *App) viewportBottom() float64 {
	bottom := float64(a.Device.ScreenH - a.Device.NavBarH)
	if a.focused != "" && !a.Device.HardKeys {
		bottom = float64(a.Device.ScreenH) - a.Device.px(keyboardH) - float64(a.Device.NavBarH)
	}
	return bottom
}

// layout puts the screen's widgets in their places, top to bottom, and scrolls
// no further than the content goes.
func (a *App) layout() {
	if a.screen == nil {
		return
	}
	if a.fonts == nil {
		a.fonts = paint.NewFonts(a.Device.DPI, a.Device.text())
	}
	top, bottom := a.viewportTop(), a.viewportBottom()
	view := Box{0, int(top), a.Device.ScreenW, int(bottom)}
	for range 2 { // the second time with the scroll that is possible
		l := &flow{a: a, view: view}
		m := a.Device.px(margin)
		y := l.column(a.screen.children, m, top+m-a.scroll, float64(a.Device.ScreenW)-2*m)
		a.contentH = y + m + a.scroll - top
		limit := 0.0
		if a.screen.scroll {
			limit = math.Max(0, a.contentH-(bottom-top))
		}
		clamped := math.Min(math.Max(a.scroll, 0), limit)
		done := clamped == a.scroll
		a.scroll = clamped
		a.nodes = l.nodes
		if done {
			break
		}
	}
	bar := []*Node{}
	sb, h := a.Device.StatusBarH, int(a.Device.px(a.bar()))
	whole := Box{0, sb, a.Device.ScreenW, sb + h}
	x := int(a.Device.px(margin))
	if a.screen.back != nil {
		up := Box{0, sb, h, sb + h}
		if a.Device.IOS {
			up.X2 = int(a.Device.px(96)) // a word stands beside the arrow
		}
		bar = append(bar, &Node{Kind: "up", ID: "up", Class: "android.widget.ImageButton", Label: "Navigate up", Bounds: up, Visible: up, Clickable: true, Enabled: true,
			w: &widget{kind: "up", enabled: true, onTap: a.screen.back}})
		x = h
	}
	title := whole
	title.X1 = x
	if a.Device.IOS { // in the middle
		title.X1, title.X2 = int(a.Device.px(96)), whole.X2-int(a.Device.px(96))
	}
	bar = append(bar, &Node{Kind: "title", ID: "title", Class: "android.widget.TextView", Text: a.screen.text, Bounds: title, Visible: title, Enabled: true, w: &widget{kind: "title", enabled: true}})
	scroller := &Node{Kind: "viewport", Class: "android.view.ViewGroup", Bounds: view, Visible: view, Enabled: true, w: &widget{enabled: true}}
	if a.screen.scroll {
		scroller.Class, scroller.Scrollable, scroller.ID = "android.widget.ScrollView", a.contentH > bottom-top, "content"
	}
	a.nodes = append(append(bar, scroller), a.nodes...)
	a.beneath = nil
	a.tend()
	if a.screen.dialog != nil {
		a.beneath = a.nodes // drawn, but out of reach while the dialog is up
		a.nodes = a.layoutDialog(a.screen.dialog)
	}
}

// layoutDialog puts a dialog in the middle of the screen: title, text, and its buttons under each other.
func (a *App) layoutDialog(w *widget) []*Node {
	px := a.Device.px
	width := math.Min(float64(a.Device.ScreenW)-2*px(24), px(340))
	x := (float64(a.Device.ScreenW) - width) / 2
	place := func(y float64) (*flow, float64) {
		l := &flow{a: a, view: Box{0, 0, a.Device.ScreenW, a.Device.ScreenH}}
		plate := l.add(w, x, y, width, 0)
		parts := append([]*widget{{kind: "text", id: "dialog_title", text: w.text, size: "title", enabled: true}, {kind: "text", id: "dialog_text", text: w.detail, enabled: true}}, w.children...)
		end := l.column(parts, x+px(20), y+px(20), width-px(40)) + px(20)
		plate.Text, plate.Bounds.Y2, plate.Visible.Y2 = "", int(end), int(end)
		return l, end - y
	}
	_, height := place(0)
	l, _ := place((float64(a.Device.ScreenH) - height) / 2)
	return l.nodes
}

type flow struct {
	a     *App
	view  Box
	nodes []*Node
}

// column lays widgets under one another and returns where the last one ends.
func (l *flow) column(ws []*widget, x, y, width float64) float64 {
	dp := l.a.Device.px
	for i, w := range ws {
		if i > 0 {
			y += dp(gap)
		}
		y = l.place(w, x, y, width)
	}
	return y
}

func (l *flow) add(w *widget, x, y, width, height float64) *Node {
	n := &Node{Kind: w.kind, ID: w.id, Class: w.class(), Text: w.shown(), Label: w.label, Enabled: w.enabled, w: w,
		Long: w.onLong != nil, Secret: w.secret, Hint: w.hint, Clickable: w.onTap != nil || w.kind == "field", Checkable: w.kind == "switch", Checked: w.checked,
		Focused: w.kind == "field" && w.id != "" && w.id == l.a.focused,
		Bounds:  Box{int(x), int(y), int(x + width), int(y + height)}}
	v := n.Bounds
	v.Y1, v.Y2 = max(v.Y1, l.view.Y1), min(v.Y2, l.view.Y2)
	n.Visible = v
	l.nodes = append(l.nodes, n)
	return n
}

func textSize(size string) (paint.Weight, float64) {
	switch size {
	case "title":
		return paint.Bold, 20
	case "big":
		return paint.Medium, 28
	case "small":
		return paint.Regular, 13
	}
	return paint.Regular, 16
}

func (l *flow) place(w *widget, x, y, width float64) float64 {
	dp, fonts := l.a.Device.px, l.a.fonts
	switch w.kind {
	case "text":
		weight, size := textSize(w.size)
		lines := fonts.Wrap(weight, size, w.text, width)
		h := float64(len(lines)) * dp(size*1.35*l.a.Device.text())
		l.add(w, x, y, width, h).lines = lines
		return y + h
	case "button":
		l.add(w, x, y, width, dp(48))
		return y + dp(48)
	case "field":
		l.add(w, x, y, width, dp(56))
		return y + dp(56)
	case "row":
		h := dp(56)
		if w.detail != "" {
			h = dp(68)
		}
		l.add(w, x, y, width, h)
		return y + h
	case "switch":
		l.add(w, x, y, width, dp(48))
		return y + dp(48)
	case "pair":
		l.add(w, x, y, width, dp(80))
		return y + dp(80)
	case "web":
		h := dp(float64(w.height))
		if w.height == 0 { // what is left of the screen
			h = math.Max(dp(120), float64(l.view.Y2)-y-dp(margin))
		}
		l.add(w, x, y, width, h)
		return y + h
	case "chart":
		l.add(w, x, y, width, dp(170))
		return y + dp(170)
	case "spinner":
		l.add(w, x+width/2-dp(24), y, dp(48), dp(48))
		return y + dp(48)
	case "space":
		return y + dp(float64(w.height))
	case "line":
		l.add(w, x, y, width, math.Max(1, dp(1)))
		return y + dp(1)
	case "card":
		n := l.add(w, x, y, width, 0)
		end := l.column(w.children, x+dp(14), y+dp(14), width-dp(28)) + dp(14)
		n.Bounds.Y2 = int(end)
		n.Visible.Y2 = min(int(end), l.view.Y2)
		return end
	case "grid":
		return l.grid(w, x, y, width)
	}
	return y
}

// grid lays cells side by side, as many as fit with their least width.
func (l *flow) grid(w *widget, x, y, width float64) float64 {
	dp := l.a.Device.px
	space := dp(8)
	columns := max(1, int((width+space)/(dp(float64(w.minCell))+space)))
	cell := (width - space*float64(columns-1)) / float64(columns)
	bottom := y
	for i, c := range w.children {
		if i%columns == 0 && i > 0 {
			y = bottom + space
		}
		end := l.place(c, x+float64(i%columns)*(cell+space), y, cell)
		bottom = math.Max(bottom, end)
	}
	return bottom
}
