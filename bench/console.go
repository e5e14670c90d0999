package main

// The console's figures: a large leg opened, clicks to drawn frames, and one tile among 300.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing/fstest"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/house"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

const (
	manyTiles    = 300
	largeLegs    = 7
	manyCommands = 2000
	videoSeconds = 300
	logBytes     = 50 << 20
	clicks       = 50
)

// stall is a service in this process, with devices that nobody works on.
type stall struct {
	*service.Service
	url, key string
	who      service.Identity
	link     hostlink.Link
}

func openStall(ctx context.Context, dir string) (*stall, func(), error) {
	s := &stall{key: "tsl_a_key_for_the_benchmark"}
	h, err := house.Start(ctx, house.Config{Listen: "127.0.0.1:0", Data: dir, NoHost: true, Workspace: "bench", FirstKey: s.key, Version: "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, func() {}, err
	}
	s.Service, s.url, s.link = h.Service, h.URL, h.HostLink()
	s.who, err = s.Enter(ctx, s.key)
	return s, h.Close, err
}

// start starts a run on that many devices, and answers its holds.
func (s *stall) start(ctx context.Context, n int, cases string) (store.Run, []store.Hold, error) {
	id, err := s.Store.SeeHost(ctx, "bench")
	if err != nil {
		return store.Run{}, nil, err
	}
	for i := range n {
		f := devices.Facts{Serial: fmt.Sprintf("d-%03d", i), Platform: "android", OS: fmt.Sprint(9 + i%7), API: 28 + i%7, Maker: "Orrery", Model: "Skerry", Form: "phone", Origin: "real", Simulated: true, Width: 720, Height: 1600, Density: 280, MemoryMB: 4096, ABIs: []string{"arm64-v8a"}, Language: "en"}
		if _, err := s.Store.SeeDevice(ctx, store.Sighting{HostID: id, Host: "bench", Lab: "adb", Facts: f, State: "ready"}); err != nil {
			return store.Run{}, nil, err
		}
	}
	app, err := os.Open(apk)
	if err != nil {
		return store.Run{}, nil, err
	}
	defer app.Close()
	if _, _, err := s.AddBuild(ctx, s.who, service.Upload{Name: "kelpline.apk", Body: app, Size: -1}); err != nil {
		return store.Run{}, nil, err
	}
	var zip bytes.Buffer
	if err := testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: bench\nkind: script\n")}, "a.star": {Data: []byte(cases)}}, &zip); err != nil {
		return store.Run{}, nil, err
	}
	if _, _, err := s.AddPackage(ctx, s.who, service.Upload{Body: &zip, Size: -1}); err != nil {
		return store.Run{}, nil, err
	}
	r, _, err := s.StartRun(ctx, s.who, service.RunRequest{Build: "kelpline/android@newest", Package: "bench@newest"})
	if err != nil {
		return r, nil, err
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		holds, err := s.Store.ActiveHolds(ctx, "")
		if err != nil || len(holds) == n {
			return r, holds, err
		}
		if time.Now().After(deadline) {
			return r, nil, fmt.Errorf("%d of %d legs got their device", len(holds), n)
		}
	}
}

func consoleFigures(dir string) error {
	ctx := context.Background()
	tab, stopTab, err := housetest.Browse()
	if err != nil {
		return err
	}
	defer stopTab()
	var all error
	for _, f := range []func(context.Context, string, *housetest.Tab) error{largeLeg, mosaic, deviceTiles} {
		sub, err := os.MkdirTemp(dir, "console-")
		if err != nil {
			return err
		}
		all = errors.Join(all, f(ctx, sub, tab))
	}
	return all
}

// largeLeg opens a leg with 2,000 commands, a 50 MB log and a 5-minute video, and clicks on commands.
func largeLeg(ctx context.Context, dir string, tab *housetest.Tab) error {
	s, stop, err := openStall(ctx, dir)
	defer stop()
	if err != nil {
		return err
	}
	video := filepath.Join(dir, "video.mp4")
	if out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", fmt.Sprintf("testsrc=size=540x1200:rate=2:duration=%d", videoSeconds), "-c:v", "libx264", "-preset", "veryfast", "-bf", "0", "-crf", "28", "-g", "10",
		"-pix_fmt", "yuv420p", "-movflags", "+faststart", video).CombinedOutput(); err != nil {
		return fmt.Errorf("make a video: %w: %s", err, out)
	}
	_, holds, err := s.start(ctx, largeLegs, "def test_a(phone):\n    phone.launch()\n")
	if err != nil {
		return err
	}
	var held []string
	for _, x := range holds {
		held = append(held, x.ID)
	}
	for _, x := range holds {
		if _, err := s.link.Renew(ctx, "bench", held); err != nil {
			return err
		}
		h := hostlink.Hold{ID: x.ID, WorkspaceID: x.WorkspaceID, AttemptID: x.AttemptID}
		f, err := os.Open(video)
		if err != nil {
			return err
		}
		for _, a := range []struct {
			hostlink.Artifact
			r io.Reader
		}{{hostlink.Artifact{Name: "timeline.jsonl", Kind: "timeline", ContentType: "application/jsonl"}, longTimeline()}, {hostlink.Artifact{Name: "device.log", Kind: "device-log", ContentType: "text/plain"}, longLog()}, {hostlink.Artifact{Name: "video.mp4", Kind: "video", ContentType: "video/mp4"}, f}} {
			if err := s.link.Keep(ctx, h, a.Artifact, a.r); err != nil {
				return err
			}
		}
		_ = f.Close()
		if err := s.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}); err != nil {
			return err
		}
	}
	if err := tab.SignIn(s.url, s.key); err != nil {
		return err
	}
	// Usable: commands, the video's frame and the log's lines are there. Counted from the navigation's start; the log was never read before.
	const usable = `new Promise(done => { const look = () => {
		const v = document.querySelector('video');
		if (v && v.readyState >= 2 && document.querySelector('[id^=story-]') && document.querySelector('[id^=log-] span')) done(performance.now()); else requestAnimationFrame(look); }; look(); })`
	open := func(leg string) (time.Duration, error) {
		if err := tab.Do(chromedp.Navigate(s.url + "/legs/" + leg)); err != nil {
			return 0, err
		}
		ms, err := housetest.Eval[float64](tab, usable)
		return time.Duration(ms * float64(time.Millisecond)), err
	}
	var first, again []time.Duration
	for _, into := range []*[]time.Duration{&first, &again} {
		for _, h := range holds {
			took, err := open(h.WorkID)
			if err != nil {
				return err
			}
			*into = append(*into, took)
		}
	}
	// From a click on a command to its frame, and a bare video element going to the same moments.
	const click = `(async () => {
		const list = document.querySelector('[aria-label="What happened"]'), v = document.querySelector('video');
		const frame = (video, t) => new Promise(done => { const look = (now, m) => Math.abs(m.mediaTime - t) < 0.5 ? done(performance.now()) : video.requestVideoFrameCallback(look); video.requestVideoFrameCallback(look); });
		const times = [], moments = [];
		for (let i = 0; i < %d; i++) {
			list.scrollTop = Math.floor(Math.random() * (list.scrollHeight - list.clientHeight));
			await new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)));
			while (!list.querySelector('[role=option]')) await new Promise(r => requestAnimationFrame(r));
			const rows = [...list.querySelectorAll('[role=option]')].filter(r => { const b = r.getBoundingClientRect(), l = list.getBoundingClientRect(); return b.top > l.top && b.bottom < l.bottom && r.ariaSelected !== 'true'; });
			if (rows.length === 0) { i--; continue; }
			const row = rows[Math.floor(Math.random() * rows.length)], m = row.innerText.match(/(\d+):(\d+)\.(\d+)/), t = m[1] * 60 + +m[2] + m[3] / 1000;
			if (Math.abs(v.currentTime - t) < 0.6) { i--; continue; } // no other frame
			const start = performance.now(), drawn = frame(v, t);
			row.click();
			times.push(await drawn - start);
			moments.push(t);
		}
		const bare = document.createElement('video');
		Object.assign(bare, {src: v.src, muted: true, preload: 'auto'});
		Object.assign(bare.style, {position: 'fixed', inset: '0', width: '270px', zIndex: 99});
		document.body.append(bare);
		await new Promise(r => { bare.oncanplaythrough = r; });
		const bareTimes = [];
		for (const t of moments) {
			const start = performance.now(), drawn = frame(bare, t);
			bare.currentTime = t + 0.0005;
			bareTimes.push(await drawn - start);
		}
		bare.remove();
		return [times, bareTimes];
	})()`
	times, err := housetest.Eval[[][]float64](tab, fmt.Sprintf(click, clicks))
	if err != nil {
		return err
	}
	ms := func(list []float64) time.Duration {
		var d []time.Duration
		for _, x := range list {
			d = append(d, time.Duration(x*float64(time.Millisecond)))
		}
		return median(d)
	}
	ours, bare := ms(times[0]), ms(times[1])
	fmt.Printf("  a click ÷ a bare <video> going to the same moment: %.2f (%s against %s)\n", float64(ours)/float64(bare), ours.Round(time.Millisecond), bare.Round(time.Millisecond))
	return errors.Join(
		say("a large leg is usable, in s", median(first).Seconds(), 1, "%d commands, %d MB of log, %d s of video; median of %d that were never opened; opened again %s", manyCommands, logBytes>>20, videoSeconds, largeLegs, median(again).Round(time.Millisecond)),
		say("a click on a command to its frame, in s", ours.Seconds(), 0.15, "median of %d", clicks))
}

func longTimeline() io.Reader {
	var b bytes.Buffer
	w := timeline.NewWriter(&b)
	add := func(e timeline.Event) { _, _ = w.Append(e) }
	for i := range manyCommands {
		at := int64(i * videoSeconds * 1000 / manyCommands)
		name := fmt.Sprintf("a.test_%02d", i/100)
		if i%100 == 0 {
			if i > 0 {
				add(timeline.Event{At: at - 1, Kind: timeline.Case, Name: fmt.Sprintf("a.test_%02d", i/100-1), Verdict: "passed"})
			}
			add(timeline.Event{At: at, Kind: timeline.Case, Name: name})
		}
		add(timeline.Event{At: at, Kind: timeline.Command, Case: name, Name: "tap", Args: map[string]string{"element": "#shore_gull-ledge", "x": "393", "y": "392"}, Took: 40, Line: fmt.Sprintf("a.star:%d", i%90)})
	}
	add(timeline.Event{At: videoSeconds * 1000, Kind: timeline.Marker, Name: "clock", Args: map[string]string{"device_zero_ms": "1900000000000", "doubt_ms": "2"}})
	return &b
}

func longLog() io.Reader {
	var b strings.Builder
	b.Grow(logBytes + 1000)
	lines := logBytes / 126
	for i := 0; b.Len() < logBytes; i++ {
		ms := int64(i) * videoSeconds * 1000 / int64(lines)
		fmt.Fprintf(&b, "%15d.%03d %5d %5d %c %-16s: %s %d\n", 1900000000+ms/1000, ms%1000, 1000+i%7, 2000+i%11, "VDIWE"[i%5], fmt.Sprintf("Tag%d", i%60), "the tide comes in and the tide goes out over the ledge at", i)
	}
	return strings.NewReader(b.String())
}

// deviceTiles opens the page of 1,000 devices.
func deviceTiles(ctx context.Context, dir string, tab *housetest.Tab) error {
	s, stop, err := openStall(ctx, dir)
	defer stop()
	if err != nil {
		return err
	}
	const tiles = 1000
	id, err := s.Store.SeeHost(ctx, "bench")
	if err != nil {
		return err
	}
	for i := range tiles {
		f := devices.Facts{Serial: fmt.Sprintf("d-%04d", i), Platform: "android", OS: fmt.Sprint(9 + i%7), API: 28 + i%7, Maker: "Orrery", Model: "Skerry", Form: "phone", Origin: "real", Simulated: true, Width: 720, Height: 1600, Density: 280, MemoryMB: 4096,
			ABIs: []string{"arm64-v8a"}, Language: "en", Place: fmt.Sprint("room ", i%8)}
		if _, err := s.Store.SeeDevice(ctx, store.Sighting{HostID: id, Host: "bench", Lab: "adb", Facts: f, State: "ready"}); err != nil {
			return err
		}
	}
	if err := tab.SignIn(s.url, s.key); err != nil {
		return err
	}
	var took []time.Duration
	for range 7 {
		if err := tab.Do(chromedp.Navigate(s.url + "/devices")); err != nil {
			return err
		}
		ms, err := housetest.Eval[float64](tab, fmt.Sprintf(`new Promise(done => { const look = () => document.querySelectorAll('main li a').length === %d
			? requestAnimationFrame(() => done(performance.now())) : requestAnimationFrame(look); look(); })`, tiles))
		if err != nil {
			return err
		}
		took = append(took, time.Duration(ms*float64(time.Millisecond)))
	}
	return say("the mosaic of 1,000 devices ÷ 1 s", median(took).Seconds(), 1, "from the navigation's start until all tiles are drawn; median of %d: %s", len(took), median(took).Round(time.Millisecond))
}

// mosaic changes one leg of 300 again and again while its run is shown. It counts the
// work from the event's arrival until the tile is changed, and then that of the frame which shows it;
// not the time between the two, in which the browser waits for the screen's next turn.
func mosaic(ctx context.Context, dir string, tab *housetest.Tab) error {
	s, stop, err := openStall(ctx, dir)
	defer stop()
	if err != nil {
		return err
	}
	var cases strings.Builder
	for i := range 12 {
		fmt.Fprintf(&cases, "def test_%d(phone):\n    phone.launch()\n", i)
	}
	r, holds, err := s.start(ctx, manyTiles, cases.String())
	if err != nil {
		return err
	}
	var held []string
	for _, h := range holds {
		held = append(held, h.ID)
	}
	for n, h := range holds { // all cases are over; only the legs' ends are awaited
		for i := range 12 {
			if err := s.link.Report(ctx, hostlink.Hold{ID: h.ID}, []hostlink.Progress{{Seq: int64(i + 1), Case: &hostlink.CaseResult{Ordinal: i, Name: fmt.Sprintf("a.test_%d", i), Try: hostlink.Try{Verdict: verdict.Passed}}}}); err != nil {
				return err
			}
		}
		if n%50 == 0 {
			if _, err := s.link.Renew(ctx, "bench", held); err != nil {
				return err
			}
		}
	}
	if err := tab.SignIn(s.url, s.key); err != nil {
		return err
	}
	if err := tab.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: watchTiles})
		return err
	})); err != nil {
		return err
	}
	if err := tab.Open(s.url+"/runs/"+r.ID, "[data-leg]"); err != nil {
		return err
	}
	if n, err := housetest.Eval[int](tab, "document.querySelectorAll('[data-leg]').length"); err != nil || n != manyTiles {
		return fmt.Errorf("%d tiles are shown: %w", n, err)
	}
	const changes = 60
	for i := range changes {
		if _, err := s.link.Renew(ctx, "bench", held); err != nil {
			return err
		}
		if err := s.link.Close(ctx, hostlink.Hold{ID: holds[i*7%manyTiles].ID}, hostlink.Closing{Verdict: verdict.Passed}); err != nil {
			return err
		}
		if _, err := housetest.Eval[bool](tab, fmt.Sprintf("new Promise(done => { const look = () => repaints.length > %d ? done(true) : setTimeout(look, 20); look(); })", i)); err != nil {
			return fmt.Errorf("change %d is not seen: %w", i+1, err)
		}
	}
	work, err := housetest.Eval[[][]float64](tab, "repaints")
	if err != nil {
		return err
	}
	var script, frame, both []time.Duration
	for _, w := range work[10:] { // the first ones run code that was never run
		script = append(script, time.Duration(w[0]*float64(time.Millisecond)))
		frame = append(frame, time.Duration(w[1]*float64(time.Millisecond)))
		both = append(both, time.Duration((w[0]+w[1])*float64(time.Millisecond)))
	}
	return say(fmt.Sprintf("one changed tile of %d is repainted, in ms", manyTiles), median(both).Seconds()*1000, 16, "median of %d: %s of script, %s for the frame", len(both), median(script).Round(100*time.Microsecond), median(frame).Round(100*time.Microsecond))
}

// watchTiles notes in repaints the work of each event that changed a tile, in ms: of scripts, and of the frame after them.
const watchTiles = `
window.repaints = [];
const listen = EventSource.prototype.addEventListener;
let arrived = 0;
EventSource.prototype.addEventListener = function (kind, f, o) {
	listen.call(this, kind, kind !== 'run' ? f : e => { arrived = performance.now(); f(e); }, o);
};
new MutationObserver(all => {
	if (!arrived || !all.some(m => m.target.closest?.('[data-leg]'))) return;
	const script = performance.now() - arrived;
	arrived = 0;
	requestAnimationFrame(() => {
		const begun = performance.now(); // what is posted so comes right after the frame, before other tasks
		scheduler.postTask(() => repaints.push([script, performance.now() - begun]), {priority: 'user-blocking'});
	});
}).observe(document, {subtree: true, attributes: true, attributeFilter: ['data-verdict']});`
