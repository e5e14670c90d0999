package console_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/console"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/verdict"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/standin/phone"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) { housetest.Main(m) }

// desk is a whole service with two phones, and a browser in front of it.
type desk struct {
	phones int
	t      *testing.T
	*housetest.Service
	tab *housetest.Tab

	mu        sync.Mutex
	elsewhere []string // requests that left the service's address
	asked     []string // requests: method, path and query, body
	console   []string // errors in the browser's console
	loaded    float64  // bytes that came over the wire
}

const suite = `
def test_list(phone):
    """The list of shores is there."""
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.step("the list")
    print("as it should be")

def test_total(phone):
    """The total is what was typed."""
    phone.launch()
    phone.tap("#shore_gull-ledge")
    phone.tap("#start")
    phone.type("#wrack", "2" + ("," if phone.facts["language"] == "de" else ".") + "5")
    phone.hide_keyboard()
    phone.step("cover entered")
    check.equal(phone.read("#total").split(": ")[1].replace(",", "."), "2.5 %", "the total cover")
`

func sit(t *testing.T, serials ...string) *desk {
	t.Helper()
	_, err := console.Files().Open("index.html")
	require.NoError(t, err, "the console is not built: run make console")
	d := &desk{t: t, Service: housetest.StartService(t, housetest.DSN(t)), phones: len(serials)}
	if len(serials) > 0 {
		server := housetest.ADB(t)
		fleet := housetest.Fleet(t)
		for _, s := range serials {
			traits := fleet[s]
			traits.Temper = phone.Instant
			housetest.Phone(t, server, traits)
		}
		d.Host(t, &server.Server)
	}
	tab, stop, err := housetest.BrowseBeside()
	require.NoError(t, err)
	t.Cleanup(stop)
	d.tab = tab
	require.NoError(t, tab.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err1 := cdp.Call(ctx, t, network.Enable, network.EnableParams{})
		_, err2 := cdp.Call(ctx, t, log.Enable, cdp.Empty{})
		_, err3 := cdp.Call(ctx, t, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true}) // as of a window in front
		return errors.Join(err1, err2, err3)
	})))
	require.NoError(t, tab.Listen(func(event any) {
		d.mu.Lock()
		defer d.mu.Unlock()
		switch e := event.(type) {
		case *network.EventRequestWillBeSent:
			if u := e.Request.URL; !strings.HasPrefix(u, d.URL+"/") && !strings.HasPrefix(u, "data:") && !strings.HasPrefix(u, "blob:") && u != "about:blank" {
				d.elsewhere = append(d.elsewhere, u)
			}
			var body strings.Builder
			for _, part := range e.Request.PostDataEntries {
				body.Write(part.Bytes)
			}
			d.asked = append(d.asked, e.Request.Method+" "+strings.TrimPrefix(e.Request.URL, d.URL)+" "+body.String())
		case *network.EventLoadingFinished:
			d.loaded += e.EncodedDataLength
		case *log.EventEntryAdded:
			if e.Entry.Level == log.EntryLevelError && !strings.Contains(e.Entry.Text, "the server responded with a status of") {
				d.console = append(d.console, e.Entry.Text)
			}
		}
	}))
	t.Cleanup(func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		assert.Empty(t, d.elsewhere, "no request leaves the service's address")
		assert.Empty(t, d.console, "the browser has nothing to complain of, its policy included")
	})
	return d
}

// do runs actions.
func (d *desk) do(steps ...chromedp.Action[chromedp.Void]) {
	d.t.Helper()
	require.NoError(d.t, d.tab.Do(steps...))
}

func eval[T any](d *desk, expression string) T {
	d.t.Helper()
	v, err := housetest.Eval[T](d.tab, expression)
	require.NoError(d.t, err, expression)
	return v
}

// until waits until JavaScript says true; between two pages there is nothing to ask.
func (d *desk) until(what, expression string) {
	d.t.Helper()
	deadline := time.Now().Add(housetest.Patience)
	for {
		yes, err := housetest.Eval[bool](d.tab, "!!("+expression+")")
		if err == nil && yes {
			return
		}
		if time.Now().After(deadline) {
			page, _ := housetest.Eval[string](d.tab, "document.body.innerText.replace(/^([^]{600})[^]*?([^]{600})$/, '$1 … $2')")
			require.Fail(d.t, "waited in vain until "+what, "%v; the page says: %s", err, page)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// says waits until a text stands on the page.
func (d *desk) says(text string) {
	d.t.Helper()
	raw, err := json.Marshal(text)
	require.NoError(d.t, err)
	d.until("the page says "+text, "document.body?.innerText.includes("+string(raw)+")")
}

func (d *desk) goTo(path, ready string) {
	d.t.Helper()
	require.NoError(d.t, d.tab.Open(d.URL+path, ready))
}

func (d *desk) signIn() {
	d.t.Helper()
	require.NoError(d.t, d.tab.SignIn(d.URL, d.Key))
}

// requests gives those that were made since the last time, and whose method and path begin so.
func (d *desk) requests(begin string) (out []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, r := range d.asked {
		if strings.HasPrefix(r, begin) {
			out = append(out, r)
		}
	}
	d.asked = nil
	return out
}

func css(s string) chromedp.CSS { return chromedp.CSS(s) }

// press presses a button by its name.
func (d *desk) press(name string) {
	d.t.Helper()
	d.until("there is a button "+name, fmt.Sprintf("button(%q)", name))
	// What has just closed gives the focus back a frame later.
	eval[bool](d, fmt.Sprintf(`(async () => {
		for (let i = 0; i < 20; i++) {
			button(%q)?.focus();
			await new Promise(requestAnimationFrame).then(() => new Promise(requestAnimationFrame));
			if (document.activeElement === button(%[1]q)) return true;
		}
		return false;
	})()`, name))
	d.enter()
}

// enter presses the key, in the events that a keyboard makes: where the page takes the first for itself, the browser drops the second.
func (d *desk) enter() {
	d.t.Helper()
	for _, e := range []input.DispatchKeyEventParams{{Type: "rawKeyDown"}, {Type: "char", Text: "\r", UnmodifiedText: "\r"}, {Type: "keyUp"}} {
		e.Key, e.Code, e.WindowsVirtualKeyCode, e.NativeVirtualKeyCode = "Enter", "Enter", 13, 13
		d.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, input.DispatchKeyEvent, e)
			return err
		}))
	}
}

// helpers for the page: a button by its name.
const button = `window.button = name => [...document.querySelectorAll('button, [role=option], [role=menuitem]')].find(b => (b.getAttribute('aria-label') ?? b.innerText).trim().startsWith(name) && !b.disabled), true`

func (d *desk) addContent() {
	d.t.Helper()
	ctx := context.Background()
	f, err := os.Open(housetest.Kelpline(d.t))
	require.NoError(d.t, err)
	defer f.Close()
	_, _, err = d.AddBuild(ctx, d.Who, service.Upload{Name: "kelpline.apk", Body: f, Size: -1})
	require.NoError(d.t, err)
	_, _, err = d.AddPackage(ctx, d.Who, service.Upload{Body: strings.NewReader(d.zip(suite)), Size: -1})
	require.NoError(d.t, err)
}

func (d *desk) zip(source string) string {
	d.t.Helper()
	var b strings.Builder
	require.NoError(d.t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: pools\nkind: script\nabout: A few looks at rock pools.\n")}, "pools.star": {Data: []byte(source)}}, &b))
	return b.String()
}

// run runs the suite on all phones to its end, and answers the run's id.
func (d *desk) run() service.RunView {
	d.t.Helper()
	d.addContent()
	return d.ran(service.RunRequest{Build: "kelpline/android@newest", Package: "pools@newest"})
}

// ran starts a run, and waits until it is over.
func (d *desk) ran(q service.RunRequest) service.RunView {
	d.t.Helper()
	ctx := context.Background()
	d.devicesFree()
	r, _, err := d.StartRun(ctx, d.Who, q)
	require.NoError(d.t, err)
	var v service.RunView
	housetest.Eventually(d.t, "the run is over", func() bool {
		v, err = d.Run(ctx, d.Who, r.ID)
		require.NoError(d.t, err)
		return v.Ended.Valid
	})
	return v
}

func (d *desk) devicesFree() {
	d.t.Helper()
	housetest.Eventually(d.t, "the phones are free", func() bool {
		all, err := d.Store.Devices(context.Background(), "", 0)
		require.NoError(d.t, err)
		free := 0
		for _, x := range all {
			if x.Standing().Free {
				free++
			}
		}
		return free == d.phones
	})
}

func legOf(v service.RunView, serial string) string {
	for _, l := range v.Legs {
		if l.Serial == serial {
			return l.ID
		}
	}
	return ""
}

func TestSigningIn(t *testing.T) {
	d := sit(t)
	d.do(chromedp.Navigate(d.URL + "/builds"))
	d.do(chromedp.WaitVisible(css("input[name=key]")), chromedp.SendKeys(css("input[name=key]"), "tsl_not_the_key_of_anybody\r"))
	d.says("this key is unknown")
	d.do(chromedp.SendKeys(css("input[name=key]"), kb.End+strings.Repeat(kb.Backspace, 40)+d.Key+"\r"))
	d.says("No builds yet") // the page that was asked for
	assert.Empty(t, eval[string](d, "document.cookie"), "no script can read the sign-in")
	loaded := func() float64 { d.mu.Lock(); defer d.mu.Unlock(); return d.loaded }()
	assert.Less(t, loaded, 300_000.0, "bytes of the first load")
	t.Logf("the first load weighs %.0f kB", loaded/1000)

	eval[bool](d, button)
	d.press("Workspace")
	d.press("Sign out")
	d.says("Sign in to Tessellant")
	d.do(chromedp.Navigate(d.URL+"/devices"), chromedp.WaitVisible(css("input[name=key]")))

	ticket, _, err := d.NewTicket(context.Background(), d.Who)
	require.NoError(t, err)
	d.do(chromedp.Navigate(d.URL + "/signin#" + ticket))
	d.says("Nothing has run yet.")
	assert.Equal(t, "/", eval[string](d, "location.pathname + location.hash"), "the ticket does not stay in the address")
	other, _, err := d.NewTicket(context.Background(), d.Who)
	require.NoError(t, err)
	for _, answer := range []string{"Stay in tests", "Sign in by the link"} { // a link replaces no sign-in by itself
		d.do(chromedp.Navigate("about:blank"), chromedp.Navigate(d.URL+"/signin#"+other))
		d.says("This browser is signed in to the workspace tests.")
		eval[bool](d, button)
		d.press(answer)
		d.says("Nothing has run yet.")
	}
	require.NoError(t, d.SignOut(context.Background(), "")) // nobody's
	eval[bool](d, "fetch('/api/v1/signin', {method: 'DELETE'}).then(r => r.ok)")
	d.do(chromedp.Navigate("about:blank"), chromedp.Navigate(d.URL+"/signin#"+ticket))
	d.says("this link was already used")
}

func TestFilesAreUploaded(t *testing.T) {
	d := sit(t)
	d.signIn()
	files := t.TempDir()
	drop := func(name string, content []byte) {
		t.Helper()
		path := filepath.Join(files, name)
		require.NoError(t, os.WriteFile(path, content, 0o600))
		for _, kind := range []input.DispatchDragEventType{input.DispatchDragEventTypeDragEnter, input.DispatchDragEventTypeDragOver, input.DispatchDragEventTypeDrop} {
			d.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
				_, err := cdp.Call(ctx, t, input.DispatchDragEvent, input.DispatchDragEventParams{Type: kind, X: 600, Y: 400, Data: &input.DragData{Items: []*input.DragDataItem{}, Files: []string{path}, DragOperationsMask: 1}})
				return err
			}))
		}
	}
	apk, err := os.ReadFile(housetest.Kelpline(t))
	require.NoError(t, err)
	d.says("No runs yet")
	drop("kelpline.apk", apk)
	d.says("Uploaded as kelpline/android@231")
	d.goTo("/builds", "tbody tr")
	d.says("Kelpline")
	drop("kelpline again.apk", apk)
	d.says("Already uploaded: kelpline/android@231")
	drop("notes.apk", []byte("not an app at all"))
	d.says("could not add the build")
	d.says("What to do:")

	zip := filepath.Join(t.TempDir(), "pools.zip")
	require.NoError(t, os.WriteFile(zip, []byte(d.zip(suite)), 0o600))
	d.do(chromedp.SetUploadFiles(css("input[type=file]"), []string{zip}))
	d.says("Uploaded as pools@1")
	bad := filepath.Join(t.TempDir(), "bad.zip")
	require.NoError(t, os.WriteFile(bad, []byte(d.zip("def test_open(phone:\n")), 0o600))
	d.do(chromedp.SetUploadFiles(css("input[type=file]"), []string{bad}))
	d.says("pools.star:1") // the finding's place
}

func TestARunIsStartedAndItsTilesChange(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	d.addContent()
	d.devicesFree()
	d.signIn()
	eval[bool](d, "(window.sameDocument = true)")
	eval[bool](d, button)
	d.press("Start a run")
	d.says("2 devices × 2 cases.")
	d.says("--where platform=android")
	d.press("Start on 2 devices")
	d.until("a tile goes", `document.querySelector('[data-leg] [data-verdict=running]')`)
	d.until("a tile passed, a tile failed", `document.querySelector('[data-leg=orr-01] [data-verdict=passed]') && document.querySelector('[data-leg=orr-05] [data-verdict=failed]')`)
	d.says("Not good: 1 of 2 devices fails")
	assert.True(t, eval[bool](d, "window.sameDocument"), "nothing was loaded anew")
	assert.Equal(t, 4, eval[int](d, "document.querySelectorAll('[role=cell] [data-verdict=passed], [role=cell] [data-verdict=failed]').length"), "cases × devices")
	// The filter that fits nothing is said before anything starts.
	d.goTo("/start?where=maker%3DNobody", "aside")
	d.says("no device matches maker=Nobody")
	assert.True(t, eval[bool](d, "[...document.querySelectorAll('aside button')].at(-1).disabled"))
}

func TestTheEvidenceOfALegMovesTogether(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	v := d.run()
	d.signIn()
	d.goTo("/legs/"+legOf(v, "orr-05"), "[data-outline=true]")
	text := eval[string](d, "document.body.innerText")
	for _, want := range []string{"orr-05 failed 1 of 2 cases.", "expected", `"2.5 %"`, "was", `"25.0 %"`, "pools.star:17", "#total is outlined"} {
		assert.Contains(t, text, want)
	}
	assert.Equal(t, "text #total “Deckung gesamt: 25,0 %”", eval[string](d, "document.querySelector('li[data-found=true]').innerText.trim()"))

	// A click on a command moves the video and the log.
	eval[bool](d, `(window.chosen = id => document.querySelector('[aria-label="' + id + '"] [aria-selected=true]')?.innerText ?? '', true)`)
	logBefore := eval[string](d, "chosen('Lines of the device log')")
	eval[bool](d, `([...document.querySelectorAll('[aria-label="What happened"]')].forEach(e => e.scrollTop = 0), true)`)
	d.until("the first commands are in sight", `document.getElementById('story-3')`)
	d.do(chromedp.Click(css("#story-3")))
	d.until("the row is chosen", `chosen('What happened') !== '' && document.getElementById('story-3').ariaSelected === 'true'`)
	at := eval[float64](d, `(() => { const m = chosen('What happened').match(/(\d+):(\d+)\.(\d+)/); return m[1] * 60 + +m[2] + m[3] / 1000; })()`)
	d.until("the video is there", fmt.Sprintf("Math.abs(document.querySelector('video').currentTime - %f) < 0.01 && !document.querySelector('video').seeking", at))
	d.until("the log is there", fmt.Sprintf("chosen('Lines of the device log') !== %q", logBefore))

	// A click on a log line moves the story and the video.
	d.do(chromedp.Click(css("#log-9")))
	d.until("the log's line is chosen", `document.getElementById('log-9')?.ariaSelected === 'true'`)
	line := eval[float64](d, `(() => { const m = document.getElementById('log-9').innerText.match(/(\d+):(\d+)\.(\d+)/); return m[1] * 60 + +m[2] + m[3] / 1000; })()`)
	d.until("the video is at the log's line", fmt.Sprintf("Math.abs(document.querySelector('video').currentTime - %f) < 0.01", line))

	// Keys.
	row := func() string { return eval[string](d, "chosen('What happened')") }
	key := func(k, wants string) {
		before := row()
		d.do(chromedp.KeyEvent(k))
		housetest.Eventually(t, k+" moves the cursor to "+wants, func() bool { now := row(); return now != before && strings.Contains(now, wants) })
	}
	key("f", "failed: the total cover")
	key("S", "cover entered")
	key("S", "the list")
	key("s", "cover entered")
	before := row()
	d.do(chromedp.KeyEvent("k"))
	housetest.Eventually(t, "k moves the cursor", func() bool { return row() != before })
	eval[bool](d, `(document.querySelector('[aria-label="What happened"]').focus(), true)`)
	d.do(chromedp.KeyEvent(kb.Home), chromedp.KeyEvent("4"), chromedp.KeyEvent(" "))
	d.until("it plays at double speed", "!document.querySelector('video').paused && document.querySelector('video').playbackRate === 2")
	at = eval[float64](d, "document.querySelector('video').currentTime")
	d.until("the cursor goes along", fmt.Sprintf("document.querySelector('[data-at]').dataset.at > %f", at*1000+200))
	d.do(chromedp.KeyEvent(" "))
	d.until("it pauses", "document.querySelector('video').paused")

	// The log's filters, and a thumbnail.
	eval[bool](d, button)
	d.do(chromedp.SendKeys(css("input[placeholder='text in the line']"), "gull-ledge"))
	d.until("only lines with the text are left", `[...document.querySelectorAll('[aria-label="Lines of the device log"] [role=option]')].every(l => l.innerText.includes('gull-ledge')) && /^\d+ of \d+ lines/m.test(document.body.innerText)`)
	d.do(chromedp.Click(css("[role=tab][data-key=shots]")), chromedp.WaitVisible(css("[aria-label=Screenshots] button")), chromedp.Click(css("[aria-label=Screenshots] button")))
	housetest.Eventually(t, "the thumbnail's step is chosen", func() bool { return strings.Contains(row(), "the list") })
	d.do(chromedp.Click(css("[role=tab][data-key=files]")))
	d.says("All of them as one zip")
}

func TestALegIsWatchedWhileItGoesOn(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	ctx := context.Background()
	d.addContent()
	slow := "def test_slow(phone):\n    phone.launch()\n    phone.find(\"#shore_gull-ledge\")\n    for i in range(24):\n        phone.sees(\"#shore_gull-ledge\")\n        phone.swipe(\"up\" if i % 2 else \"down\")\n        phone.step(\"look %d\" % i)\n"
	_, _, err := d.AddPackage(ctx, d.Who, service.Upload{Body: strings.NewReader(d.zip(slow)), Size: -1})
	require.NoError(t, err)
	d.devicesFree()
	d.signIn()
	r, _, err := d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "pools@newest", Devices: []string{"orr-01"}})
	require.NoError(t, err)
	v, err := d.Run(ctx, d.Who, r.ID)
	require.NoError(t, err)
	d.do(chromedp.Navigate(d.URL + "/legs/" + v.Legs[0].ID))
	d.until("its screen is shown", `document.querySelector('section[aria-label=Screen] img')?.naturalWidth > 100`)
	screen := eval[string](d, `document.querySelector('section[aria-label=Screen] img').src`)
	d.until("commands come", `Number(document.querySelector('[aria-label="What happened"] [role=option]')?.getAttribute('aria-setsize')) > 12`)
	d.until("newer screens come", fmt.Sprintf(`document.querySelector('section[aria-label=Screen] img') && document.querySelector('section[aria-label=Screen] img').src !== %q`, screen))
	assert.NotContains(t, eval[string](d, "document.title"), "passed")
	d.says("orr-01 passed its case.")
	d.until("the video takes the place of the live screen", "document.querySelector('video')?.readyState >= 1")
}

func TestTheKeyboardIsEnough(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	d.run()
	d.signIn()
	focused := func() string {
		return eval[string](d, "(document.activeElement.getAttribute('aria-label') ?? document.activeElement.innerText ?? '').replaceAll('\\n', ' ').trim()")
	}
	tabTo := func(what string) {
		t.Helper()
		var seen []string
		for range 40 {
			d.do(chromedp.KeyEvent(kb.Tab))
			if seen = append(seen, focused()); strings.Contains(seen[len(seen)-1], what) {
				return
			}
		}
		require.Fail(t, "Tab never came to "+what, "%q", seen)
	}
	d.says("Not good: 1 of 2 devices")
	tabTo("To the page")
	tabTo("any build")
	tabTo("Not good: 1 of 2 devices fails") // the list's first row
	d.do(chromedp.KeyEvent(kb.Enter))
	d.until("the run is open", "location.pathname.startsWith('/runs/')")
	tabTo("orr-05, Orrery Cairn")
	d.do(chromedp.KeyEvent(kb.ArrowRight))
	assert.Contains(t, focused(), "orr-01, Orrery Skerry 5")
	d.do(chromedp.KeyEvent(kb.ArrowLeft), chromedp.KeyEvent(kb.Enter))
	d.until("the leg is open", "location.pathname.startsWith('/legs/')")
	d.says("orr-05 failed 1 of 2 cases.")
	tabTo("What happened")
	d.until("a row is chosen", `document.querySelector('#story-0, [id^=story-][aria-selected=true]')`)
	d.do(chromedp.KeyEvent(kb.Home))
	d.until("Home goes to the first row", `document.getElementById('story-0')?.ariaSelected === 'true'`)
	d.do(chromedp.KeyEvent(kb.ArrowDown))
	d.until("the arrow goes on", `document.getElementById('story-1')?.ariaSelected === 'true'`)
}

// addPackage keeps a package of the name pools.
func (d *desk) addPackage(source string) {
	d.t.Helper()
	_, _, err := d.AddPackage(context.Background(), d.Who, service.Upload{Body: strings.NewReader(d.zip(source)), Size: -1})
	require.NoError(d.t, err)
}

func TestAFormKeepsWhatWasChosenAndStartsOnce(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	d.addContent()
	d.devicesFree()
	var b strings.Builder
	entry := "name: asks\nkind: script\ninputs:\n  code: {secret: true, about: the door's code}\n"
	require.NoError(t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte(entry)}, "a.star": {Data: []byte("def test_a(phone):\n    pass\n")}}, &b))
	_, _, err := d.AddPackage(t.Context(), d.Who, service.Upload{Body: strings.NewReader(b.String()), Size: -1})
	require.NoError(t, err)
	d.signIn()
	d.goTo("/start?package=asks@1", "aside pre")
	d.requests("")
	d.do(chromedp.SendKeys(css("input[type=password]"), "ebb-and-flow"))
	d.says("2 devices × 1 case.")
	plans := d.requests("POST /api/v1/runs/check")
	require.NotEmpty(t, plans)
	for _, p := range plans {
		assert.NotContains(t, p, "ebb", "no part of a secret leaves the browser before the run starts")
	}
	assert.Contains(t, plans[len(plans)-1], `"code":"given"`)
	// A CI uploads a newer build, and a newer revision of the package.
	f, err := os.Open(housetest.Kelpline190(t))
	require.NoError(t, err)
	defer f.Close()
	_, _, err = d.AddBuild(t.Context(), d.Who, service.Upload{Name: "kelpline.apk", Body: f, Size: -1})
	require.NoError(t, err)
	d.says("A newer build was uploaded: kelpline/android@240")
	assert.Contains(t, eval[string](d, "document.querySelector('aside pre').textContent"), "--build kelpline/android@231")
	eval[bool](d, button)
	// Two presses, one run.
	eval[bool](d, "(() => { const b = [...document.querySelectorAll('aside button')].at(-1); b.click(); b.click(); return true; })()")
	d.until("the run's page is there", "location.pathname.startsWith('/runs/')")
	runs, _, err := d.ListRuns(t.Context(), d.Who, service.RunChoice{}, "", 10)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, "kelpline/android@231", runs[0].Request.V.Build)
	assert.Contains(t, d.requests("POST /api/v1/runs ")[0], "ebb-and-flow", "the run gets the secret")
}

func TestAPlaceInTheQueueIsTheOneOfNow(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	d.addContent()
	d.addPackage("def test_long(phone):\n    phone.launch()\n    phone.find(\"#never\", within = 60)\n")
	d.devicesFree()
	d.signIn()
	var runs []service.RunView
	for range 3 {
		r, _, err := d.StartRun(t.Context(), d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "pools@newest", Devices: []string{"orr-01"}})
		require.NoError(t, err)
		v, err := d.Run(t.Context(), d.Who, r.ID)
		require.NoError(t, err)
		runs = append(runs, v)
	}
	d.goTo("/legs/"+runs[2].Legs[0].ID, "h1")
	d.says("It is 2nd in the queue for orr-01")
	_, err := d.StopRun(t.Context(), d.Who, runs[1].ID, "")
	require.NoError(t, err)
	d.says("It is 1st in the queue for orr-01")
	_, err = d.StopRun(t.Context(), d.Who, runs[2].ID, "")
	require.NoError(t, err)
	// The tile that has the focus goes to another patch, and keeps it.
	d.goTo("/runs/"+runs[0].ID+"?by=verdict", "[data-leg]")
	eval[bool](d, "(document.querySelector('[data-leg=orr-01]').focus(), true)")
	_, err = d.StopRun(t.Context(), d.Who, runs[0].ID, "")
	require.NoError(t, err)
	d.until("the tile is in another patch", `document.querySelector('[data-leg=orr-01] [data-verdict=stopped]')`)
	d.until("the focus went along", `document.activeElement.dataset.leg === 'orr-01' && document.activeElement.tabIndex === 0`)
}

func TestTheCursorHasItsAddressAndItsKeys(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	v := d.run()
	d.signIn()
	leg := "/legs/" + legOf(v, "orr-05")
	d.goTo(leg+"?at=1200&more=files&depth=steps", "video")
	d.says("All of them as one zip")
	d.until("the cursor is where the address says", "document.querySelector('[data-at]').dataset.at === '1200'")
	assert.False(t, eval[bool](d, `[...document.querySelectorAll('[aria-label="What happened"] [role=option] code')].length > 0`), "steps alone")
	d.goTo(leg+"?at=nonsense&attempt=-1&depth=constructor", "[data-outline=true]") // as without
	d.until("a row is chosen", `document.querySelector('[id^=story-][aria-selected=true]')`)

	// Drawn along the axis, the log is asked a few times a second, not with each move.
	box := eval[[]float64](d, `(() => { const b = document.querySelector('[data-axis]').getBoundingClientRect(); return [b.x, b.y + b.height / 2, b.width]; })()`)
	mouse := func(kind input.DispatchMouseEventType, x float64) {
		d.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, input.DispatchMouseEvent, input.DispatchMouseEventParams{Type: kind, X: x, Y: box[1], Button: input.MouseButtonLeft, Buttons: 1, ClickCount: 1})
			return err
		}))
	}
	share := func(of float64) float64 { return box[0] + of*box[2] }
	d.requests("")
	start := time.Now()
	thumb := eval[float64](d, `(() => { const b = document.querySelector('[aria-label="Moment of the attempt"] input[type=range]').closest('[style*="position: absolute"]').getBoundingClientRect(); return b.x + b.width / 2; })()`)
	mouse(input.DispatchMouseEventTypeMousePressed, thumb)
	for i := range 60 {
		mouse(input.DispatchMouseEventTypeMouseMoved, share(0.2+float64(i)/100))
	}
	mouse(input.DispatchMouseEventTypeMouseReleased, share(0.8))
	quarters := int(time.Since(start)/(250*time.Millisecond)) + 3
	d.until("the address has the moment", "Number(new URLSearchParams(location.search).get('at')) > 0")
	asked := d.requests("GET /api/v1" + leg + "/log?")
	assert.NotEmpty(t, asked)
	assert.LessOrEqual(t, len(asked), quarters)

	// Drawn over, a part of the time is zoomed to; the keys and a press show all of it again.
	stands := eval[string](d, "new URLSearchParams(location.search).get('at')")
	mouse(input.DispatchMouseEventTypeMousePressed, share(0.2))
	for i := range 10 {
		mouse(input.DispatchMouseEventTypeMouseMoved, share(0.2+float64(i)/14))
	}
	mouse(input.DispatchMouseEventTypeMouseReleased, share(0.9))
	zoom := "(new URLSearchParams(location.search).get('zoom') ?? '')"
	d.until("the address has the part", zoom+" !== ''")
	wide := func() int {
		return eval[int](d, "(() => { const [a, b] = "+zoom+".split('-').map(Number); return b - a; })()")
	}
	part := wide()
	d.do(chromedp.KeyEvent("+"))
	housetest.Eventually(t, "it is closer", func() bool { return wide() < part })
	d.do(chromedp.KeyEvent("0"))
	d.until("all of it is shown", zoom+" === ''")
	assert.Equal(t, stands, eval[string](d, "new URLSearchParams(location.search).get('at')"), "the cursor stays where it is")

	// After that the keys still work; but not while one of several is chosen.
	row := func() string {
		return eval[string](d, `document.querySelector('[aria-label="What happened"] [aria-selected=true]')?.innerText ?? ''`)
	}
	before := row()
	d.do(chromedp.KeyEvent("k"))
	housetest.Eventually(t, "k moves the cursor", func() bool { return row() != before })
	eval[bool](d, button)
	d.press("Level")
	d.until("the levels are open", "document.querySelector('[role=listbox] [role=option][data-key=W]')")
	before = row()
	d.do(chromedp.KeyEvent("j"), chromedp.KeyEvent("k"), chromedp.KeyEvent("w"), chromedp.KeyEvent(kb.Enter))
	d.until("the level is in the address", "new URLSearchParams(location.search).get('level') === 'W'")
	assert.Equal(t, before, row())

	// The tree by keyboard.
	d.goTo(leg, "[data-outline=true]")
	eval[bool](d, `(document.querySelector('[role=tree]').focus(), true)`)
	d.do(chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowLeft))
	d.until("the parent is chosen, and outlined", `document.querySelector('[data-outline=false]') && document.querySelector('[role=treeitem][data-at=true]').id === document.querySelector('[role=tree]').getAttribute('aria-activedescendant')`)
	d.until("its locator can be copied, and means it alone", `(() => {
		const copy = document.querySelector('[aria-label="Copy the locator"]');
		return copy && /^[#a-z\[]/.test(copy.previousElementSibling.textContent);
	})()`)
	d.do(chromedp.KeyEvent(kb.Tab))
	d.until("Tab leaves it", `!document.querySelector('[role=treeitem][data-at=true]')`)
}

func TestPagesComeAndGo(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	v := d.run()
	d.signIn()
	require.NoError(t, d.tab.Size(390, 400))
	d.goTo("/runs/"+v.ID+"?tab=legs", "tbody tr")
	eval[bool](d, "(window.scrollTo(0, 200), document.querySelector('[data-leg=orr-05]').focus({preventScroll: true}), true)")
	d.until("it is scrolled", "scrollY === 200")
	d.enter()
	d.until("the leg is there, from its top, with the focus", "location.pathname.startsWith('/legs/') && document.querySelector('video') && scrollY === 0 && document.activeElement.id === 'page'")
	eval[bool](d, "(history.back(), true)")
	d.until("the run is there, where it was left", "location.pathname.startsWith('/runs/') && scrollY === 200")
	require.NoError(t, d.tab.Size(1280, 800))

	// The grid is one stop of Tab.
	d.goTo("/runs/"+v.ID, "[data-leg]")
	d.until("the grid is there", "document.querySelector('[data-spot=\"2-1\"]')")
	assert.Equal(t, 1, eval[int](d, `document.querySelectorAll('[data-spot][tabindex="0"]').length`))
	eval[bool](d, `(document.querySelector('[data-spot][tabindex="0"]').focus(), true)`)
	d.do(chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowRight))
	d.until("the arrows go over it", `document.activeElement.dataset.spot === '2-1' && document.activeElement.tabIndex === 0`)
	assert.Equal(t, 1, eval[int](d, `document.querySelectorAll('[data-spot][tabindex="0"]').length`))

	// Without TLS there is no clipboard.
	eval[bool](d, `(Object.defineProperty(navigator, 'clipboard', {value: undefined}), addEventListener('copy', () => { window.copied = document.activeElement.value; }), true)`)
	eval[bool](d, button)
	d.do(chromedp.Click(css("[role=tab][data-key=asked]")))
	d.press("Copy " + v.ID)
	d.says("copied")
	assert.Equal(t, v.ID, eval[string](d, "window.copied"))
	d.until("the focus is on the button", "document.activeElement === button('Copy "+v.ID+"')")

	// A table is sorted by its headings, and the address has it; its rows are links.
	d.goTo("/devices?as=table", "tbody tr")
	first := func() string { return eval[string](d, "document.querySelector('tbody th a').innerText") }
	assert.Equal(t, "orr-01", first())
	eval[bool](d, button)
	d.press("serial")
	d.until("upwards", "location.search.includes('sort=serial') && document.querySelector('th[aria-sort=ascending]')")
	d.press("serial")
	housetest.Eventually(t, "downwards", func() bool { return first() == "orr-05" })
	assert.Equal(t, "?as=table&sort=-serial", eval[string](d, "location.search"))
	assert.Equal(t, "/devices/orr-05", eval[string](d, "document.querySelector('tbody th a').getAttribute('href')"))
	d.goTo("/devices/orr-05", "dl")
	d.says("The host " + housetest.HostName + " sees it.")

	// After an upgrade of the service the parts of the old version are gone.
	d.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, network.SetBlockedURLs, network.SetBlockedURLsParams{URLPatterns: []*network.BlockPattern{{URLPattern: d.URL + "/assets/Packages*", Block: true}}})
		return err
	}))
	d.do(chromedp.Click(css("nav a[href='/packages']")))
	d.says("This page could not be loaded.")
	d.do(chromedp.Click(css("nav a[href='/builds']")))
	d.says("1 build of 1 app.")
	d.mu.Lock()
	d.console = nil // the browser has complained of what was blocked
	d.mu.Unlock()
}

func TestEveryPageIsAccessible(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	v := d.run()
	_, err := d.Service.AddPool(t.Context(), d.Who, "most", pools.Definition{Take: pools.Differ, N: 2})
	require.NoError(t, err)
	session := d.session("accessible", func(wd func(method, path, body string) string) { wd("GET", "/source", "") })
	axe, err := os.ReadFile(filepath.Join(housetest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err, "run make console")
	check := func(name string) {
		t.Helper()
		eval[bool](d, string(axe)+";true")
		found := eval[[]string](d, `axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + n.html.slice(0, 200) + ' ' + (n.any[0]?.message ?? n.all[0]?.message ?? v.help))))`)
		assert.Empty(t, found, name)
	}
	d.goTo("/", "input[name=key]")
	check("sign in")
	d.signIn()
	for path, ready := range map[string]string{"/": "tbody tr", "/runs/" + v.ID: "#broke", "/cases?case=test_total": "tbody tr", "/runs/" + v.ID + "?tab=legs": "tbody tr", "/legs/" + legOf(v, "orr-05"): "[data-outline=true]", "/start": "aside pre", "/builds": "tbody tr",
		"/builds/" + v.BuildID: "dl", "/packages": "tbody tr", "/packages/" + v.PackageID: "tbody tr", "/devices": "main li a", "/devices?as=table": "tbody tr", "/pools": "tbody tr", "/pools/most": "tbody tr", "/start?pool=most&where=%20&variants=a%3D%7Cde%3Dlanguage:de": "aside pre", "/devices/orr-05": "tbody tr", "/keys": "tbody tr", "/sessions": "main pre", "/sessions/" + session: "video", "/nowhere": "[role=alert]"} {
		for _, look := range []string{"light", "dark"} {
			require.NoError(t, d.tab.Look(look))
			if look == "light" {
				d.goTo(path, ready)
			}
			check(look + " " + path)
		}
	}
	d.goTo("/devices/orr-05", "tbody tr")
	eval[bool](d, button)
	d.press("Check device")
	d.says("This device can be tested.")
	check("a device that was checked")
	d.goTo("/devices", "tbody tr")
	eval[bool](d, button)
	d.press("Pair with a phone over the network …")
	d.press("Draw a picture for it to scan")
	d.says("It was not paired") // Debian's adb server can't
	check("pairing")
	d.goTo("/sessions/"+session, "video")
	eval[bool](d, button)
	d.press("Set verdict")
	d.says("Or upload the JUnit XML")
	check("the sheet over a session's page")
	// All of a run is there as one report.
	d.goTo("/runs/"+v.ID+"?tab=legs", "tbody tr")
	report := eval[string](d, `fetch([...document.querySelectorAll('a[download]')].find(a => a.textContent.includes('JUnit')).href).then(r => r.text())`)
	assert.Equal(t, 2, strings.Count(report, "<testsuite "), report)
	// No page is wider than a phone.
	require.NoError(t, d.tab.Size(390, 800))
	for path, ready := range map[string]string{"/": "tbody tr", "/runs/" + v.ID: "#broke", "/cases?case=test_total": "tbody tr", "/legs/" + legOf(v, "orr-05"): "video", "/start": "aside pre", "/start?variants=a%3D%7Cde%3Dlanguage:de": "aside pre", "/devices": "tbody tr", "/pools": "tbody tr", "/pools/most": "tbody tr", "/sessions": "main pre", "/sessions/" + session: "video"} {
		d.goTo(path, ready)
		assert.LessOrEqual(t, eval[int](d, "document.documentElement.scrollWidth"), 390, path)
	}
}

func TestARunIsStoppedAndADeviceIsQuarantined(t *testing.T) {
	d := sit(t, "emu-03", "orr-03")
	d.signIn()
	d.addContent()
	ctx := context.Background()
	_, _, err := d.AddPackage(ctx, d.Who, service.Upload{Body: strings.NewReader(d.zip("def test_long(phone):\n    phone.launch()\n    phone.find(\"#never\", within = 60)\n")), Size: -1})
	require.NoError(t, err)
	d.devicesFree()
	rows, _, err := d.Packages(ctx, d.Who, nil, "", 1)
	require.NoError(t, err)
	r, _, err := d.StartRun(ctx, d.Who, service.RunRequest{Build: "kelpline/android@newest", Package: rows[0].Ref(), Devices: []string{"emu-03"}})
	require.NoError(t, err)
	d.goTo("/runs/"+r.ID, "[data-leg]")
	eval[bool](d, button)
	d.press("Stop run")
	d.press("Yes, stop run")
	d.says("1 was stopped")

	d.goTo("/devices/emu-03", "dl")
	eval[bool](d, button)
	d.press("Quarantine …")
	d.do(chromedp.SendKeys(css("section[aria-label=Care] input"), "its screen is cracked"))
	d.press("Quarantine device")
	d.says("is quarantined")
	d.says("its screen is cracked")
	d.press("Release device")
	d.says("is free")
	d.goTo("/devices", "tbody tr")
	d.says("built into the service")
}

func TestADeviceIsChecked(t *testing.T) {
	d := sit(t, "mar-01")
	d.signIn()
	d.goTo("/devices/mar-01", "dl")
	d.says("leaves the device as it was")
	eval[bool](d, button)
	d.press("Check device")
	d.says("This device can be tested; what its maker forbids is done in another way.")
	assert.Equal(t, 14, eval[int](d, "[...document.querySelectorAll('tbody tr')].filter(r => r.textContent.startsWith('passed')).length"), "each step has its row")
	d.says("What its maker forbids")
	d.goTo("/devices", "tbody tr")
	d.says("mar-01: its maker forbids granting permissions")
	eval[bool](d, button)
	d.press("Pair with a phone over the network …")
	d.do(chromedp.SendKeys(css("section[aria-labelledby=pair] input"), "127.0.0.1:1"))
	eval[bool](d, "document.querySelectorAll('section[aria-labelledby=pair] input')[1].focus();true")
	d.do(chromedp.SendKeys(css("section[aria-labelledby=pair] input:focus"), "482910"))
	d.press("Pair")
	d.says("does not know how to pair")
	d.says("platform tools 30")
}

// session opens a session from outside, does something in it, and ends it; it answers its id.
func (d *desk) session(name string, do func(wd func(method, path, body string) string)) string {
	d.t.Helper()
	wd := func(method, path, body string) string {
		r, err := http.NewRequest(method, d.URL+"/webdriver/session"+path, strings.NewReader(body))
		require.NoError(d.t, err)
		r.SetBasicAuth("any", d.Key)
		resp, err := http.DefaultClient.Do(r)
		require.NoError(d.t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(d.t, err)
		return string(raw)
	}
	var opened struct {
		Value struct {
			SessionID    string
			Capabilities map[string]any
		}
	}
	require.NoError(d.t, json.Unmarshal([]byte(wd("POST", "", `{"capabilities": {"alwaysMatch": {"tessellant:build": "kelpline/android@newest", "tessellant:name": "`+name+`", "tessellant:group": "from a test", "tessellant:where": "serial=orr-01"}}}`)), &opened))
	do(func(method, path, body string) string { return wd(method, "/"+opened.Value.SessionID+path, body) })
	wd("DELETE", "/"+opened.Value.SessionID, "")
	id := opened.Value.Capabilities["tessellant:session"].(string)
	housetest.Eventually(d.t, "the session is over", func() bool {
		v, err := d.Session(d.t.Context(), d.Who, id)
		require.NoError(d.t, err)
		return v.Stage == "done"
	})
	return id
}

func TestASessionIsWatchedMarkedAndItsProgramCopied(t *testing.T) {
	d := sit(t, "orr-01", "orr-05")
	d.addContent()
	d.devicesFree()
	d.signIn()
	d.goTo("/sessions", "main pre")
	d.says("No session has been opened yet.")
	d.says("2 devices here match.")
	d.until("the program asks for the build", `document.querySelector('pre[aria-label]').textContent.includes('"tessellant:build": "kelpline/android@231"')`)
	id := d.session("looks around", func(wd func(method, path, body string) string) {
		d.until("the open session shows by itself", `document.querySelector('h1').textContent === '1 session is open.'`)
		wd("POST", "/tessellant/step", `{"name": "the list"}`)
		wd("GET", "/title", "")
	})
	d.until("and its end", `document.querySelector('tbody tr')?.textContent.includes('failed (inferred)')`)
	d.goTo("/sessions/"+id, "video")
	d.says("looks around on orr-01 failed, as far as can be seen.")
	d.says("Nobody set a verdict")
	d.says("unsupported operation")
	eval[bool](d, button)
	// What the test runner says comes as a file; one that is none is refused, with the reason.
	report := func(content string) {
		file := filepath.Join(t.TempDir(), "report.xml")
		require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
		d.do(chromedp.SetUploadFiles(css("[role=dialog] input[type=file]"), []string{file}))
	}
	d.press("Set verdict")
	report("low tide")
	d.says("Could not take in the report")
	report(`<testsuite name="shores"><testcase name="opens" time="0.1"/><testcase name="closes" time="0.1"><failure message="it stayed open"/></testcase></testsuite>`)
	d.says("it stayed open")
	// Then a person says otherwise: of one case, and of the whole.
	d.press("Set verdict")
	d.press("the session as a whole")
	d.press("shores / closes")
	d.press("skipped")
	d.press("Set to skipped")
	d.says("looks around on orr-01 passed.")
	d.press("Set verdict")
	d.press("failed")
	d.do(chromedp.SendKeys(css("[role=dialog] input:not([type=file])"), "the list is too short"))
	d.press("Set to failed")
	d.says("the list is too short")
	v, err := d.Session(t.Context(), d.Who, id)
	require.NoError(t, err)
	assert.Equal(t, verdict.Failed, v.Verdict)
	assert.Equal(t, []store.CaseVerdict{{Ordinal: 0, Verdict: verdict.Passed}, {Ordinal: 1, Verdict: verdict.Skipped}}, v.Cases)

	// It is found by its group, and from its device.
	d.goTo("/sessions?group=from%20a%20test", "tbody tr")
	d.says("looks around")
	d.goTo("/sessions?group=another", "main pre")
	d.says("No session of this group.")
	d.goTo("/devices/orr-01", "dl")
	d.says("Its newest sessions from outside")
	d.says("looks around")
}
