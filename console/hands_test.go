package console_test

// A device in a person's hands: held from its page, its screen and tree side by side, locators that are tried, prolonged, given back.

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	// The screen, and the tree beside it.
	d.until("the tree is there", "document.querySelectorAll('[role=tree] [role=treeitem]').length > 3")
	d.until("the picture is there", "document.querySelector('figure img')?.naturalWidth > 0")
	mark := `(async () => {
		const img = document.querySelector('figure img'), r = img.getBoundingClientRect();
		img.dispatchEvent(new PointerEvent('pointermove', {clientX: r.left + r.width / 2, clientY: r.top + r.height / 2, bubbles: true}));
		img.dispatchEvent(new PointerEvent('pointerdown', {clientX: r.left + r.width / 2, clientY: r.top + r.height / 2, bubbles: true}));
		await new Promise(requestAnimationFrame);
		return document.querySelectorAll('[data-outline]').length;
	})()`
	assert.Equal(t, 1, eval[int](d, mark), "what is pointed at is marked on the screen")
	d.until("its line is, too", "document.querySelector('[role=treeitem][data-at=true]')")
	d.until("its locators are said", "document.querySelector('ul[aria-label^=Locators] code')")
	eval[bool](d, `(document.querySelector('[role=tree]').focus(), true)`)
	d.do(chromedp.KeyEvent(kb.Home))
	d.until("the arrows go through the tree", "document.querySelector('#tree-0').dataset.at === 'true' && document.querySelectorAll('[data-outline]').length >= 1")
	// A locator is tried.
	d.do(chromedp.SendKeys(css("section[aria-labelledby=tree] input"), "text"))
	d.press("Find")
	d.until("what it means is counted", "/It means \\d+ elements here/.test(document.querySelector('section[aria-labelledby=tree] [role=status]').textContent)")
	d.do(chromedp.SendKeys(css("section[aria-labelledby=tree] input"), "[["))
	d.press("Find")
	d.says("can't be used")
	axe, err := os.ReadFile(filepath.Join(housetest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	eval[bool](d, string(axe)+";true")
	assert.Empty(t, eval[[]string](d, `axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + n.html.slice(0, 200))))`))
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
