package phone

// The tree of what the screen shows, as uiautomator dumps it: one reader at a time, and only of a screen that rests.

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/standin/app"
)

// uiautomator dump [FILE]
func (p *Phone) uiautomator(c *call) int {
	if len(c.args) == 0 || c.args[0] != "dump" {
		c.say("Usage: uiautomator <subcommand> [options]\n")
		return 1
	}
	if p.booting() {
		c.say("Error: Could not connect to the accessibility service. Is the system running?\n")
		return 1
	}
	// One at a time: the service takes one client. One whose connection is cut goes on all the same.
	p.mu.Lock()
	if p.dumping {
		p.mu.Unlock()
		fmt.Fprintln(c.err, "java.lang.IllegalStateException: UiAutomationService android.accessibilityservice.IAccessibilityServiceClient$Stub$Proxy@e2b6a7a already registered!\n\tat android.os.Parcel.readException(Parcel.java:1956)\nKilled")
		return 137
	}
	p.dumping = true
	p.mu.Unlock()
	done := make(chan struct{})
	idle := false
	p.running.Go(func() {
		defer close(done)
		idle = p.rests(p.ctx)
		p.mu.Lock()
		p.dumping = false
		p.mu.Unlock()
	})
	select {
	case <-done:
	case <-c.ctx.Done():
		return 1
	}
	if !idle {
		c.say("ERROR: could not get idle state.\n")
		return 0
	}
	p.mu.Lock()
	p.doze()
	if p.asleep {
		p.mu.Unlock()
		c.say("ERROR: null root node returned by UiTestAutomationBridge.\n")
		return 0
	}
	stubborn := p.traits.Temper == Stubborn
	null := stubborn && p.rnd.IntN(6) == 0
	tree := p.tree()
	p.mu.Unlock()
	if null {
		c.say("ERROR: null root node returned by UiTestAutomationBridge.\n")
		return 0
	}
	target := "/sdcard/window_dump.xml"
	if len(c.args) > 1 {
		target = c.args[1]
	}
	switch {
	case target == "/dev/tty" && (stubborn || p.traits.Temper == Uneasy): // without a terminal, nothing is written there
		c.say("UI hierchary dumped to: /dev/tty\n")
	case target == "/dev/tty":
		_, _ = c.out.Write(append(tree, "UI hierchary dumped to: /dev/tty\n"...))
	case strings.HasPrefix(target, "/sdcard/") && p.sealed:
		c.say("ERROR: could not write to %s: No such file or directory\n", target)
	default:
		p.put(target, &file{tree, 0o100660, p.now()})
		c.say("UI hierchary dumped to: %s\n", target)
	}
	return 0
}

// rests waits until nothing on the screen has moved for a while, ten seconds at most.
func (p *Phone) rests(ctx context.Context) bool {
	limit := 10 * time.Second
	if p.traits.Temper == Instant && p.traits.Quiet == 0 {
		limit = 100 * time.Millisecond
	}
	if p.traits.Quiet == 0 {
		p.take(ctx, 900, 1500)
	} else {
		p.take(ctx, 200, 400)
	}
	deadline := time.Now().Add(limit)
	for ; ; wait(ctx, 10*time.Millisecond) {
		if !p.moving() && p.still() >= p.traits.Quiet {
			return true
		}
		if time.Now().After(deadline) || ctx.Err() != nil {
			return false
		}
	}
}

// still is how long nothing has moved of what moves for a moment when the screen changes.
func (p *Phone) still() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return time.Since(p.moves)
}

func (p *Phone) moving() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.frontApp()
	return p.restless || time.Now().Before(p.moves) || (a != nil && a.Busy())
}

// treeNode is a node as uiautomator writes it.
type treeNode struct {
	class, id, text, desc, pkg, hint                                                 string
	clickable, enabled, checkable, checked, focused, scrollable, field, long, secret bool
	box                                                                              app.Box
	children                                                                         []*treeNode
}

// tree writes what is on the screen, under mu.
func (p *Phone) tree() []byte {
	w, h := p.size()
	whole := app.Box{X2: w, Y2: h}
	root := &treeNode{class: "android.widget.FrameLayout", pkg: "org.android.launcher", enabled: true, box: whole}
	a := p.frontApp()
	switch {
	case p.locked:
		root.pkg = "com.android.systemui"
		root.children = []*treeNode{{class: "android.widget.TextView", id: "com.android.systemui:id/clock_view", text: p.now().UTC().Format("15:04"), pkg: root.pkg, enabled: true, box: app.Box{X2: w, Y1: h / 8, Y2: h / 4}},
			{class: "android.widget.ImageView", id: "com.android.systemui:id/lock_icon", desc: "Locked", pkg: root.pkg, enabled: true, box: app.Box{X1: w / 3, X2: w * 2 / 3, Y1: h * 4 / 5, Y2: h * 7 / 8}}}
	case p.asking != nil:
		p.askTree(root)
	case p.crashed != "":
		x, y, w, h := p.dialog()
		title, button := p.crashTexts()
		root.pkg, root.box = "android", app.Box{X1: x, Y1: y, X2: x + w, Y2: y + h}
		root.children = []*treeNode{
			{class: "android.widget.TextView", id: "android:id/alertTitle", text: title, pkg: "android", enabled: true, box: app.Box{X1: x, Y1: y, X2: x + w, Y2: y + h/2}},
			{class: "android.widget.Button", id: map[bool]string{true: "android:id/button1", false: "android:id/aerr_close"}[p.traits.API < 24], text: button, pkg: "android", enabled: true, clickable: true, box: app.Box{X1: x, Y1: y + h/2, X2: x + w, Y2: y + h}},
		}
	case a != nil:
		p.appTree(root, a)
	default:
		for _, in := range p.apps {
			root.children = append(root.children, &treeNode{class: "android.widget.TextView", text: in.facts.Label, pkg: root.pkg, enabled: true, clickable: true, box: app.Box{X2: p.dp(80), Y1: whole.Y2 - p.dp(240), Y2: whole.Y2 - p.dp(150)}})
		}
	}
	var buf bytes.Buffer
	buf.Grow(8 << 10)
	buf.WriteString("<?xml version='1.0' encoding='UTF-8' standalone='yes' ?>")
	fmt.Fprintf(&buf, "<hierarchy rotation=\"%d\">", p.turns()%4)
	writeNode(&buf, root, 0, p.traits.API >= 34)
	buf.WriteString("</hierarchy>")
	return buf.Bytes()
}

func (p *Phone) appTree(root *treeNode, a *app.App) {
	root.pkg = a.ID
	var content *treeNode
	for _, n := range a.Nodes() {
		if n.Visible.Empty() || n.Kind == "line" {
			continue
		}
		t := &treeNode{class: n.Class, text: n.Text, desc: n.Label, pkg: a.ID, clickable: n.Clickable, enabled: n.Enabled,
			checkable: n.Checkable, checked: n.Checked, focused: n.Focused, scrollable: n.Scrollable, field: n.Kind == "field", long: n.Long, secret: n.Secret, box: n.Visible}
		full := func(id string) string {
			if id == "" {
				return ""
			}
			return a.ID + ":id/" + id
		}
		t.id = full(n.ID)
		if n.Kind == "field" {
			if t.hint = n.Hint; t.text == "" {
				t.text = n.Hint // an empty field says its hint
			}
		}
		if n.Kind == "row" || n.Kind == "pair" { // two texts on one plate
			title, detail, _ := strings.Cut(n.Text, "\n")
			t.class, t.text = "android.view.ViewGroup", ""
			names := [2]string{"_name", "_detail"}
			if n.ID == "" {
				names = [2]string{}
			}
			mid := (t.box.Y1 + t.box.Y2) / 2
			t.children = []*treeNode{
				{class: "android.widget.TextView", text: title, id: full(n.ID + names[0]), pkg: a.ID, enabled: true, box: app.Box{X1: t.box.X1, Y1: t.box.Y1, X2: t.box.X2, Y2: mid}},
				{class: "android.widget.TextView", text: detail, id: full(n.ID + names[1]), pkg: a.ID, enabled: true, box: app.Box{X1: t.box.X1, Y1: mid, X2: t.box.X2, Y2: t.box.Y2}},
			}
		}
		switch {
		case n.Kind == "viewport":
			content = t
			root.children = append(root.children, t)
		case content == nil:
			root.children = append(root.children, t)
		default:
			content.children = append(content.children, t)
		}
	}
}

// writeNode writes a node as uiautomator does. Clients ask for trees all the time: it is quick.
func writeNode(buf *bytes.Buffer, n *treeNode, index int, hints bool) {
	b := append(buf.AvailableBuffer(), `<node index="`...)
	b = strconv.AppendInt(b, int64(index), 10)
	for _, x := range [...]struct{ name, text string }{{`" text="`, n.text}, {`" resource-id="`, n.id}, {`" class="`, n.class}, {`" package="`, n.pkg}, {`" content-desc="`, n.desc}} {
		b = append(b, x.name...)
		b = appendEscaped(b, x.text)
	}
	for _, x := range [...]struct {
		name string
		on   bool
	}{{`" checkable="`, n.checkable}, {`" checked="`, n.checked}, {`" clickable="`, n.clickable}, {`" enabled="`, n.enabled}, {`" focusable="`, n.clickable}, {`" focused="`, n.focused}, {`" scrollable="`, n.scrollable},
		{`" long-clickable="`, n.long}, {`" password="`, n.secret}} {
		b = append(b, x.name...)
		b = strconv.AppendBool(b, x.on)
	}
	b = append(b, `" selected="false" bounds="`...)
	for i, v := range [...]int{n.box.X1, n.box.Y1, n.box.X2, n.box.Y2} {
		b = append(b, [...]string{"[", ",", "][", ","}[i]...)
		b = strconv.AppendInt(b, int64(v), 10)
	}
	b = append(b, `]"`...)
	if hints && n.field {
		b = append(b, ` hint="`...)
		b = append(appendEscaped(b, n.hint), '"')
	}
	buf.Write(b)
	if len(n.children) == 0 {
		buf.WriteString(" />")
		return
	}
	buf.WriteString(">")
	for i, c := range n.children {
		writeNode(buf, c, i, hints)
	}
	buf.WriteString("</node>")
}

// appendEscaped adds a text as XML has it.
func appendEscaped(b []byte, s string) []byte {
	plain := func(r rune) bool {
		return r >= ' ' && r != '<' && r != '>' && r != '&' && r != '"' && r != '\'' && r < 0xFFFD
	}
	if strings.IndexFunc(s, func(r rune) bool { return !plain(r) }) < 0 {
		return append(b, s...)
	}
	var out bytes.Buffer
	_ = xml.EscapeText(&out, []byte(s))
	return append(b, out.Bytes()...)
}
