package ios

// What the screen shows: the picture of it, and its tree by the types of Apple's XCUIElement.

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"slices"
	"strings"
	"time"

	xdraw "golang.org/x/image/draw"

	"tessellant/internal/standin/app"
	"tessellant/internal/standin/paint"
)

var (
	white = paint.Hex(0xFFFFFF)
	black = paint.Hex(0x101418)
	sheet = paint.Hex(0xF2F2F4)
	blue  = paint.Hex(0x1F6FD0)
)

// Picture is the screen as a PNG.
func (p *Phone) Picture() []byte {
	p.take(120, 240)
	p.mu.Lock()
	defer p.mu.Unlock()
	key := fmt.Sprint(p.changes, p.Time().Format("15:04"), p.front, p.sideways, p.night, p.alert != nil)
	in := p.apps[p.front]
	running := in != nil && in.proc != nil && in.proc.app != nil
	if running {
		key += fmt.Sprint("/", in.proc.app.Version)
	}
	if key == p.drawn {
		return p.png
	}
	w, h := p.pixels()
	c := paint.NewCanvas(w, h, p.fonts, black)
	ink := white
	if running {
		in.proc.app.Draw(c)
		if !in.proc.app.Dark() {
			ink = black
		}
		if up, numeric := in.proc.app.Keyboard(); up {
			p.keys(c, numeric, float64(in.proc.app.KeyboardHeight()))
		}
	} else {
		p.home(c)
	}
	if p.alert != nil {
		p.drawAlert(c)
	}
	if !p.sideways {
		mid := float64(p.device().StatusBarH) * 0.6
		c.Text(p.Time().UTC().Format("15:04"), c.DP(52), mid, 0.5, paint.Bold, 16, ink)
		c.Frame(float64(w)-c.DP(50), mid-c.DP(6), c.DP(24), c.DP(12), 3.5, 1, ink)
		c.Box(float64(w)-c.DP(48), mid-c.DP(4), c.DP(16), c.DP(8), 2, ink)
		for i := range 4 {
			bar := c.DP(4 + 2.2*float64(i))
			c.Box(float64(w)-c.DP(82)+c.DP(5)*float64(i), mid+c.DP(5)-bar, c.DP(3.4), bar, 1, ink)
		}
	}
	c.Box(float64(w)/2-c.DP(68), float64(h)-c.DP(13), c.DP(136), c.DP(5), 2.5, ink)
	var out bytes.Buffer
	_ = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&out, c.Picture())
	p.drawn, p.png = key, out.Bytes()
	return p.png
}

func (p *Phone) home(c *paint.Canvas) {
	iw, ih := p.pixels()
	w, h := float64(iw), float64(ih)
	for y := 0.0; y < h; y += 4 {
		f := y / h
		c.Box(0, y, w, 4, 0, paint.Hex(uint32(0x2B)<<16+uint32(0x3A+int(60*f))<<8+uint32(0x55+int(70*f))))
	}
	var ids []string
	for id := range p.apps {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	size, cell := c.DP(60), w/4
	place := func(i int, y float64, label string, icon image.Image) {
		x := cell*(float64(i%4)+0.5) - size/2
		if icon != nil {
			r := image.Rect(int(x), int(y), int(x+size), int(y+size))
			xdraw.CatmullRom.Scale(c.Picture(), r, icon, icon.Bounds(), draw.Over, nil)
		} else {
			c.Box(x, y, size, size, 14, sheet)
			c.Text(label[:1], x+size/2, y+size/2, 0.5, paint.Bold, 26, blue)
		}
		c.Text(label, x+size/2, y+size+c.DP(12), 0.5, paint.Regular, 12, white)
	}
	for i, n := range []string{"Clock", "Maps", "Notes", "Mail"} {
		place(i, c.DP(80), n, nil)
	}
	for i, id := range ids {
		place(i, c.DP(176), p.apps[id].facts.Label, p.apps[id].icon)
	}
}

func (p *Phone) keys(c *paint.Canvas, numeric bool, height float64) {
	iw, ih := p.pixels()
	w, h := float64(iw), float64(ih)
	nav := float64(p.device().NavBarH)
	top := h - nav - height
	c.Box(0, top, w, height+nav, 0, paint.Hex(0xD1D4DA))
	rows := []string{"qwertyuiop", "asdfghjkl", "zxcvbnm", " "}
	if p.language == "de" {
		rows = []string{"qwertzuiop", "asdfghjkl", "yxcvbnm", " "}
	}
	if numeric {
		rows = []string{"123", "456", "789", ",0<"}
	}
	rowH := (height - c.DP(10)) / float64(len(rows))
	for r, row := range rows {
		n := 10.0
		if numeric {
			n = 3
		}
		unit := (w - c.DP(6)) / n
		if row == " " {
			unit = w * 0.5
		}
		x := (w - unit*float64(len(row))) / 2
		for _, k := range row {
			y := top + c.DP(7) + rowH*float64(r)
			c.Box(x+c.DP(3), y, unit-c.DP(6), rowH-c.DP(9), 6, white)
			label := strings.ReplaceAll(string(k), "<", "←")
			c.Text(strings.TrimSpace(label), x+unit/2, y+(rowH-c.DP(9))/2, 0.5, paint.Regular, 22, black)
			x += unit
		}
	}
}

// alertBox is where the system's question lies, and its button n: 0 denies, 1 allows.
func (p *Phone) alertBox(n int) (whole, button app.Box) {
	w, h := p.pixels()
	s := p.traits.Scale
	x, y := (w-270*s)/2, (h-170*s)/2
	whole = app.Box{X1: x, Y1: y, X2: x + 270*s, Y2: y + 170*s}
	return whole, app.Box{X1: x + 135*s*n, Y1: y + 126*s, X2: x + 135*s*(n+1), Y2: y + 170*s}
}

func (p *Phone) alertTexts() (question, deny, allow string) {
	label := p.apps[p.alert.id].facts.Label
	what := map[string][2]string{"ACCESS_FINE_LOCATION": {"use your location", "deinen Standort verwenden"}, "POST_NOTIFICATIONS": {"send you notifications", "dir Mitteilungen senden"}}[p.alert.permission]
	if what[0] == "" {
		what = [2]string{"access " + strings.ToLower(p.alert.permission), "auf " + strings.ToLower(p.alert.permission) + " zugreifen"}
	}
	if p.language == "de" {
		return "Darf „" + label + "“ " + what[1] + "?", "Nicht erlauben", "Erlauben"
	}
	return "Allow “" + label + "” to " + what[0] + "?", "Don’t Allow", "Allow"
}

func (p *Phone) drawAlert(c *paint.Canvas) {
	w, h := p.pixels()
	c.Box(0, 0, float64(w), float64(h), 0, paint.Fade(black, 0.4))
	b, _ := p.alertBox(0)
	c.Box(float64(b.X1), float64(b.Y1), float64(b.X2-b.X1), float64(b.Y2-b.Y1), 14, sheet)
	question, deny, allow := p.alertTexts()
	for i, t := range c.Fonts.Wrap(paint.Bold, 17, question, float64(b.X2-b.X1)-c.DP(32)) {
		c.Text(t, float64(b.X1+b.X2)/2, float64(b.Y1)+c.DP(34+22*float64(i)), 0.5, paint.Bold, 17, black)
	}
	for i, t := range []string{deny, allow} {
		_, at := p.alertBox(i)
		c.Text(t, float64(at.X1+at.X2)/2, float64(at.Y1+at.Y2)/2, 0.5, paint.Regular, 17, blue)
	}
}

// element is one of the tree.
type element struct {
	kind, id, label, value, hint string
	off, selected, focused       bool
	box                          app.Box
	children                     []*element
}

// types are those of the app's widgets.
var types = map[string]string{"text": "StaticText", "title": "StaticText", "button": "Button", "up": "Button", "field": "TextField", "switch": "Switch", "chart": "Image", "spinner": "ActivityIndicator", "row": "Cell"}

// Source is the tree of the screen, once it has come to rest.
func (p *Phone) Source() (string, error) {
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); {
		p.mu.Lock()
		in := p.apps[p.front]
		moving := time.Now().Before(p.moves) || in != nil && in.proc != nil && in.proc.app != nil && in.proc.app.Busy() && !p.traits.Instant
		p.mu.Unlock()
		if !moving {
			break
		}
		p.wait(p.ctx, 20*time.Millisecond)
	}
	p.take(200, 400)
	p.mu.Lock()
	defer p.mu.Unlock()
	w, h := p.pixels()
	root := &element{kind: "Application", label: "Home", box: app.Box{X2: w, Y2: h}}
	bundle := "com.apple.springboard"
	in := p.apps[p.front]
	switch {
	case p.alert != nil:
		b, _ := p.alertBox(0)
		question, deny, allow := p.alertTexts()
		sheet := &element{kind: "Alert", label: question, box: b, children: []*element{{kind: "StaticText", id: "alert_text", label: question, box: app.Box{X1: b.X1, Y1: b.Y1, X2: b.X2, Y2: b.Y1 + (b.Y2-b.Y1)*2/3}}}}
		for i, t := range []string{deny, allow} {
			_, at := p.alertBox(i)
			sheet.children = append(sheet.children, &element{kind: "Button", id: []string{"deny", "allow"}[i], label: t, box: at})
		}
		root.children = []*element{sheet}
	case in != nil && in.proc != nil && in.proc.app != nil:
		bundle, root.label = p.front, in.facts.Label
		p.appTree(root, in.proc.app)
	default:
		for _, x := range p.apps {
			root.children = append(root.children, &element{kind: "Icon", id: x.facts.Label, label: x.facts.Label, box: app.Box{X2: w / 4, Y1: h / 5, Y2: h / 3}})
		}
	}
	var b bytes.Buffer
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	p.write(&b, root, bundle)
	return b.String(), nil
}

func (p *Phone) appTree(root *element, a *app.App) {
	var content *element
	for _, n := range a.Nodes() {
		if n.Kind == "line" || n.Bounds.Empty() {
			continue
		}
		kind := types[n.Kind]
		if kind == "" {
			kind = "Other"
		}
		e := &element{kind: kind, id: n.ID, label: n.Label, off: !n.Enabled, focused: n.Focused, box: n.Bounds}
		switch n.Kind {
		case "field":
			if n.Secret {
				e.kind = "SecureTextField"
			}
			if e.hint, e.value = n.Hint, n.Text; e.value == "" {
				e.value = n.Hint
			}
		case "switch":
			e.label, e.value = n.Text, map[bool]string{true: "1", false: "0"}[n.Checked]
		case "row", "pair":
			title, detail, _ := strings.Cut(n.Text, "\n")
			mid := (n.Bounds.Y1 + n.Bounds.Y2) / 2
			names := [2]string{n.ID + "_name", n.ID + "_detail"}
			if n.ID == "" {
				names = [2]string{}
			}
			top, bottom := n.Bounds, n.Bounds
			top.Y2, bottom.Y1 = mid, mid
			e.label = ""
			e.children = []*element{{kind: "StaticText", id: names[0], label: title, box: top}, {kind: "StaticText", id: names[1], label: detail, box: bottom}}
		case "viewport":
			if e.kind = "Other"; n.Scrollable || n.ID == "content" {
				e.kind = "ScrollView"
			}
		default:
			if e.label == "" {
				e.label = n.Text
			}
		}
		switch {
		case n.Kind == "viewport":
			content = e
			root.children = append(root.children, e)
		case content == nil:
			root.children = append(root.children, e)
		default:
			if n.Visible.Empty() {
				continue
			}
			e.box = n.Visible
			content.children = append(content.children, e)
		}
	}
	if up, _ := a.Keyboard(); up {
		w, h := p.pixels()
		root.children = append(root.children, &element{kind: "Keyboard", box: app.Box{Y1: h - p.device().NavBarH - a.KeyboardHeight(), X2: w, Y2: h}})
	}
}

func (p *Phone) write(b *bytes.Buffer, e *element, bundle string) {
	s := float64(p.traits.Scale)
	esc := func(t string) string {
		var out bytes.Buffer
		_ = xml.EscapeText(&out, []byte(t))
		return out.String()
	}
	name := "XCUIElementType" + e.kind
	fmt.Fprintf(b, "<%s", name)
	if bundle != "" {
		fmt.Fprintf(b, ` bundleIdentifier="%s"`, esc(bundle))
	}
	for _, a := range [][2]string{{"identifier", e.id}, {"label", e.label}, {"value", e.value}, {"placeholderValue", e.hint}} {
		if a[1] != "" {
			fmt.Fprintf(b, ` %s="%s"`, a[0], esc(a[1]))
		}
	}
	fmt.Fprintf(b, ` isEnabled="%v" isSelected="%v" hasFocus="%v" frame="{{%g, %g}, {%g, %g}}"`, !e.off, e.selected, e.focused, float64(e.box.X1)/s, float64(e.box.Y1)/s, float64(e.box.X2-e.box.X1)/s, float64(e.box.Y2-e.box.Y1)/s)
	if len(e.children) == 0 {
		b.WriteString("/>\n")
		return
	}
	b.WriteString(">\n")
	for _, c := range e.children {
		p.write(b, c, "")
	}
	fmt.Fprintf(b, "</%s>\n", name)
}
