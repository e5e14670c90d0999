package browserlab_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/child"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/uitree"
	"tessellant/internal/housetest"
	"tessellant/internal/lab"
	"tessellant/internal/lab/browserlab"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/phone"
	"tessellant/internal/standin/backend"
)

func TestMain(m *testing.M) { housetest.Main(m) }

// start makes the browsers of this machine a lab, whose pages may lead to some servers.
func start(t *testing.T, names map[string]string, addresses ...string) *wdlab.Lab {
	t.Helper()
	f, mistakes := labfile.Parse(fmt.Appendf(nil, "labs:\n  - name: chromium\n    kind: browser\n    addresses: [%s]\n", strings.Join(addresses, ", ")))
	require.Empty(t, mistakes)
	l, stop, err := browserlab.Start(t.Context(), browserlab.Config{Lab: f.Labs[0], Dir: t.TempDir(), Names: names, Log: housetest.Log()})
	require.NoError(t, err)
	t.Cleanup(stop)
	return l
}

// open borrows a browser for a page.
func open(t *testing.T, l *wdlab.Lab, serial, page string, set conditions.Set) *phone.Unit {
	t.Helper()
	u, err := l.Acquire(serial)
	require.NoError(t, err)
	_, err = u.Loan.Begin(t.Context(), lab.Want{Name: "test", App: phone.App{ID: "page", Page: page}, Conditions: set}, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, u.Loan.End(context.WithoutCancel(t.Context()))) })
	return u.Unit
}

// shown waits until a locator finds something.
func shown(t *testing.T, u *phone.Unit, locator string) *uitree.Element {
	t.Helper()
	var found []*uitree.Element
	housetest.Eventually(t, locator+" is shown", func() bool {
		s, err := u.Tree(t.Context())
		require.NoError(t, err)
		found, err = s.Find(locator)
		require.NoError(t, err)
		return len(found) > 0
	})
	return found[0]
}

func size(t *testing.T, raw []byte) (w, h int) {
	t.Helper()
	c, err := png.DecodeConfig(bytes.NewReader(raw))
	require.NoError(t, err)
	return c.Width, c.Height
}

func tap(t *testing.T, u *phone.Unit, locator string) {
	t.Helper()
	x, y := shown(t, u, locator).Bounds.Center()
	require.NoError(t, u.Tap(t.Context(), x, y))
}

func TestAPageIsTestedInARealBrowserOfThreeSizes(t *testing.T) {
	tides, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(tides.Close)
	l := start(t, tides.Network(), backend.Tides)
	ds, err := l.Devices(t.Context())
	require.NoError(t, err)
	require.Len(t, ds, 3)
	page := "http://" + backend.Tides + "/"
	for _, d := range ds {
		t.Run(d.Facts.Serial, func(t *testing.T) {
			assert.Equal(t, []string{"web", "Chromium", "emulated"}, []string{d.Facts.Platform, d.Facts.Maker, d.Facts.Origin})
			assert.Regexp(t, `^Chromium \d+$`, d.Facts.System())
			u := open(t, l, d.Facts.Serial, page, nil)
			ctx := t.Context()
			require.NoError(t, u.Launch(ctx, phone.App{Page: page, Args: map[string]string{"shore": "tern-rocks"}}))
			assert.Equal(t, "5.6 m", shown(t, u, "#height_0").Text)
			raw, err := u.Screenshot(ctx)
			require.NoError(t, err)
			w, h := size(t, raw)
			assert.Equal(t, []int{d.Facts.Width, d.Facts.Height}, []int{w, h}, "a picture has the device's pixels")
			feet := shown(t, u, "checkbox")
			assert.Equal(t, []any{"feet", "Heights in feet", false}, []any{feet.ID, feet.Label, feet.Checked})
			tap(t, u, "#feet")
			housetest.Eventually(t, "heights are in feet", func() bool { return shown(t, u, "#height_0").Text == "18.4 ft" })
			assert.True(t, shown(t, u, "#feet").Checked)
			covered := shown(t, u, "#remind").Bounds.Bottom > shown(t, u, "#notice").Bounds.Top
			assert.Equal(t, d.Facts.WidthDP() < 340, covered, "on narrow screens a notice lies over the last row")
			if covered {
				return
			}
			tap(t, u, "#name")
			require.NoError(t, u.Type(ctx, "Ada"))
			assert.Equal(t, "Ada", shown(t, u, "field[id=name]").Value)
			tap(t, u, "#remind")
			said := shown(t, u, "#said[text]")
			assert.Contains(t, said.Text, "We remind Ada")

			// A cleared browser knows nothing of before.
			require.NoError(t, u.Clear(ctx, "page"))
			require.NoError(t, u.Launch(ctx, phone.App{Page: page}))
			assert.Equal(t, "4.8 m", shown(t, u, "#height_0").Text, "the first shore again")
		})
	}
}

func TestABrowserIsSetAsTheRunWants(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<meta name="viewport" content="width=device-width"><p id="accepts">%s</p><p id="dark"></p><p id="size"></p><p id="touch"></p><script>
			dark.textContent = matchMedia('(prefers-color-scheme: dark)').matches; size.textContent = innerWidth + 'x' + innerHeight; touch.textContent = matchMedia('(pointer: coarse)').matches; </script>`, r.Header.Get("Accept-Language"))
	}))
	defer s.Close()
	l := start(t, nil, strings.TrimPrefix(s.URL, "http://"))
	u := open(t, l, "chromium-320", s.URL, conditions.Set{conditions.Language: "de", conditions.Dark: "on", conditions.Orientation: "landscape"})
	require.NoError(t, u.Launch(t.Context(), phone.App{Page: s.URL}))
	assert.Contains(t, shown(t, u, "#accepts").Text, "de")
	assert.Equal(t, "true", shown(t, u, "#dark").Text)
	assert.Equal(t, "568x320", shown(t, u, "#size").Text)
	assert.Equal(t, "true", shown(t, u, "#touch").Text)
}

func TestAPageLeadsOnlyWhereItMay(t *testing.T) {
	secret := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "the host's own") }))
	defer secret.Close()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Header().Set("Access-Control-Allow-Origin", "*")
		fmt.Fprintf(w, `<p id="said">waits</p><input type="file" id="file"><script>fetch(%q).then((r) => { said.textContent = r.ok ? 'reached' : 'barred' }, () => { said.textContent = 'barred' })</script>`, secret.URL)
	}))
	defer s.Close()
	l := start(t, nil, strings.TrimPrefix(s.URL, "http://"))
	u := open(t, l, "chromium-320", s.URL, nil)
	ctx := t.Context()
	require.NoError(t, u.Launch(ctx, phone.App{Page: s.URL}))
	housetest.Eventually(t, "the page was told", func() bool { return shown(t, u, "#said").Text == "barred" })
	for _, address := range []string{secret.URL, "file:///etc/passwd", "chrome://version", "http://169.254.169.254/", "view-source:" + s.URL, "javascript:1"} {
		err := u.Launch(ctx, phone.App{Page: address})
		var no *phone.Refused
		assert.True(t, errors.As(err, &no), "%s: %v", address, err)
		_, err = u.Passage.Pass(ctx, http.MethodPost, "/url", fmt.Appendf(nil, `{"url": %q}`, address))
		assert.Error(t, err, address)
	}

	// The host's files are not there for a page's file field.
	v, err := u.Passage.Pass(ctx, http.MethodPost, "/element", []byte(`{"using": "css selector", "value": "#file"}`))
	require.NoError(t, err)
	id, _ := v.(map[string]any)["element-6066-11e4-a52e-4f735466cecf"].(string)
	_, err = u.Passage.Pass(ctx, http.MethodPost, "/element/"+id+"/value", fmt.Appendf(nil, `{"text": %q}`, housetest.Root()+"/go.mod"))
	assert.ErrorContains(t, err, "invalid argument", "a file of the host is not found")

	// A page that may not be opened at all is refused before there is a session.
	other, err := l.Acquire("chromium-412")
	require.NoError(t, err)
	_, err = other.Loan.Begin(ctx, lab.Want{App: phone.App{ID: "x", Page: secret.URL}}, func(string) {})
	assert.ErrorContains(t, err, "pages may not lead to")
}

func TestABrowserThatDiesEndsItsSessionAndTheLabGoesOn(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<p id=a>here</p>") }))
	defer s.Close()
	l := start(t, nil, strings.TrimPrefix(s.URL, "http://"))
	u := open(t, l, "chromium-320", s.URL, nil)
	require.NoError(t, u.Launch(t.Context(), phone.App{Page: s.URL}))
	_, err := u.Passage.Pass(t.Context(), http.MethodDelete, "/window", nil) // the only one: Chromium ends
	require.NoError(t, err)
	housetest.Eventually(t, "the device is lost", func() bool {
		_, err := u.Tree(t.Context())
		var lost *phone.Lost
		return errors.As(err, &lost)
	})
	begin := time.Now()
	again := open(t, l, "chromium-412", s.URL, nil)
	require.NoError(t, again.Launch(t.Context(), phone.App{Page: s.URL}))
	assert.Equal(t, "here", shown(t, again, "#a").Text)
	assert.Less(t, time.Since(begin), time.Minute)
}

// TestALabOfSomebodyElsesTestsPagesAsItsFileSays has a bare chromedriver as a lab of kind webdriver: nothing but data leads to it.
func TestALabOfSomebodyElsesTestsPagesAsItsFileSays(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<meta name="viewport" content="width=device-width"><h1 id="at">%s</h1><p id="size"></p><script>size.textContent = innerWidth</script>`, r.URL.Query().Get("shore"))
	}))
	defer s.Close()
	port, err := child.FreePort()
	require.NoError(t, err)
	cmd := exec.Command("chromedriver", fmt.Sprintf("--port=%d", port), "--log-level=SEVERE")
	dir, err := os.MkdirTemp("", "tsl-") // a short name: Chromium has a socket in it
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	cmd.Env = append(os.Environ(), "TMPDIR="+dir)
	p, err := child.Start(cmd, syscall.SIGTERM)
	require.NoError(t, err)
	t.Cleanup(func() { p.Stop(5 * time.Second) }) // before the folder goes
	address := fmt.Sprintf("http://127.0.0.1:%d", port)
	require.NoError(t, p.Ready(t.Context(), 20*time.Second, func() error {
		r, err := http.Get(address + "/status")
		if err == nil {
			_ = r.Body.Close()
		}
		return err
	}))
	f, mistakes := labfile.Parse(fmt.Appendf(nil, `labs:
  - name: heron
    kind: webdriver
    address: %s
    devices: [{id: her-01, platform: android, os: "14", api: 34, maker: Orrery, model: Skerry 6, width: 720, height: 1600, density: 320}]
    session:
      capabilities: {alwaysMatch: {browserName: chrome}}
      pages:
        alwaysMatch:
          browserName: chrome
          goog:chromeOptions:
            args: [--headless=new, --no-sandbox, --hide-scrollbars, --disable-dev-shm-usage]
            mobileEmulation: {deviceMetrics: {width: "{{.Screen.Width}}", height: "{{.Screen.Height}}", pixelRatio: "{{.Screen.Scale}}", touch: true, mobile: true}}
`, address))
	require.Empty(t, mistakes)
	l, err := wdlab.New(wdlab.Config{Lab: f.Labs[0], Dir: t.TempDir(), Log: housetest.Log()})
	require.NoError(t, err)
	ds, err := l.Devices(t.Context())
	require.NoError(t, err)
	assert.True(t, ds[0].Facts.Runs("web"))
	assert.True(t, ds[0].Facts.Runs("android"))
	u := open(t, l, "her-01", s.URL, nil)
	require.NoError(t, u.Launch(t.Context(), phone.App{Page: s.URL, Args: map[string]string{"shore": "gull & ledge"}}))
	assert.Equal(t, "gull & ledge", shown(t, u, "#at").Text)
	assert.Equal(t, "360", shown(t, u, "#size").Text)
	require.NoError(t, u.Stop(t.Context(), "page"))
	housetest.Eventually(t, "the page is left", func() bool {
		s, err := u.Tree(t.Context())
		require.NoError(t, err)
		found, err := s.Find("#at")
		return err == nil && len(found) == 0
	})
}
