package main

// Held devices: from a tap in the browser to what it changed, frames a second, the work of eight films, the tree after the screen has come to rest, and locators.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/coder/websocket"

	"tessellant/internal/core/locators"
	"tessellant/internal/core/uitree"
	"tessellant/internal/housetest"
	"tessellant/internal/standin/phone"
)

const (
	tapTimes    = 60
	eightHeld   = 8
	watchedFor  = 10 * time.Second
	largeTree   = 2000 // elements
	keptTrees   = 500
	framesWants = 25
)

// hands measures all of this file.
func hands(dir string) error {
	return errors.Join(locatorFigures(), tapped(dir), eightWatched(dir))
}

// heldPhones are so many phones of instant temper like the demo's first.
func heldPhones(n int, restless bool) (out []phone.Traits, err error) {
	fleet, err := phone.ReadFleetFile("demo/fleet.yaml", false)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(fleet, func(t phone.Traits) bool { return t.Serial == "orr-01" })
	for k := range n {
		t := fleet[i]
		t.Serial, t.Temper, t.Restless = fmt.Sprintf("orr-%02d", k+1), phone.Instant, restless
		out = append(out, t)
	}
	return out, nil
}

// hold holds a device, and answers the hold's id.
func (d *desk) hold(serial string) (id string, err error) {
	raw, err := d.command("device", "hold", serial, "--build", "kelpline/android@newest", "--json")
	if err != nil {
		return "", fmt.Errorf("hold %s: %w", serial, err)
	}
	var h struct{ ID string }
	err = json.Unmarshal(raw, &h)
	return h.ID, err
}

// drawnCount has the page note when its canvas is drawn on.
const drawnCount = `(() => {
	window.drawn = [];
	const draw = CanvasRenderingContext2D.prototype.drawImage;
	CanvasRenderingContext2D.prototype.drawImage = function (...a) { window.drawn.push(performance.now()); return draw.apply(this, a); };
	window.middle = async (locator) => {
		for (;;) {
			const t = await (await fetch(location.pathname.replace('/hands', '/api/v1/hands') + '/tree?find=' + encodeURIComponent(locator))).json();
			if (t.found?.length !== 1) continue;
			const b = t.elements[t.found[0]].bounds, r = document.querySelector('canvas').getBoundingClientRect();
			const w = Math.max(...t.elements.map(e => e.bounds.right)), h = Math.max(...t.elements.map(e => e.bounds.bottom));
			return [r.left + (b.left + b.right) / 2 / w * r.width, r.top + (b.top + b.bottom) / 2 / h * r.height];
		}
	};
	window.addEventListener('pointerdown', e => { window.tapped = e.timeStamp; }, true);
	return true;
})()`

// tapped taps on a held screen in the browser, and waits for what that changes.
func tapped(dir string) error {
	fleet, err := heldPhones(1, false)
	if err != nil {
		return err
	}
	d, stop, err := startWith(filepath.Join(dir, "hands"), fleet, 1)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := d.command("build", "add", apk); err != nil {
		return err
	}
	id, err := d.hold("orr-01")
	if err != nil {
		return err
	}
	tab, stopTab, err := housetest.Browse()
	if err != nil {
		return err
	}
	defer stopTab()
	if err := tab.SignIn(d.url, d.key); err != nil {
		return err
	}
	if err := tab.Open(d.url+"/hands/"+id, "[role=treeitem]"); err != nil {
		return err
	}
	if _, err := housetest.Eval[bool](tab, drawnCount); err != nil {
		return err
	}
	tap := func(locator string) (ms float64, err error) {
		at, err := housetest.Eval[[]float64](tab, fmt.Sprintf("middle(%q)", locator))
		if err != nil {
			return 0, err
		}
		time.Sleep(400 * time.Millisecond) // the screen rests
		if _, err := housetest.Eval[bool](tab, "(window.drawn = [], true)"); err != nil {
			return 0, err
		}
		if err := tab.Do(chromedp.MouseClickXY(at[0], at[1])); err != nil {
			return 0, err
		}
		return housetest.Eval[float64](tab, `new Promise((done, failed) => {
			const until = performance.now() + 10000;
			const look = () => {
				const first = window.drawn.find(t => t > window.tapped);
				if (first !== undefined) return done(first - window.tapped);
				if (performance.now() > until) return failed(new Error('nothing was drawn'));
				setTimeout(look, 2);
			};
			look();
		})`)
	}
	if _, err := tap("#shore_gull-ledge"); err != nil {
		return err
	}
	var took []float64
	for i := range tapTimes {
		ms, err := tap([]string{"#show_chart", "#show_table"}[i%2])
		if err != nil {
			return err
		}
		took = append(took, ms)
	}
	slices.Sort(took)
	at := func(p float64) float64 { return took[int(p*float64(len(took)-1))] }
	err = errors.Join(
		say("tap in the browser until the first changed frame, p50", at(.5)/100, 1, "%.0f ms against 100 ms", at(.5)),
		say("the same, p95", at(.95)/200, 1, "%.0f ms against 200 ms", at(.95)))

	// The tree after the screen has come to rest.
	took = nil
	for i := range tapTimes / 2 {
		if _, err := tap([]string{"#show_chart", "#show_table"}[i%2]); err != nil {
			return err
		}
		ms, terr := housetest.Eval[float64](tab, `new Promise((done, failed) => {
			const list = document.querySelector('[role=tree]'), until = setTimeout(() => failed(new Error('the tree was not read')), 10000);
			const seen = new MutationObserver(() => { seen.disconnect(); clearTimeout(until); done(performance.now() - window.drawn.at(-1)); });
			seen.observe(list, {childList: true, subtree: true, characterData: true});
		})`)
		if terr != nil {
			return terr
		}
		took = append(took, ms)
	}
	slices.Sort(took)
	return errors.Join(err, say("tree shown after the screen's last picture, p95", at(.95)/300, 1, "%.0f ms against 300 ms, median %.0f ms", at(.95), at(.5)))
}

// watcher counts the pictures of a held device that come.
type watcher struct {
	pictures atomic.Int64
	close    func()
}

func (d *desk) watchAll(held []string) (out []*watcher, err error) {
	for _, id := range held {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		ws, _, err := websocket.Dial(ctx, strings.Replace(d.url, "http", "ws", 1)+"/api/v1/hands/"+id+"/watch", &websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + d.key}}})
		cancel()
		if err != nil {
			return out, err
		}
		ws.SetReadLimit(16 << 20)
		w := &watcher{close: func() { _ = ws.CloseNow() }}
		go func() {
			for {
				kind, _, err := ws.Read(context.Background())
				if err != nil {
					return
				}
				if kind == websocket.MessageBinary {
					w.pictures.Add(1)
				}
			}
		}()
		out = append(out, w)
	}
	return out, nil
}

// eightWatched watches eight held devices on whose screens something moves all the time.
func eightWatched(dir string) error {
	fleet, err := heldPhones(eightHeld, true)
	if err != nil {
		return err
	}
	d, stop, err := startWith(filepath.Join(dir, "eight"), fleet, eightHeld)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := d.command("build", "add", apk); err != nil {
		return err
	}
	var held []string
	for _, t := range fleet {
		id, err := d.hold(t.Serial)
		if err != nil {
			return err
		}
		held = append(held, id)
	}
	watchers, err := d.watchAll(held)
	if err != nil {
		return err
	}
	time.Sleep(3 * time.Second)
	before := cpuOf(d.pid, 11, 12)
	for _, w := range watchers {
		w.pictures.Store(0)
	}
	begin := time.Now()
	time.Sleep(watchedFor)
	after := cpuOf(d.pid, 11, 12)
	whole := time.Since(begin)
	all := int64(0)
	for _, w := range watchers {
		all += w.pictures.Load()
		w.close()
	}
	err = say("host's processor for 8 held devices that are watched", float64(after-before)/float64(whole), 1, "%.2f cores, without encoders; %.1f pictures a second each came on this machine", float64(after-before)/float64(whole), float64(all)/whole.Seconds()/eightHeld)

	// One of them alone, in a browser.
	for _, id := range held[1:] {
		if _, err := d.command("hold", "end", id); err != nil {
			return err
		}
	}
	time.Sleep(5 * time.Second) // the others are being cleaned
	alone, berr := d.watchAll(held[:1])
	if berr != nil {
		return errors.Join(err, berr)
	}
	time.Sleep(time.Second)
	alone[0].pictures.Store(0)
	time.Sleep(5 * time.Second)
	came := float64(alone[0].pictures.Load()) / 5
	alone[0].close()
	tab, stopTab, berr := housetest.Browse()
	if berr != nil {
		return errors.Join(err, berr)
	}
	defer stopTab()
	if berr := errors.Join(tab.SignIn(d.url, d.key), tab.Open(d.url+"/hands/"+held[0], "canvas")); berr != nil {
		return errors.Join(err, berr)
	}
	if _, berr := housetest.Eval[bool](tab, drawnCount); berr != nil {
		return errors.Join(err, berr)
	}
	n, berr := housetest.Eval[float64](tab, "new Promise(done => setTimeout(() => { const n = window.drawn.length; setTimeout(() => done((window.drawn.length - n) / 5), 5000); }, 1000))")
	if berr != nil {
		return errors.Join(err, berr)
	}

	return errors.Join(err, say(fmt.Sprintf("%d ÷ frames a second in the browser", framesWants), framesWants/max(n, .1), 1, "%.1f frames a second while something moves; %.1f come without a browser beside", n, came))
}

// locatorFigures finds locators of a large tree, and counts them on many.
func locatorFigures() error {
	screen := func(seed int64) *uitree.Screen {
		r := rand.New(rand.NewSource(seed))
		s := &uitree.Screen{}
		for i := 0; len(s.All()) < largeTree; i++ {
			row := &uitree.Element{Kind: "group", ID: fmt.Sprintf("row_%d", i), Enabled: true, Bounds: uitree.Rect{Right: 1080, Top: i * 20, Bottom: i*20 + 20}}
			for k := range 9 {
				row.Children = append(row.Children, &uitree.Element{Kind: []string{"text", "button", "field"}[k%3], Text: fmt.Sprint("word ", r.Intn(400)), ID: []string{"", "name", "detail"}[k%3], Enabled: true})
			}
			s.Elements = append(s.Elements, row)
		}
		return s
	}
	one := screen(1)
	var took []time.Duration
	for range 11 {
		begin := time.Now()
		x := locators.New(one)
		for _, e := range one.All() {
			_ = x.Of(e)
		}
		took = append(took, time.Since(begin))
	}
	slices.Sort(took)
	err := say("locators of a tree of 2,000 elements", float64(took[5])/float64(20*time.Millisecond), 1, "%s against 20 ms, median of 11", took[5].Round(time.Microsecond))
	var many []*locators.Index
	for i := range keptTrees {
		s := screen(int64(i))
		s.Elements = s.Elements[:8] // a screen as apps have them: some eighty elements
		many = append(many, locators.New(s))
	}
	wanted := locators.New(one).Of(one.Elements[3].Children[0])
	took = nil
	for range 11 {
		begin := time.Now()
		for _, x := range many {
			for _, l := range wanted {
				_ = x.Means(l.CSS)
			}
		}
		took = append(took, time.Since(begin))
	}
	slices.Sort(took)
	return errors.Join(err, say("counts of an element's locators over 500 kept trees", float64(took[5])/float64(200*time.Millisecond), 1, "%s against 200 ms, %d locators, median of 11", took[5].Round(time.Microsecond), len(wanted)))
}
