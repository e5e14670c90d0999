package console_test

// Keys in the console: made, used, withdrawn; and what a key does not allow is not offered.

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/access"
	"tessellant/internal/service"
)

func TestAKeyIsMadeAndWithdrawnOnItsPage(t *testing.T) {
	d := sit(t)
	d.signIn()
	_, err := d.AddWorkspace(t.Context(), "tide-team")
	require.NoError(t, err)
	d.goTo("/keys", "tbody tr")
	d.says("1 key of the workspace tests.")
	eval[bool](d, button)
	d.do(chromedp.SendKeys(css("section[aria-labelledby=make] input"), "ci-nightly"))
	d.press("Make key")
	d.says("is shown only now")
	key := eval[string](d, "document.querySelector('section[aria-labelledby=make] pre, section[aria-labelledby=make] code').textContent.match(/tsl_\\w+/)[0]")
	d.says("2 keys of the workspace tests.")
	who, err := d.Enter(t.Context(), key)
	require.NoError(t, err)
	assert.Equal(t, []any{"ci-nightly", access.Engineer, true}, []any{who.KeyName, who.Role, who.Expires.Valid})
	// The same name again is refused, with what to do.
	d.do(chromedp.SendKeys(css("section[aria-labelledby=make] input"), "ci-nightly"))
	d.press("Make key")
	d.says(`the workspace has a key named "ci-nightly"`)
	// It is withdrawn when that was said twice.
	d.do(chromedp.Click(css("[aria-label='Withdraw ci-nightly …']")))
	d.says("Keep")
	d.press("Withdraw ci-nightly")
	d.says("1 key of the workspace tests.")
	_, err = d.Enter(t.Context(), key)
	assert.ErrorContains(t, err, "was withdrawn")
	// Nobody locks themselves out.
	d.do(chromedp.Click(css("[aria-label='Withdraw first key …']")))
	d.press("Withdraw first key")
	d.says("it is the last operator's key")
	// An operator looks into the other workspaces, too.
	d.goTo("/keys?workspace=tide-team", "main")
	d.says("0 keys of the workspace tide-team.")
}

func TestAViewerIsOfferedOnlyWhatAViewerMay(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	v := d.run()
	_, key, err := d.AddKey(t.Context(), d.Who, service.NewKeyRequest{Name: "wall", Role: access.Viewer})
	require.NoError(t, err)
	require.NoError(t, d.tab.SignIn(d.URL, key))
	for path, ready := range map[string]string{"/": "tbody tr", "/runs/" + v.ID: "[data-leg]", "/builds": "tbody tr", "/packages": "tbody tr", "/devices": "tbody tr", "/devices/orr-01": "dl"} {
		d.goTo(path, ready)
		offered := eval[[]string](d, "[...document.querySelectorAll('button')].map(b => b.textContent)")
		for _, no := range []string{"Upload", "Start a run", "Stop run", "Quarantine …", "Check device", "Free the device …", "Pair with a phone over the network …"} {
			assert.NotContains(t, offered, no, path)
		}
	}
	d.goTo("/start", "h1")
	d.says("Your key can’t start runs.")
	d.goTo("/keys", "[role=alert]")
	d.says("your key has the role viewer")
	assert.NotContains(t, eval[[]string](d, "[...document.querySelectorAll('button')].map(b => b.textContent)"), "Make key")
}

func TestAPageWhoseKeyIsWithdrawnAsksForAnother(t *testing.T) {
	d := sit(t)
	k, key, err := d.AddKey(t.Context(), d.Who, service.NewKeyRequest{Name: "ada", Role: access.Engineer})
	require.NoError(t, err)
	require.NoError(t, d.tab.SignIn(d.URL, key))
	d.goTo("/builds", "h1")
	require.NoError(t, d.RemoveKey(t.Context(), d.Who, k.ID))
	d.do(chromedp.WaitVisible(css("input[name=key]")))
}
