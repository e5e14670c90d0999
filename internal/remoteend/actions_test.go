package remoteend_test

// Actions in a page: what it is told of, by this remote end and by chromedriver.

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/housetest"
)

// touchPage keeps what it is told of.
const touchPage = `<!doctype html><title>Touch</title><meta name=viewport content="width=device-width"><style>body{margin:0} #a{position:absolute;left:30px;top:40px;width:101px;height:51px;background:#ccc} #b{position:absolute;left:300px;top:40px;width:100px;height:50px;background:#bbb} #tall{height:3000px} #f{position:absolute;top:200px;left:20px} #box{position:absolute;left:200px;top:300px;width:120px;height:80px;overflow:scroll}</style>
<div id=tall></div><div id=a></div><div id=b draggable=true></div><textarea id=f rows=3></textarea><div id=box><div style="width:900px;height:900px"></div></div><iframe id=in style="position:absolute;left:20px;top:420px;width:200px;height:100px;border:3px solid" srcdoc="<button id=press style='position:absolute;left:10px;top:12px' onclick=&quot;this.textContent='Pressed'&quot;>Press</button>"></iframe>
<button id=ask style="position:absolute;left:450px;top:40px" onmousedown="alert('Mind the swell')">Ask</button>
<script>let said = []; const mods = (e) => (e.shiftKey ? 'S' : '') + (e.ctrlKey ? 'C' : '') + (e.altKey ? 'A' : '') + (e.metaKey ? 'M' : '');
for (const kind of ['mousedown', 'mouseup', 'click', 'auxclick', 'dblclick', 'contextmenu', 'pointerdown', 'pointerup', 'pointercancel']) addEventListener(kind, (e) => said.push([kind, e.target.id, e.clientX, e.clientY, e.button, e.buttons, kind.startsWith('pointer') ? [e.pointerType, e.isPrimary, +e.pressure.toFixed(2), e.tiltX, e.tiltY, e.twist] : e.detail, mods(e)].join(' ')));
for (const kind of ['touchstart', 'touchend', 'touchcancel']) addEventListener(kind, (e) => said.push([kind, ...[...e.changedTouches].map((t) => [t.target.id, t.clientX, t.clientY, t.radiusX, t.radiusY].join(',')), 'of', e.touches.length].join(' ')));
for (const kind of ['keydown', 'keyup']) addEventListener(kind, (e) => said.push([kind, e.key, e.code, e.location, e.keyCode, mods(e)].join(' ')));
addEventListener('wheel', (e) => said.push(['wheel', e.clientX, e.clientY, e.deltaX, e.deltaY, mods(e)].join(' ')));
</script>`

func TestActionsInAPageAreThoseOfAnotherRemoteEnd(t *testing.T) {
	t.Parallel()
	url := helpServer(t)
	ours, _, _ := webView(t, url+"/touch")
	theirs := theirView(t, url+"/touch")
	source := func(kind, id, items string) string {
		return `{"type": "` + kind + `", "id": "` + id + `", "actions": [` + items + `]}`
	}
	pointer := func(kind, id, items string) string {
		return `{"type": "pointer", "id": "` + id + `", "parameters": {"pointerType": "` + kind + `"}, "actions": [` + items + `]}`
	}
	const down, up, rest = `{"type": "pointerDown", "button": 0}`, `{"type": "pointerUp", "button": 0}`, `{"type": "pause", "duration": 20}`
	button := func(n int) string {
		return fmt.Sprintf(`{"type": "pointerDown", "button": %d}, {"type": "pointerUp", "button": %d}`, n, n)
	}
	move := func(x, y int) string { return fmt.Sprintf(`{"type": "pointerMove", "x": %d, "y": %d}`, x, y) }
	from := func(ref string, x, y int) string {
		return fmt.Sprintf(`{"type": "pointerMove", "x": %d, "y": %d, "duration": 60, "origin": %s}`, x, y, ref)
	}
	keys := func(text string) (out string) {
		for i, r := range text {
			out += map[bool]string{true: ", "}[i > 0] + fmt.Sprintf(`{"type": "keyDown", "value": %q}, {"type": "keyUp", "value": %[1]q}`, r)
		}
		return strings.ReplaceAll(out, "'", `"`)
	}
	for _, q := range []string{
		pointer("mouse", "m", move(50, 60)+","+down+","+up), pointer("mouse", "m", from(`{"{key}": "{#a}"}`, 3, -2)+","+button(0)+","+button(0)), pointer("mouse", "m", from(`"pointer"`, 10, 5)+","+button(2)+","+button(1)),
		source("pointer", "plain", move(52, 61)+","+down+","+up), pointer("mouse", "m", move(60, 60)+","+down+","+from(`"pointer"`, 20, 0)+","+up),
		pointer("touch", "t", move(310, 60)+","+down+","+rest+","+up), pointer("touch", "t", from(`{"{key}": "{#a}"}`, 0, 0)+`, {"type": "pointerDown", "button": 0, "width": 20, "height": 30}, `+rest+","+move(90, 70)+","+up),
		pointer("touch", "t", move(40, 50)+","+down+","+rest+","+move(40, 60)+","+up) + "," + pointer("touch", "u", move(310, 50)+","+rest+","+down+","+move(310, 70)+","+rest+","+up),
		pointer("pen", "p", move(40, 50)+`, {"type": "pointerDown", "button": 0, "pressure": 0.75, "tiltX": 20, "tiltY": -30, "twist": 90}, `+up), pointer("pen", "p", move(41, 50)+","+down+","+up),
		pointer("mouse", "m", from(`{"{key}": "{#f}"}`, 0, 0)+","+down+","+up), source("key", "k", keys("az9;é潮 ")), source("key", "k", `{"type": "keyDown", "value": "\ue008"}, `+keys("b1/")+`, {"type": "keyUp", "value": "\ue008"}`),
		source("key", "k", `{"type": "keyDown", "value": "\ue009"}, `+keys("a")+`, {"type": "keyUp", "value": "\ue009"}, `+keys("x")), source("key", "k", keys("\ue003\ue004\ue005\ue006\ue007\ue00c\ue00d\ue00e\ue010\ue012\ue013\ue016\ue017\ue018\ue01a\ue023\ue024\ue025\ue027\ue028\ue029\ue031\ue03c")),
		source("key", "k", keys("\ue00a")+","+keys("\ue03d")+","+keys("\ue053")+","+keys("\ue054")+","+keys("\ue05a")+","+keys("\ue05c")+","+keys("\ue05d")),
		source("key", "k", `{"type": "keyDown", "value": "\ue008"}`) + "," + pointer("mouse", "m", rest+","+move(50, 60)+","+down+","+up), source("key", "k", `{"type": "keyUp", "value": "\ue008"}, {"type": "keyUp", "value": "q"}`),
		source("wheel", "w", `{"type": "scroll", "x": 50, "y": 60, "deltaX": 0, "deltaY": 40}`), source("wheel", "w", `{"type": "scroll", "x": 0, "y": 0, "deltaX": 30, "deltaY": 70, "duration": 50, "origin": {"{key}": "{#box}"}}`),
		pointer("mouse", "m", move(5000, 60)), pointer("mouse", "m", move(-1, 60)), pointer("mouse", "m", from(`{"{key}": "nix"}`, 0, 0)), pointer("mouse", "m", from(`"moon"`, 0, 0)), pointer("touch", "m", down), pointer("wet", "q", down), source("moon", "q", ""), source("key", "", ""),
		source("key", "k", `{"type": "keyDown", "value": "ab"}`), source("key", "k", `{"type": "keyDown"}`), source("key", "k", `{"type": "pointerDown"}`), pointer("mouse", "m", `{"type": "pointerDown", "button": -1}`), pointer("mouse", "m", `{"type": "pointerDown", "button": 0, "pressure": 2}`), pointer("mouse", "m", `{"type": "pause", "duration": -1}`),
		pointer("mouse", "m", `{"type": "pointerMove", "x": 1}`), source("wheel", "w", `{"type": "scroll", "x": 0, "y": 0, "deltaX": 30}`), source("wheel", "w", `{"type": "scroll", "x": 0, "y": 0, "deltaX": 30, "deltaY": 1, "origin": "pointer"}`), source("none", "n", `{"type": "pause", "duration": 5}, {"type": "pause"}`), source("none", "n", `{"type": "keyDown", "value": "a"}`),
		"RELEASE", pointer("mouse", "m", move(50, 60)+","+down), "RELEASE", "RELEASE",
		"FRAME", pointer("mouse", "m", from(`{"{key}": "{#press}"}`, 0, 0)+","+down+","+up), pointer("mouse", "m", move(199, 99)), "READ", "TOP",
	} {
		other, mine := doing(theirs, q), doing(ours, q)
		assert.Equal(t, strings.ReplaceAll(other, "; ", "\n"), strings.ReplaceAll(mine, "; ", "\n"), q)
	}
}

// What the standard says of actions, and chromedriver does not do.
func TestActionsInAPageAreAsTheStandardHasThem(t *testing.T) {
	t.Parallel()
	c, _, _ := webView(t, helpServer(t)+"/touch")
	housetest.Eventually(t, "the page has come", func() bool {
		return c.must("POST", "/execute/sync", m{"script": "return document.readyState", "args": []any{}}) == "complete"
	})
	mouse := func(items string) string { return `{"type": "pointer", "id": "m", "actions": [` + items + `]}` }
	key := func(items string) string { return `{"type": "key", "id": "k", "actions": [` + items + `]}` }
	const down, up = `{"type": "pointerDown", "button": 0}`, `{"type": "pointerUp", "button": 0}`
	for _, q := range []struct{ do, says string }{
		{key(`{"type": "keyDown", "value": "Z"}, {"type": "keyUp", "value": "Z"}`), "200 <nil>; keydown Z KeyZ 0 90 ; keyup Z KeyZ 0 90  |  | 0,0,0"}, // no Shift that nobody pressed
		{key(`{"type": "keyDown", "value": "\ue050"}, {"type": "keyUp", "value": "\ue050"}`), "200 <nil>; keydown Shift ShiftRight 2 16 S; keyup Shift ShiftRight 2 16  |  | 0,0,0"},
		// all that is pressed is let go of, what came last first
		{mouse(`{"type": "pointerMove", "x": 50, "y": 60}, `+down) + "," + key(`{"type": "keyDown", "value": "\ue008"}, {"type": "pause"}, {"type": "keyDown", "value": "c"}`), "200 <nil>; keydown Shift ShiftLeft 1 16 S; pointerdown a 50 60 0 1 mouse,true,0.5,0,0,0 S; mousedown a 50 60 0 1 1 S; keydown C KeyC 0 67 S |  | 0,0,0"},
		{"RELEASE", "200 <nil>; keyup C KeyC 0 67 S; pointerup a 50 60 0 0 mouse,true,0,0,0,0 S; mouseup a 50 60 0 0 1 S; click a 50 60 0 0 1 S; keyup Shift ShiftLeft 1 16  |  | 0,0,0"},
		{key(`{"type": "keyDown", "value": "x"}`) + "," + `{"type": "pointer", "id": "k", "actions": []}`, "400 error invalid argument;  |  | 0,0,0"},
		{mouse(`{"type": "pointerCancel"}`), "500 error unsupported operation;  |  | 0,0,0"},
		{`{"type": "pointer", "id": "t", "parameters": {"pointerType": "touch"}, "actions": [{"type": "pointerMove", "x": 50, "y": 60}, ` + down + `, {"type": "pointerCancel"}, ` + up + `]}`, "200 <nil>; pointerdown a 50 60 0 1 touch,true,0.5,0,0,0 ; touchstart a,50,60,0.5,0.5 of 1; pointercancel a 50 60 -1 0 touch,true,0,0,0,0 ; touchcancel a,50,60,0.5,0.5 of 0 |  | 0,0,0"},
		// a dialog is in the way of what comes after it
		{mouse(`{"type": "pointerMove", "x": 470, "y": 50}, ` + down + `, ` + up), "500 error unexpected alert open; pointerdown ask 470 50 0 1 mouse,true,0.5,0,0,0 ; mousedown ask 470 50 0 1 1  |  | 0,0,0"},
		{"RELEASE", "200 <nil>; pointerup ask 470 50 0 0 mouse,true,0,0,0,0 ; mouseup ask 470 50 0 0 1 ; click ask 470 50 0 0 1  |  | 0,0,0"},
		{"FRAME", "200 <nil>;  |  | 0,0,0"}, {mouse(`{"type": "pointerMove", "x": 201, "y": 50}`), "500 error move target out of bounds;  |  | 0,0,0"},
	} {
		assert.Equal(t, q.says, doing(c, q.do), q.do)
	}
	begun := time.Now()
	a := c.raw("POST", "/session/"+c.id+"/actions", `{"actions": [{"type": "none", "id": "n", "actions": [{"type": "pause", "duration": 700}]}]}`)
	assert.Equal(t, 200, a.Status)
	assert.GreaterOrEqual(t, time.Since(begun), 700*time.Millisecond)
}

// doing performs actions, or what a word stands for, and says what the page was told of.
func doing(c *client, q string) string {
	var a answered
	switch q {
	case "RELEASE":
		a = c.raw("DELETE", "/session/"+c.id+"/actions", "")
	case "FRAME":
		a = c.raw("POST", "/session/"+c.id+"/frame", `{"id": 0}`)
	case "TOP":
		a = c.raw("POST", "/session/"+c.id+"/frame", `{"id": null}`)
	case "READ":
		a = c.raw("GET", "/session/"+c.id+"/element/"+c.find("#press")+"/text", "")
	case "ACCEPT":
		a = c.raw("POST", "/session/"+c.id+"/alert/accept", "{}")
	default:
		a = c.raw("POST", "/session/"+c.id+"/actions", `{"actions": [`+filled(q, c.find)+`]}`)
	}
	rests := 0
	if strings.Contains(q, "wheel") || strings.Contains(q, `\ue0`) { // it may scroll, smoothly
		rests = 4
	}
	said := c.raw("POST", "/session/"+c.id+"/execute/sync", fmt.Sprintf(`{"script": "const f = top.document.getElementById('f'), b = top.document.getElementById('box'), at = () => [top.scrollY, b.scrollLeft, b.scrollTop].join(); return new Promise((done) => { let was = '', same = 0; const t = setInterval(() => { same = at() === was ? same + 1 : 0; was = at(); if (same < arguments[0]) return; clearInterval(t); done(top.eval('said.splice(0)').join('; ') + ' | ' + f.value + ' | ' + was) }, 20) })", "args": [%d]}`, rests))
	return fmt.Sprint(a.Status, " ", plainly(a.Value), "; ", said.Value)
}
