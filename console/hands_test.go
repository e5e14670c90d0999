package console_test

// A device in a person's hands: held from its page, its screen and tree side by side, locators that are tried, prolonged, given back.

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

func TestADeviceIsHeldFromItsPage(t *testing.T) {
	d := sit(t, "orr-01")
	d.signIn()
	d.addContent()
	d.devicesFree()
	d.goTo("/devices/orr-01", "dl")
	eval[bool](d, button)
	d.press("Hold it …")
	d.do(chromedp.SendKeys(css("section[aria-label=Hold] input"), "a look"))
	d.press("Hold device")
	d.says("orr-01 is yours.")
	d.says("a look")
	d.says("30 min left")
	eval[bool](d, button)
	d.press("Give it back")
	d.says("orr-01 was given back.")
	// With a build, as the command line asks for it.
	next, _, err := d.Service.Hold(t.Context(), d.Who, service.HoldRequest{Device: "orr-01", Build: "kelpline/android@newest", For: 30 * time.Minute, Name: "a second look"})
	require.NoError(t, err)
	d.goTo("/hands/"+next.ID, "main h1")
	d.says("orr-01 is yours.")
	eval[bool](d, button)
	// The screen as a film, and the tree beside it.
	d.until("the tree is there", "document.querySelectorAll('[role=tree] [role=treeitem]').length > 3")
	d.until("the picture is there", painted)
	d.says("The device films its screen")
	d.press("Point at elements")
	x, y := d.middle("#search")
	d.do(chromedp.MouseEvent("mouseMoved", x, y), chromedp.MouseClickXY(x, y))
	d.until("what is pointed at is marked on the screen", "document.querySelectorAll('[data-outline]').length === 1")
	d.until("its line is, too", "document.querySelector('[role=treeitem][data-at=true]')?.textContent.includes('#search')")
	d.until("its locators are said", "document.querySelector('ul[aria-label^=Locators] code')")
	eval[bool](d, `(document.querySelector('[role=tree]').focus(), true)`)
	d.do(chromedp.KeyEvent(kb.Home))
	d.until("the arrows go through the tree", "document.querySelector('#tree-0').dataset.at === 'true' && document.querySelectorAll('[data-outline]').length >= 1")
	// A locator is tried.
	d.do(chromedp.SendKeys(css("[role=tabpanel] input"), "text"))
	d.press("Find")
	d.until("what it means is counted", "/It means \\d+ elements here/.test(document.querySelector('[role=tabpanel] [role=status]').textContent)")
	d.do(chromedp.SendKeys(css("[role=tabpanel] input"), "[["))
	d.press("Find")
	d.says("can't be used")
	axe, err := os.ReadFile(filepath.Join(housetest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	eval[bool](d, string(axe)+";true")
	for _, tab := range []string{"Elements", "Script", "Apps", "Settings", "Log"} {
		d.beside(tab)
		d.until(tab+" is shown", `document.querySelector('[role=tab][aria-selected=true]').textContent === "`+tab+`" && [...document.querySelectorAll('[role=tabpanel]')].some(p => !p.inert && p.textContent.length > 20)`)
		assert.Empty(t, eval[[]string](d, `axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + n.html.slice(0, 200))))`), tab)
	}
	// Longer, and then back.
	d.press("30 minutes more")
	d.says("1 h 0 min left")
	h, err := d.HoldByID(t.Context(), d.Who, "newest")
	require.NoError(t, err)
	assert.InDelta(t, 3600, time.Until(h.HeldUntil.Time).Seconds(), 30)
	require.NoError(t, d.tab.Size(390, 800))
	assert.LessOrEqual(t, eval[int](d, "document.documentElement.scrollWidth"), 390)
	require.NoError(t, d.tab.Size(1280, 800))
	d.press("Give it back")
	d.says("orr-01 was given back.")
	d.goTo("/devices/orr-01", "dl")
	d.says("Who held it by hand")
	d.goTo("/legs/"+h.ID, "main h1")
	d.says("orr-01 was held by hand: a second look.")
	d.goTo("/sessions", "main pre")
	d.says("No session has been opened yet.")
}

// painted says that there is more than one colour on the screen's canvas.
const painted = `(() => {
	const c = document.querySelector('canvas');
	if (!c || c.width < 100) return false;
	const all = c.getContext('2d').getImageData(0, 0, c.width, c.height).data, seen = new Set();
	for (let i = 0; i < all.length; i += 4 * 97) seen.add(all[i] << 16 | all[i + 1] << 8 | all[i + 2]);
	return seen.size > 3;
})()`

// holding has a device in hand, on its page.
func holding(t *testing.T) (d *desk, id string) {
	t.Helper()
	d = sit(t, "orr-01")
	d.signIn()
	d.addContent()
	d.devicesFree()
	h, _, err := d.Service.Hold(t.Context(), d.Who, service.HoldRequest{Device: "orr-01", Build: "kelpline/android@newest", For: 30 * time.Minute})
	require.NoError(t, err)
	d.goTo("/hands/"+h.ID, "main h1")
	d.says("orr-01 is yours.")
	eval[bool](d, button)
	d.until("the picture is there", painted)
	return d, h.ID
}

// beside shows a tab beside the screen.
func (d *desk) beside(tab string) {
	d.t.Helper()
	eval[bool](d, `([...document.querySelectorAll('[role=tab]')].find(t => t.textContent === "`+tab+`").click(), true)`)
}

// middle is where on the page the middle of an element of the held screen is.
func (d *desk) middle(locator string) (x, y float64) {
	d.t.Helper()
	var screen []float64
	housetest.Eventually(d.t, locator+" is on the screen", func() bool {
		screen = eval[[]float64](d, `(async () => {
			const t = await (await fetch('/api/v1/hands/' + (location.pathname.split('/')[2] ?? 'newest') + '/tree?find=' + encodeURIComponent("`+locator+`"))).json();
			if (t.found?.length !== 1) return [];
			const b = t.elements[t.found[0]].bounds, r = document.querySelector('canvas').getBoundingClientRect();
			const w = Math.max(...t.elements.map(e => e.bounds.right)), h = Math.max(...t.elements.map(e => e.bounds.bottom));
			return [r.left + (b.left + b.right) / 2 / w * r.width, r.top + (b.top + b.bottom) / 2 / h * r.height];
		})()`)
		return len(screen) == 2
	})
	return screen[0], screen[1]
}

func TestAHeldDeviceIsUsedWithMouseFingersWheelAndKeyboard(t *testing.T) {
	d, id := holding(t)
	onScreen := func(what string) {
		t.Helper()
		d.until(what+" is on the screen", fmt.Sprintf("[...document.querySelectorAll('[role=treeitem]')].some(l => l.textContent.includes(%q))", what))
	}
	send := func(what string, e any) {
		t.Helper()
		d.do(chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
			switch e := e.(type) {
			case input.DispatchMouseEventParams:
				_, err := cdp.Call(ctx, tab, input.DispatchMouseEvent, e)
				return err
			case input.DispatchTouchEventParams:
				_, err := cdp.Call(ctx, tab, input.DispatchTouchEvent, e)
				return err
			}
			return fmt.Errorf("nothing sends a %s", what)
		}))
	}

	// The mouse, then the keyboard: it types where the finger was.
	x, y := d.middle("#search")
	d.do(chromedp.MouseClickXY(x, y))
	onScreen("Tern Rocks")
	d.until("the field has the focus", "[...document.querySelectorAll('[role=treeitem]')].some(l => l.textContent.includes('#search') && l.textContent.includes('focused'))")
	assert.Equal(t, "CANVAS", eval[string](d, "document.activeElement.tagName"))
	d.do(chromedp.KeyEvent("Tern"))
	onScreen("= Tern")
	d.do(chromedp.KeyEvent(kb.Backspace))
	onScreen("= Ter")
	// What can't be typed is said.
	eval[bool](d, `(() => {
		const data = new DataTransfer();
		data.setData('text', 'Küste');
		document.querySelector('canvas').dispatchEvent(new ClipboardEvent('paste', {clipboardData: data, bubbles: true, cancelable: true}));
		return true;
	})()`)
	d.says("It could not type the text")
	d.do(chromedp.KeyEvent(kb.Escape)) // back: the keyboard goes away

	// A finger.
	x, y = d.middle("#shore_tern-rocks")
	send("touch", input.DispatchTouchEventParams{Type: "touchStart", TouchPoints: []*input.TouchPoint{{X: x, Y: y}}})
	send("touch", input.DispatchTouchEventParams{Type: "touchEnd", TouchPoints: []*input.TouchPoint{}})
	onScreen("#show_chart")

	// The wheel scrolls, by a finger that moves up.
	x, y = d.middle("#title")
	send("wheel", input.DispatchMouseEventParams{Type: "mouseWheel", X: x, Y: y + 200, DeltaX: 0.01, DeltaY: 120})
	// Keys of the device.
	d.press("Back")
	onScreen("#settings")

	// Settings and apps.
	d.beside("Apps")
	d.until("the app is listed", "document.querySelector('main').textContent.includes('org.kelpline.app')")
	d.press("Stop")
	d.beside("Settings")
	d.press("Landscape")
	d.until("the screen is turned", "document.querySelector('canvas').width > document.querySelector('canvas').height")
	d.press("Portrait")
	d.until("and back", "document.querySelector('canvas').width < document.querySelector('canvas').height")
	d.press("Keep picture")
	d.says("The picture is kept")

	// Somebody else takes it, and is seen here.
	who := d.Who
	who.KeyName = "ada"
	c, err := d.Service.Watch(t.Context(), who, id)
	require.NoError(t, err)
	defer c.Close()
	go func() { _, _ = io.Copy(io.Discard, c) }()
	require.NoError(t, hostlink.WriteFrame(c, hostlink.FrameText, []byte(`{"take": true}`)))
	d.says("ada has it in hand. 1 other page of it is open.")
	d.press("Take it in hand")
	d.until("it is back", "!document.querySelector('main').textContent.includes('has it in hand')")

	d.press("Give it back")
	d.says("orr-01 was given back.")
	names := map[string]int{}
	for _, name := range eval[[]string](d, `(async () => (await (await fetch('/api/v1/legs/`+id+`/timeline')).json()).events.filter(e => e.kind === 'command').map(e => e.name))()`) {
		names[name]++
	}
	assert.GreaterOrEqual(t, names["tap"], 2)
	assert.GreaterOrEqual(t, names["swipe"], 1)
	assert.GreaterOrEqual(t, names["type"], 1)
}

func TestWhatIsDoneInTheBrowserBecomesAScript(t *testing.T) {
	d, _ := holding(t)
	d.beside("Script")
	d.press("Record what I do")
	d.says("become lines")
	x, y := d.middle("#shore_gull-ledge")
	d.do(chromedp.MouseClickXY(x, y))
	editor := "document.querySelector('textarea').value"
	d.until("the tap is a line", editor+" === `phone.tap('#shore_gull-ledge')\n`")
	x, y = d.middle("#show_chart")
	d.do(chromedp.MouseClickXY(x, y))
	d.until("and the next", editor+".endsWith(`phone.tap('#show_chart')\n`)")
	d.press("Do not record")
	// A check, by pointing.
	d.press("Point at elements")
	x, y = d.middle("#title")
	d.do(chromedp.MouseClickXY(x, y))
	d.press("Add check")
	d.until("the check is a line", editor+".endsWith(`check.equal(phone.read('#title'), 'Gull Ledge')\n`)")
	// Run from the last line on, and whole: that fails where the screen is another.
	eval[bool](d, `((t) => (t.setSelectionRange(t.value.length - 2, t.value.length - 2), true))(document.querySelector('textarea'))`)
	d.press("Run from the cursor")
	d.says("Passed after")
	d.press("Save package")
	d.says("It is saved as by-hand@1.")
	p, err := d.Service.Package(t.Context(), d.Who, "by-hand@newest")
	require.NoError(t, err)
	require.Len(t, p.Cases.V, 1)
	d.press("Give it back")
	d.says("orr-01 was given back.")
	assert.Equal(t, verdict.Passed, d.ran(service.RunRequest{Build: "kelpline/android@newest", Package: "by-hand@1", Devices: []string{"orr-01"}}).Verdict, "it passes where it was made")
}

func TestATestIsPausedOnItsPageAndResumed(t *testing.T) {
	d := sit(t, "orr-01")
	d.signIn()
	d.addContent()
	d.devicesFree()
	f := fstest.MapFS{testpkg.Entry: {Data: []byte("name: looks\nkind: script\n")}, "a.star": {Data: []byte("def test_a(phone):\n    phone.launch()\n    phone.wait_until(lambda: phone.sees('#show_chart'), 'the shore is open', within = 60)\n    pause('is the chart right?')\n")}}
	var zip bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &zip))
	_, _, err := d.Service.AddPackage(t.Context(), d.Who, service.Upload{Body: &zip, Size: -1})
	require.NoError(t, err)
	r, _, err := d.Service.StartRun(t.Context(), d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "looks@newest", Devices: []string{"orr-01"}})
	require.NoError(t, err)
	v, err := d.Service.Run(t.Context(), d.Who, r.ID)
	require.NoError(t, err)
	leg := v.Legs[0].ID
	d.goTo("/legs/"+leg, "main h1")
	d.until("it runs", "[...document.querySelectorAll('a')].some(a => a.textContent === 'Watch and pause')")
	d.goTo("/legs/"+leg+"/device", "main h1")
	d.says("The test on orr-01 is running.")
	d.until("the picture is there", painted)
	eval[bool](d, button)
	d.press("Pause test")
	d.says("first key paused the test on orr-01.")
	d.says("a.star:3 sees #show_chart")
	d.until("the device is in hand", "[...document.querySelectorAll('button')].every(b => b.textContent !== 'Take it in hand')")
	d.until("the tree is there", "document.querySelectorAll('[role=tree] [role=treeitem]').length > 3")
	axe, err := os.ReadFile(filepath.Join(housetest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	eval[bool](d, string(axe)+";true")
	assert.Empty(t, eval[[]string](d, `axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + n.html.slice(0, 200))))`))
	require.NoError(t, d.tab.Size(390, 800))
	assert.LessOrEqual(t, eval[int](d, "document.documentElement.scrollWidth"), 390)
	require.NoError(t, d.tab.Size(1280, 800))
	x, y := d.middle("#shore_tern-rocks")
	d.do(chromedp.MouseClickXY(x, y))
	d.middle("#show_chart")
	d.press("Resume test")
	// It goes on, and pauses itself, as somebody watches.
	d.says("The test on orr-01 paused itself at a.star:4: is the chart right?")
	d.press("Resume test")
	d.says("The test on orr-01 has ended.")
	housetest.Eventually(t, "the leg has passed", func() bool {
		l, err := d.Service.Leg(t.Context(), d.Who, leg)
		require.NoError(t, err)
		return l.Verdict == verdict.Passed
	})
}
