package console_test

// A run step by step: stacks, remarks, references with masks drawn by hand, two legs side by side.

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/recording"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

const stepped = `
def test_review(phone):
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.step("shores")
    phone.tap("#shore_gull-ledge"); phone.tap("#start"); phone.tap("#review")
    phone.find("#r_shore")
    phone.step("review")
`

func TestARunIsLookedAtStepByStep(t *testing.T) {
	d := sit(t, "orr-01", "orr-02", "orr-03")
	d.signIn()
	d.addContent()
	d.addPackage(stepped)
	keep, err := recording.Usual().With(recording.Trees, recording.Steps)
	require.NoError(t, err)
	v := d.ran(service.RunRequest{Build: "kelpline/android@newest", Package: "pools@newest", Recording: &keep})

	// The same step on all devices: the odd one first.
	d.goTo("/runs/"+v.ID+"?tab=steps", "figure img")
	d.says("It looks otherwise on 1 of 3 legs, in 1 way.")
	assert.Equal(t, "orr-03", eval[string](d, `document.querySelector('[aria-label^=Devices] figure ul').innerText.trim()`))
	assert.Equal(t, "orr-01 orr-02", eval[string](d, `[...document.querySelectorAll('[aria-label^=Devices] figure:last-child ul a')].map(a => a.innerText).join(' ')`))
	eval[bool](d, button)
	d.press("Show all 2")
	d.until("both pictures are there", `document.querySelectorAll('[aria-label^=Devices] figure:last-child img').length === 2`)
	d.press("shores")
	d.says("It looks alike on all 3 legs that came to it.")
	d.until("the address has the step", `new URLSearchParams(location.search).get('step') === 'shores'`)
	d.press("review")
	d.says("It looks otherwise on 1 of 3 legs")

	// A picture becomes a reference; a mask is drawn on it, and another one is written.
	eval[bool](d, `document.querySelector('[aria-label^=Devices] figure:last-child').scrollIntoView(), true`)
	d.press("Keep as reference")
	d.says("Kept: references")
	d.goTo("/references", "tbody tr")
	d.says("review in pools.test_review")
	d.says("Orrery Skerry 5 Mini")
	d.do(chromedp.Click(css("tbody tr a")))
	d.until("it is open", "location.pathname.startsWith('/references/')")
	d.until("its picture is there", `document.querySelector('main img[alt^="The reference of"]')?.naturalWidth > 0`)
	box := eval[[]float64](d, `(() => { const b = document.querySelector('main img[alt^="The reference of"]').getBoundingClientRect(); return [b.left, b.top, b.width, b.height, document.querySelector('main img[alt^="The reference of"]').naturalWidth]; })()`)
	mouse := func(kind input.DispatchMouseEventType, x, y float64) {
		d.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, input.DispatchMouseEvent, input.DispatchMouseEventParams{Type: kind, X: box[0] + x*box[2], Y: box[1] + y*box[3], Button: input.MouseButtonLeft, Buttons: 1, ClickCount: 1})
			return err
		}))
	}
	mouse(input.DispatchMouseEventTypeMousePressed, 0.5, 0.3)
	for i := range 10 {
		mouse(input.DispatchMouseEventTypeMouseMoved, 0.5-0.025*float64(i+1), 0.3-0.01*float64(i+1))
	}
	mouse(input.DispatchMouseEventTypeMouseReleased, 0.25, 0.2)
	d.until("a mask is drawn", `document.querySelectorAll('[data-mask]').length === 1`)
	left := eval[float64](d, `Number(document.querySelector('[aria-label=Masks] code').innerText.split(',')[0])`)
	assert.InDelta(t, 0.25*box[4], left, 0.02*box[4])
	d.do(chromedp.SendKeys(css("input[placeholder='40,300,680,380']"), "10,500,100,600"))
	eval[bool](d, button)
	d.press("Add mask")
	d.press("Save")
	d.until("it is saved", `!button('Save')`)
	refs, _, err := d.Looks.References(t.Context(), d.Who, "", "", 10)
	require.NoError(t, err)
	masks := 0
	for _, x := range refs {
		masks += len(x.Masks.V)
	}
	assert.Equal(t, 2, masks)

	// What is wrong with the screens, and what is slower.
	d.goTo("/runs/"+v.ID+"?tab=remarks", "[aria-label='More of the run']")
	d.says("screens") // whether anything is wrong with them, the phones know
	d.goTo("/runs/"+v.ID+"?tab=slower", "[aria-label='More of the run']")
	d.says("Nothing could be compared")

	// Two legs side by side, from the one's page.
	d.goTo("/legs/"+legOf(v, "orr-01"), "video")
	eval[bool](d, button)
	d.press("another leg …")
	d.press("orr-03: passed")
	d.until("they stand side by side", "location.pathname.endsWith('/compare')")
	d.says("1 step looks otherwise: “review” in “review”.")
	d.until("both pictures of each step are there", `document.querySelectorAll('[role=group] figure img').length === 4`)
	d.says("looks alike")
	assert.Equal(t, "looks otherwise", eval[string](d, `[...document.querySelectorAll('figcaption')].find(f => f.innerText.includes('review')).innerText.match(/looks \w+/)[0]`))

	axe, err := os.ReadFile(filepath.Join(housetest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err, "run make console")
	pages := map[string]string{"/runs/" + v.ID + "?tab=steps": "figure img", "/references": "tbody tr", "/references/" + refs[0].ID: "main img[alt^='The reference of']", fmt.Sprintf("/legs/%s/compare?with=%s", legOf(v, "orr-01"), legOf(v, "orr-03")): "figure img", "/runs/" + v.ID + "?tab=remarks": "[aria-label='More of the run']"}
	for path, ready := range pages {
		for _, look := range []string{"light", "dark"} {
			require.NoError(t, d.tab.Look(look))
			d.goTo(path, ready)
			eval[bool](d, string(axe)+";true")
			found := eval[[]string](d, `axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + n.html.slice(0, 200))))`)
			assert.Empty(t, found, look+" "+path)
		}
	}
	require.NoError(t, d.tab.Size(390, 800))
	for path, ready := range pages {
		d.goTo(path, ready)
		assert.LessOrEqual(t, eval[int](d, "document.documentElement.scrollWidth"), 390, path)
	}
}
