package console_test

// Pools, variants and what is said before a run starts.

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/pools"
	"tessellant/internal/service"
)

func TestAPoolIsMadeChangedAndUsed(t *testing.T) {
	d := sit(t, "orr-01", "orr-03", "orr-05")
	d.addContent()
	d.devicesFree()
	d.signIn()
	d.goTo("/pools", "main pre")
	d.says("No pools yet")
	eval[bool](d, button)
	d.do(chromedp.SendKeys(css("section[aria-labelledby=make] input"), "makr=x"))
	d.says("was maker meant")
	eval[bool](d, `(() => { const i = document.querySelector('section[aria-labelledby=make] input'); i.select(); return true; })()`)
	d.do(chromedp.SendKeys(css("section[aria-labelledby=make] input"), "width<400"))
	d.says("It would take 2 devices of 2: orr-03, orr-05.")
	d.do(chromedp.SendKeys(css("section[aria-labelledby=make] input[placeholder=everyday]"), "small"))
	d.press("Save pool")
	d.until("the pool's page is there", "location.pathname === '/pools/small'")
	d.says("small takes 2 devices of 2.")
	d.says("They cover 100 % of what differs.")
	d.until("its devices are there", "document.querySelectorAll('main li a[href^=\"/devices/\"]').length === 2")
	d.press("Remove …")
	d.press("Keep it")
	// It stands where a run is made.
	d.do(chromedp.Click(css("main a[href^='/start']")))
	d.says("2 devices × 2 cases.")
	d.says("--pool small")
	_, err := d.Service.Pool(t.Context(), d.Who, "small")
	require.NoError(t, err)
}

func TestVariantsAreForetoldStartedAndLaid(t *testing.T) {
	d := sit(t, "orr-01", "orr-05", "emu-03")
	d.addContent()
	d.devicesFree()
	_, err := d.Service.AddPool(t.Context(), d.Who, "most", pools.Definition{Take: pools.Differ, N: 3})
	require.NoError(t, err)
	d.signIn()
	d.goTo("/start?where=%20&pool=most", "aside pre")
	eval[bool](d, button)
	d.press("Add a variant")
	d.press("Add a variant")
	d.says("5 legs on 3 devices × 2 cases.") // emu-03 is too old for the second
	d.says("Android 10 can't be set to language:de")
	d.says("Perhaps")
	d.says("a guess from the number of cases")
	d.says("They cover 100 % of what differs.")
	d.says("--variant de=language:de")
	d.press("as a run file")
	d.says("de: {language: de}")
	d.do(chromedp.SendKeys(css("input[placeholder=nightly]"), "tides"), chromedp.SendKeys(css("input[placeholder='branch=main']"), "branch=main"))
	d.says("name: tides")
	d.says("branch: main")
	d.until("the plan is the form's", "!button('Start on 3 devices')?.disabled")
	d.press("Start on 3 devices")
	d.until("the run's page is there", "location.pathname.startsWith('/runs/')")
	d.until("all legs are done", `document.querySelectorAll('[data-leg] [data-verdict=passed], [data-leg] [data-verdict=failed]').length === 5`)
	d.until("it is laid by variant", `document.querySelector("[role=group][aria-label$=\"laid by variant\"]")`)
	d.goTo("/runs/1?by=language", "[data-leg]")
	d.until("its number leads to it", "location.pathname !== '/runs/1' && location.search === '?by=language'")
	assert.Equal(t, []string{"de 3", "en 2"}, eval[[]string](d, `[...document.querySelectorAll('figure')].map(f => f.querySelector('figcaption').innerText + ' ' + f.querySelectorAll('li').length)`))
	d.says("branch=main")
	d.do(chromedp.Click(css("[data-leg][aria-label*=' de']")))
	d.says("de: set to language:de")
	// It is found by a word; what is typed is asked once it has come to rest.
	d.goTo("/", "tbody tr")
	d.requests("")
	d.do(chromedp.SendKeys(css("main input"), "tid"), chromedp.SendKeys(css("main input"), "es"+kb.Enter))
	d.until("only it is there", "document.querySelectorAll('tbody tr').length === 1 && document.body.innerText.includes('1 tides')")
	assert.LessOrEqual(t, len(d.requests("GET /api/v1/runs?")), 2)
	d.do(chromedp.SendKeys(css("main input"), "none"))
	d.says("No run fits these filters.")
	runs, _, err := d.ListRuns(t.Context(), d.Who, service.RunChoice{Labels: map[string]string{"branch": "main"}}, "", 10)
	require.NoError(t, err)
	require.Len(t, runs, 1)
}
