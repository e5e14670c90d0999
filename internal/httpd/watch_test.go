package httpd_test

// A held device as it is watched and touched over a WebSocket; and what is done on it by single requests.

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/access"
	"tessellant/internal/core/timeline"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

// page is a browser's page that watches a device.
type page struct {
	t  *testing.T
	ws *websocket.Conn

	mu    sync.Mutex
	kinds string // of what was shown
	told  []api.LiveTold
	end   error
}

// watch opens a page with a key.
func (o *outside) watch(id, key string) *page {
	o.t.Helper()
	ws, _, err := websocket.Dial(o.t.Context(), strings.Replace(o.URL, "http", "ws", 1)+"/api/v1/hands/"+id+"/watch", &websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + key}}})
	require.NoError(o.t, err)
	ws.SetReadLimit(16 << 20)
	p := &page{t: o.t, ws: ws}
	o.t.Cleanup(func() { _ = ws.CloseNow() })
	go func() {
		for {
			kind, data, err := ws.Read(context.Background())
			p.mu.Lock()
			if err != nil {
				p.end = err
				p.mu.Unlock()
				return
			}
			if kind == websocket.MessageText {
				var told api.LiveTold
				as := json.NewDecoder(bytes.NewReader(data))
				as.DisallowUnknownFields() // it is as the contract says
				assert.NoError(o.t, as.Decode(&told), string(data))
				p.told = append(p.told, told)
			} else if len(p.kinds) < 10_000 {
				p.kinds += string(data[0])
			}
			p.mu.Unlock()
		}
	}()
	return p
}

// does says what a person does.
func (p *page) does(what any) {
	p.t.Helper()
	raw, err := json.Marshal(what)
	require.NoError(p.t, err)
	require.NoError(p.t, p.ws.Write(p.t.Context(), websocket.MessageText, raw))
}

func (p *page) until(what string, is func(told []api.LiveTold, kinds string) bool) {
	p.t.Helper()
	housetest.Eventually(p.t, what, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return is(p.told, p.kinds)
	})
}

// problem waits until the page is told of one.
func (p *page) problem(why string) {
	p.t.Helper()
	p.until("it is told: "+why, func(told []api.LiveTold, _ string) bool {
		for _, x := range told {
			if x.Problem != nil && strings.Contains(x.Problem.Why, why) {
				return true
			}
		}
		return false
	})
}

// hand waits until the device is in somebody's hand.
func (p *page) hand(name string, mine bool) {
	p.t.Helper()
	p.until("it is in the hand of "+name, func(told []api.LiveTold, _ string) bool {
		for i := len(told) - 1; i >= 0; i-- {
			if h := told[i].Hand; h != nil {
				return h.Name == name && h.Mine == mine
			}
		}
		return false
	})
}

// on gives the middle of an element of the screen, as parts of it.
func (o *outside) on(id, locator string) (x, y float64) {
	o.t.Helper()
	housetest.Eventually(o.t, locator+" is on the screen", func() bool {
		r, err := o.GetHeldTreeWithResponse(o.t.Context(), id, &api.GetHeldTreeParams{Find: &locator})
		if err != nil || r.JSON200 == nil || len(*r.JSON200.Found) != 1 {
			return false
		}
		var w, h int
		for _, e := range r.JSON200.Elements {
			w, h = max(w, e.Bounds.Right), max(h, e.Bounds.Bottom)
		}
		b := r.JSON200.Elements[(*r.JSON200.Found)[0]].Bounds
		x, y = float64(b.Left+b.Right)/2/float64(w), float64(b.Top+b.Bottom)/2/float64(h)
		return true
	})
	return x, y
}

func finger(x, y float64) m { return m{"fingers": []m{{"id": 1, "x": x, "y": y}}} }

// taps taps there.
func (p *page) taps(x, y float64) {
	p.t.Helper()
	p.does(finger(x, y))
	p.does(m{"fingers": []m{}})
}

func TestAHeldDeviceIsWatchedAndTouched(t *testing.T) {
	for _, serial := range []string{"orr-01", "fen-01"} { // one that follows fingers, and one that does what they did when they lift
		t.Run(serial, func(t *testing.T) {
			o := openOutside(t, serial)
			h := o.hold(api.HoldRequest{Device: &serial, Build: ptr("kelpline/android@newest")})
			o.until(h.Id, api.HoldStageRunning)
			p := o.watch(h.Id, o.Key)
			p.hand("first key", true)
			p.until("the film comes, from a picture that needs none before it", func(told []api.LiveTold, kinds string) bool { return strings.HasPrefix(kinds, "rk") })

			// A tap, then text, then a key; all in order.
			x, y := o.on(h.Id, "#search")
			p.taps(x, y)
			o.on(h.Id, "#search[focused=true]")
			p.does(m{"text": "Te"})
			p.does(m{"text": "rn"})
			o.on(h.Id, `#search[value="Tern"]`)
			x, y = o.on(h.Id, "#shore_tern-rocks")
			p.taps(x, y)
			o.on(h.Id, "#show_chart")
			p.until("what has changed is shown", func(_ []api.LiveTold, kinds string) bool { return strings.Count(kinds, "p") >= 2 })

			// Single pictures, where no film can be shown.
			p.does(m{"picture": "single"})
			p.until("single pictures come", func(_ []api.LiveTold, kinds string) bool { return strings.HasSuffix(kinds, "j") })

			// Others watch; one takes it, fingers of who had it lift.
			viewer := o.key("viewer", access.Viewer)
			w := o.watch(h.Id, viewer)
			w.hand("first key", false)
			w.does(finger(0.5, 0.5))
			w.problem("your key may watch, and no more")
			e := o.watch(h.Id, o.key("ada", access.Engineer))
			e.hand("first key", false)
			p.does(finger(0.5, 0.9))
			e.does(m{"take": true})
			e.hand("ada", true)
			p.hand("ada", false)
			w.hand("ada", false)
			p.does(finger(0.1, 0.1)) // it is told again who has it, and nothing is done
			e.does(m{"text": "hunter2", "secret": true})
			e.does(m{"text": "Küste"})
			e.problem("'ü'")
			e.does(m{"keys": []string{"nix"}})
			e.problem(`no key "nix"`)
			e.does(finger(7, 0.1))
			e.problem("beside it")
			e.does("nonsense")
			e.problem("can't be read")
			require.NoError(t, e.ws.Write(t.Context(), websocket.MessageText, make([]byte, 70<<10)))
			housetest.Eventually(t, "who sends too much is cut off", func() bool {
				e.mu.Lock()
				defer e.mu.Unlock()
				return e.end != nil
			})
			p.hand("first key", true) // who asked for the hold gets it back

			// A way that is cut costs nothing: who comes again has it in hand as before.
			p.does(finger(0.5, 0.9))
			_ = p.ws.CloseNow()
			w.hand("", false)
			p = o.watch(h.Id, o.Key)
			p.hand("first key", true)
			p.until("the film comes anew", func(_ []api.LiveTold, kinds string) bool { return strings.HasPrefix(kinds, "rk") })

			// In the middle of a drag the device is given back.
			p.does(finger(0.5, 0.2))
			p.does(finger(0.5, 0.4))
			_, err := o.EndHoldWithResponse(t.Context(), h.Id)
			require.NoError(t, err)
			o.until(h.Id, api.HoldStageDone)
			housetest.Eventually(t, "the page is told", func() bool {
				p.mu.Lock()
				defer p.mu.Unlock()
				return p.end != nil
			})
			assert.Contains(t, p.end.Error(), "the device is given back")

			typed, taps := []string{}, 0
			for _, e := range o.events(h.Id) {
				switch {
				case e.Kind == timeline.Command && e.Name == "type":
					typed = append(typed, e.Args["text"])
				case e.Kind == timeline.Command && e.Name == "tap":
					taps++
				}
			}
			assert.Equal(t, "Tern•••••••Küste", strings.Join(typed, ""), "a secret is not kept")
			assert.GreaterOrEqual(t, taps, 2)
		})
	}
}

// key makes a key of the workspace.
func (o *outside) key(name string, role access.Role) string {
	o.t.Helper()
	_, shown, err := o.Service.AddKey(o.t.Context(), o.Who, service.NewKeyRequest{Name: name, Role: role, Workspace: o.Who.Workspace})
	require.NoError(o.t, err)
	return shown
}

func TestOnlyWhoMayWatchesAHeldDevice(t *testing.T) {
	o := openOutside(t, "orr-01")
	h := o.hold(api.HoldRequest{Device: ptr("orr-01")})
	o.until(h.Id, api.HoldStageRunning)
	try := func(header http.Header, id string) (int, string) {
		_, resp, err := websocket.Dial(t.Context(), strings.Replace(o.URL, "http", "ws", 1)+"/api/v1/hands/"+id+"/watch", &websocket.DialOptions{HTTPHeader: header})
		require.Error(t, err)
		require.NotNil(t, resp)
		defer resp.Body.Close()
		raw := make([]byte, 2000)
		n, _ := resp.Body.Read(raw)
		return resp.StatusCode, string(raw[:n])
	}
	with := func(key string) http.Header { return http.Header{"Authorization": {"Bearer " + key}} }
	code, _ := try(nil, h.Id)
	assert.Equal(t, http.StatusUnauthorized, code)
	foreign := with(o.Key)
	foreign.Set("Origin", "http://elsewhere.example")
	code, _ = try(foreign, h.Id)
	assert.Equal(t, http.StatusForbidden, code, "no page of another site")
	_, err := o.Service.AddWorkspace(t.Context(), "others")
	require.NoError(t, err)
	_, shown, err := o.Service.AddKey(t.Context(), o.Who, service.NewKeyRequest{Name: "x", Role: access.Owner, Workspace: "others"})
	require.NoError(t, err)
	code, said := try(with(shown), h.Id)
	assert.Equal(t, http.StatusNotFound, code, said)
	code, said = try(with(o.Key), "nix")
	assert.Equal(t, http.StatusNotFound, code)
	assert.Contains(t, said, "there is no hold")
	r, err := o.WatchHeldWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, r.StatusCode())
	assert.Contains(t, string(r.Body), "does not ask for a WebSocket")

	// A key that ends ends what it watches.
	k, shown, err := o.Service.AddKey(t.Context(), o.Who, service.NewKeyRequest{Name: "short", Role: access.Engineer, Workspace: o.Who.Workspace})
	require.NoError(t, err)
	p := o.watch(h.Id, shown)
	p.hand("", false)
	require.NoError(t, o.Service.RemoveKey(t.Context(), o.Who, k.ID))
	housetest.Eventually(t, "it is cut off", func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.end != nil
	})

	// Too many are told so.
	for range 20 {
		o.watch(h.Id, o.Key)
	}
	code, said = try(with(o.Key), h.Id)
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	assert.Contains(t, said, "as many people watch as may")
}

func TestWhatIsDoneOnAHeldDevice(t *testing.T) {
	o := openOutside(t, "orr-01")
	h := o.hold(api.HoldRequest{Device: ptr("orr-01"), Build: ptr("kelpline/android@newest")})
	o.until(h.Id, api.HoldStageRunning)
	do := func(d api.Deed) (int, string) {
		r, err := o.DoOnHeldWithResponse(t.Context(), "orr-01", d)
		require.NoError(t, err)
		return r.StatusCode(), string(r.Body)
	}
	does := func(d api.Deed) {
		t.Helper()
		code, said := do(d)
		require.Equal(t, http.StatusNoContent, code, said)
	}
	does(api.Deed{Do: api.DeedType, Locator: ptr("#search"), Text: ptr("Tern")})
	o.on(h.Id, `#search[value="Tern"]`)
	does(api.Deed{Do: api.DeedPress, Key: ptr("back")})
	does(api.Deed{Do: api.DeedTap, Locator: ptr("#shore_tern-rocks")})
	o.on(h.Id, "#show_chart")
	does(api.Deed{Do: api.DeedTap, X: ptr(200), Y: ptr(1200), Ms: ptr(600)})
	does(api.Deed{Do: api.DeedSwipe, X: ptr(200), Y: ptr(1200), ToX: ptr(200), ToY: ptr(400)})
	does(api.Deed{Do: api.DeedRotate, Orientation: ptr("landscape")})
	does(api.Deed{Do: api.DeedRotate, Orientation: ptr("portrait")})
	does(api.Deed{Do: api.DeedSet, Conditions: &map[string]string{"dark": "on", "font-scale": "1.3", "location": "54.1,8.2"}})
	does(api.Deed{Do: api.DeedKeep, Name: ptr("as it is")})
	raw := []byte("a file")
	does(api.Deed{Do: api.DeedPut, Path: ptr("/sdcard/Download/a.txt"), Content: &raw})
	does(api.Deed{Do: api.DeedStop})
	does(api.Deed{Do: api.DeedClear})
	does(api.Deed{Do: api.DeedLaunch})
	does(api.Deed{Do: api.DeedPress, Key: ptr("recent")})
	does(api.Deed{Do: api.DeedPress, Key: ptr("power")})
	does(api.Deed{Do: api.DeedPress, Key: ptr("power")})
	apps, err := o.GetHeldAppsWithResponse(t.Context(), "orr-01")
	require.NoError(t, err)
	require.NotNil(t, apps.JSON200, string(apps.Body))
	assert.Equal(t, []api.HeldApp{{App: "org.kelpline.app", Version: ptr("231")}}, apps.JSON200.Apps)
	does(api.Deed{Do: api.DeedRemove, App: ptr("org.kelpline.app")})
	apps, err = o.GetHeldAppsWithResponse(t.Context(), "orr-01")
	require.NoError(t, err)
	assert.Empty(t, apps.JSON200.Apps)
	does(api.Deed{Do: api.DeedInstall})
	pic, err := o.GetHeldPictureWithResponse(t.Context(), "orr-01")
	require.NoError(t, err)
	assert.Equal(t, "\x89PNG", string(pic.Body[:4]))
	for want, d := range map[string]api.Deed{
		"it needs x and y, or a locator":     {Do: api.DeedTap},
		"to_x and to_y":                      {Do: api.DeedSwipe, X: ptr(1), Y: ptr(1)},
		"it needs a text":                    {Do: api.DeedType},
		"nothing on the screen is #nix":      {Do: api.DeedTap, Locator: ptr("#nix")},
		"elements on the screen are *":       {Do: api.DeedTap, Locator: ptr("*")},
		"there is no key":                    {Do: api.DeedPress, Key: ptr("nix")},
		"an orientation is portrait":         {Do: api.DeedRotate},
		"there is no condition":              {Do: api.DeedSet, Conditions: &map[string]string{"nix": "1"}},
		"was not installed for this session": {Do: api.DeedRemove, App: ptr("com.android.systemui")},
		"there is no build":                  {Do: api.DeedInstall, Build: ptr("nix@newest")},
		"can't be used":                      {Do: api.DeedTap, Locator: ptr("[[")},
		"nothing is called \"dance\" that":   {Do: "dance"},
	} {
		code, said := do(d)
		assert.GreaterOrEqual(t, code, 400, want)
		assert.Contains(t, said, strings.ReplaceAll(want, `"`, `\"`))
	}
	steps := 0
	for _, e := range o.events(h.Id) {
		if e.Kind == timeline.Step && e.Name == "as it is" && e.File != "" {
			steps++
		}
	}
	assert.Equal(t, 1, steps)
	_, err = o.EndHoldWithResponse(t.Context(), h.Id)
	require.NoError(t, err)
	o.until(h.Id, api.HoldStageDone)
	code, said := do(api.Deed{Do: api.DeedLaunch})
	assert.Equal(t, http.StatusNotFound, code, said)
}
