package console_test

// What a run says, and what is done about it.

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARunSaysWhatBrokeAndWhatIsKnownTurnsNoRunRed(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	v := d.run()
	d.signIn()
	d.goTo("/runs/"+v.ID, "#broke")
	eval[bool](d, button)
	d.says("Not good: 1 of 2 devices fails in “total”. 1 is fine.")
	d.says("failed on 1 device")
	d.until("there is a picture of the failure", `document.querySelector('[aria-labelledby=broke] img')?.naturalWidth > 50`)

	// Its tiles alone are lit; the address says so.
	faded := `[...document.querySelectorAll('[data-leg]')].filter(a => getComputedStyle(a.parentElement).opacity < 0.5).map(a => a.dataset.leg).join()`
	assert.Empty(t, eval[string](d, faded))
	d.press("Show its tiles")
	d.until("the others fade", faded+" === 'orr-01'")
	assert.Contains(t, eval[string](d, "location.search"), "family=")
	d.press("Show all tiles")
	d.until("all are lit", faded+" === ''")

	// It is known: it is said at once, and holds from now on.
	d.press("It is known …")
	d.do(chromedp.SendKeys(css("[role=dialog] input[placeholder=KELP-12]"), "KELP-7"))
	d.press("Say so")
	d.says("Known (KELP-7), says ")
	assert.Contains(t, eval[string](d, "document.querySelector('h1').innerText"), "Not good", "the run was over")

	// The part that matters runs again.
	d.press("Run again …")
	d.says("1 of 2 legs, 1 of 4 cases")
	d.press("all")
	d.says("2 of 2 legs, 4 of 4 cases")
	d.press("what did not pass")
	d.says("1 of 2 legs, 1 of 4 cases")
	d.until("the sheet's own button", "!!button('Run again') && location.pathname.endsWith("+fmt.Sprintf("%q", v.ID)+")")
	eval[bool](d, `([...document.querySelectorAll('[role=dialog] button')].find(b => b.innerText === 'Run again').focus(), true)`)
	d.enter()
	d.until("the new run is open", fmt.Sprintf("location.pathname.startsWith('/runs/') && !location.pathname.endsWith(%q)", v.ID))
	d.says("again of run")
	d.says("Nothing new: the device fails as known (KELP-7) in “total”.")
	d.says("does not count: as known (KELP-7)")

	// A link for people who have no key.
	d.press("Share …")
	d.press("without logs and network")
	d.press("Make a link")
	d.says("The link is shown only now:")
	link := eval[string](d, "document.querySelector('[role=dialog] pre').innerText")
	assert.Regexp(t, `/share/[A-Z2-7]{26}/$`, link)
	d.says("opened 0 times")
	assert.Equal(t, "200 true", eval[string](d, fmt.Sprintf(`fetch(%q, {credentials: 'omit'}).then(async r => r.status + ' ' + (await r.text()).includes('Shared from Tessellant'))`, link)))
	d.press("Withdraw")
	d.until("it has ended", "!document.body.innerText.includes('works until')")
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, link, nil)
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	assert.Equal(t, 404, resp.StatusCode)
	d.press("Close")

	// The history of the case.
	d.do(chromedp.Click(css("[aria-labelledby=broke] a[href^='/cases?']")))
	d.says("pools.test_total failed 2 of 3 times.")
	assert.Equal(t, "2 of 2 failed", eval[string](d, `document.querySelector('tbody tr:last-child td a').innerText`))
	d.do(chromedp.Click(css("tbody tr:last-child td a")))
	d.until("the leg is open", "location.pathname.startsWith('/legs/')")

	// Back on the first run the mark is taken away.
	d.goTo("/runs/"+v.ID, "#broke")
	eval[bool](d, button)
	d.press("Change the mark")
	d.press("Take the mark away")
	d.until("it is gone", `!document.body.innerText.includes('Known (KELP-7)') && !!button('It is known …')`)
}
