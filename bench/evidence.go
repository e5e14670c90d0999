package main

// What recording costs: the commands, the run, the processor; the proxy; and a leg of two hours with all of it on its page.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/har"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/proxy"
	"tessellant/internal/standin/phone"
)

// evidence measures all of them.
func evidence(dir string) error {
	tab, stop, err := housetest.Browse()
	if err != nil {
		return err
	}
	defer stop()
	return errors.Join(throughProxy(), recordings(filepath.Join(dir, "recordings")), longLeg(context.Background(), filepath.Join(dir, "long"), tab))
}

// backendWorks is how long the backend of the comparison takes for an answer, as the quickest that apps talk to do. Without any, the second hop alone doubles the time.
const backendWorks = time.Millisecond

// throughProxy compares a request through the proxy with the same straight at its server, in turns, on connections that stay open.
func throughProxy() error {
	page := bytes.Repeat([]byte(`{"tide": "ebb"}`), 100)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/works" {
			time.Sleep(backendWorks)
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(page)
	}))
	defer server.Close()
	seen := 0
	var mu sync.Mutex
	way := proxy.New(proxy.Config{Names: map[string]string{"tides.example": server.Listener.Addr().String()}, Seen: func(har.Entry) { mu.Lock(); seen++; mu.Unlock() }})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go func() { _ = way.Serve(l) }()
	defer way.Close()
	through := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: l.Addr().String()}), MaxIdleConnsPerHost: 600}}
	straight := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 600}}
	ask := func(c *http.Client, to string) (time.Duration, error) {
		start := time.Now()
		r, err := c.Get(to)
		if err != nil {
			return 0, err
		}
		defer r.Body.Close()
		_, err = io.Copy(io.Discard, r.Body)
		return time.Since(start), err
	}
	to, err := url.Parse(server.URL)
	if err != nil {
		return err
	}
	bare := httptest.NewServer(httputil.NewSingleHostReverseProxy(to))
	defer bare.Close()
	compare := func(path string) (a, b, c time.Duration, err error) {
		var took [3][]time.Duration
		for range 3000 {
			for i, x := range []struct {
				c  *http.Client
				to string
			}{{through, "http://tides.example"}, {straight, server.URL}, {straight, bare.URL}} {
				d, err := ask(x.c, x.to+path)
				if err != nil {
					return a, b, c, err
				}
				took[i] = append(took[i], d)
			}
		}
		return median(took[0]), median(took[1]), median(took[2]), nil
	}
	x, y, z, err := compare("/works")
	if err != nil {
		return err
	}
	p, q, r, err := compare("/")
	if err != nil {
		return err
	}
	fmt.Printf("  at a backend that answers with no work at all: through %s, straight %s, through Go's bare httputil.ReverseProxy %s\n", p.Round(time.Microsecond), q.Round(time.Microsecond), r.Round(time.Microsecond))
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var all sync.WaitGroup
	var bad error
	gate := make(chan bool)
	for range 500 {
		all.Go(func() {
			<-gate
			for range 10 {
				if _, err := ask(through, "http://tides.example/"); err != nil {
					mu.Lock()
					bad = err
					mu.Unlock()
				}
			}
		})
	}
	close(gate)
	all.Wait()
	runtime.ReadMemStats(&after)
	if bad != nil {
		return fmt.Errorf("500 connections at once: %w", bad)
	}
	if seen != 11_000 {
		return fmt.Errorf("%d of 11000 requests were seen", seen)
	}
	grown := float64(after.Sys-before.Sys) / (1 << 20)
	return errors.Join(
		say("a request through the proxy ÷ straight", float64(x)/float64(y), 1.5, "median of 3000 on loopback, at a backend that works for %s: %s against %s; through Go's bare httputil.ReverseProxy %s", backendWorks, x.Round(time.Microsecond), y.Round(time.Microsecond), z.Round(time.Microsecond)),
		say("500 connections at once ÷ 100 MB", grown/100, 1, "%.0f MB, of server, clients and proxy together", grown))
}

// recordings compares a suite with all recordings to the same without any.
func recordings(dir string) error {
	fleet, err := phone.ReadFleetFile("demo/fleet.yaml", false)
	if err != nil {
		return err
	}
	fleet = slices.DeleteFunc(fleet, func(t phone.Traits) bool {
		return !slices.Contains([]string{"orr-01", "orr-02", "qui-01", "emu-01"}, t.Serial)
	})
	for i := range fleet {
		fleet[i].Temper = phone.Real
	}
	d, stop, err := start(dir, fleet)
	if err != nil {
		return err
	}
	defer stop()
	if err := d.upload(); err != nil {
		return err
	}
	type side struct {
		took     []time.Duration
		run, cpu time.Duration
	}
	measure := func(record string) (s side, err error) {
		busy := own(d.pid)
		r, err := d.run("shore-suite", "--where", "platform=android", "--case", "survey.*", "--case", "tides.*", "--secret-from-env", "observer-code=KELPLINE_CODE", "--record", record)
		if err != nil {
			return s, err
		}
		s.run, s.cpu = r.Ended.Sub(r.Created), own(d.pid)-busy
		for _, l := range r.Legs {
			target := filepath.Join(dir, "fetched", l.Id)
			if _, err := d.command("leg", "fetch", l.Id, target); err != nil {
				return s, err
			}
			f, err := os.Open(filepath.Join(target, "timeline.jsonl"))
			if err != nil {
				return s, err
			}
			err = timeline.Read(f, func(e timeline.Event) error {
				if e.Kind == timeline.Command && (e.Name == "tap" || e.Name == "tree") && e.Error == "" {
					s.took = append(s.took, time.Duration(e.Took)*time.Millisecond)
				}
				return nil
			})
			if err = errors.Join(err, f.Close()); err != nil {
				return s, err
			}
		}
		return s, nil
	}
	var on, off side
	for range 2 {
		for _, x := range []struct {
			record string
			into   *side
		}{{"video:off,screenshots:off,log:off,gauges:off,network:off,trees:off", &off}, {"screenshots:commands,network:contents", &on}} {
			s, err := measure(x.record)
			if err != nil {
				return err
			}
			x.into.took, x.into.run, x.into.cpu = append(x.into.took, s.took...), x.into.run+s.run, x.into.cpu+s.cpu
		}
	}
	a, b := median(on.took), median(off.took)
	share := (on.cpu.Seconds() - off.cpu.Seconds()) / on.run.Seconds() / float64(len(fleet))
	return errors.Join(
		say("a command with all recordings ÷ without", float64(a)/float64(b), 1.2, "median of %d taps and trees on %d phones: %s against %s", len(on.took), len(fleet), a, b),
		say("a run with all recordings ÷ without", float64(on.run)/float64(off.run), 1.1, "%s against %s, collecting included", on.run.Round(time.Millisecond), off.run.Round(time.Millisecond)),
		say("processor of all recordings, a device ÷ 15 % of a core", share/0.15, 1, "%.1f %% of a core, the encoder not counted", 100*share))
}

// own is the processor time of a process without its children.
func own(pid int) time.Duration { return cpuOf(pid, 11, 12) }

const (
	longHours   = 2
	longAsked   = 50_000
	longReading = longHours * 3600
)

// longLeg opens a leg of two hours with a reading of all gauges each second and 50,000 exchanges, and moves the cursor along its axis.
func longLeg(ctx context.Context, dir string, tab *housetest.Tab) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	s, stop, err := openStall(ctx, dir)
	defer stop()
	if err != nil {
		return err
	}
	_, holds, err := s.start(ctx, largeLegs, "def test_a(phone):\n    phone.launch()\n")
	if err != nil {
		return err
	}
	var held []string
	for _, x := range holds {
		held = append(held, x.ID)
	}
	var track strings.Builder
	track.WriteString(gauges.Head())
	for i := range longReading {
		v := map[string]float64{}
		for k, g := range gauges.Table {
			v[g.Name] = 50 + 40*math.Sin(float64(i)/float64(60+k*17))
		}
		if i == longReading/3 {
			v[gauges.Memory] = 900
		}
		track.WriteString(gauges.Sample{At: int64(i) * 1000, Values: v}.Row())
	}
	var asked bytes.Buffer
	asked.WriteString(har.Head("bench"))
	for i := range longAsked {
		e := har.Entry{Kind: har.HTTP, At: int64(i) * longHours * 3_600_000 / longAsked, Time: float64(5 + i%300), Received: 900,
			Request:  har.Request{Method: "GET", URL: fmt.Sprintf("https://tides.example/shores/%d", i), HTTPVersion: "HTTP/2.0", Headers: []har.Pair{{Name: "Accept", Value: "application/json"}, {Name: "User-Agent", Value: "Kelpline/1"}}},
			Response: har.Response{Status: []int{200, 200, 200, 200, 200, 200, 200, 200, 200, 503}[i%10], Content: har.Content{Size: 900, MimeType: "application/json", Text: strings.Repeat("tide ", 150)}}}
		line, err := e.Line(i == 0)
		if err != nil {
			return err
		}
		asked.Write(line)
	}
	asked.WriteString(har.Tail)
	var story bytes.Buffer
	w := timeline.NewWriter(&story)
	for i := range manyCommands {
		_, _ = w.Append(timeline.Event{At: int64(i) * longHours * 3_600_000 / manyCommands, Kind: timeline.Command, Case: "a.test_a", Name: "tap", Args: map[string]string{"element": "#a"}, Took: 40})
	}
	_, _ = w.Append(timeline.Event{At: longHours * 3_600_000, Kind: timeline.Marker, Name: "end"})
	for _, x := range holds {
		if _, err := s.link.Renew(ctx, "bench", held); err != nil {
			return err
		}
		h := hostlink.Hold{ID: x.ID, WorkspaceID: x.WorkspaceID, AttemptID: x.AttemptID}
		for name, body := range map[string]io.Reader{"timeline.jsonl": bytes.NewReader(story.Bytes()), "gauges.csv": strings.NewReader(track.String()), "network.har": bytes.NewReader(asked.Bytes())} {
			kind := map[string]string{"timeline.jsonl": "timeline", "gauges.csv": "gauges", "network.har": "network"}[name]
			if err := s.link.Keep(ctx, h, hostlink.Artifact{Name: name, Kind: kind, ContentType: "text/plain"}, body); err != nil {
				return err
			}
		}
		if err := s.link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}); err != nil {
			return err
		}
	}
	if err := tab.SignIn(s.url, s.key); err != nil {
		return err
	}
	// Commands, the lane of the memory and that of the network, and rows of the list of exchanges are there.
	const usable = `new Promise(done => { const look = () => {
		const lanes = document.querySelectorAll('[data-axis]').length && [...document.querySelectorAll('svg g path')].filter(p => (p.getAttribute('d') ?? '').length > 2000).length;
		if (lanes >= 3 && document.querySelector('[id^=story-]') && document.querySelector('[id^=net-] span')) done(performance.now()); else requestAnimationFrame(look); }; look(); })`
	var took []time.Duration
	for _, h := range holds {
		if err := tab.Do(chromedp.Navigate(s.url + "/legs/" + h.WorkID + "?more=network")); err != nil {
			return err
		}
		ms, err := housetest.Eval[float64](tab, usable)
		if err != nil {
			return err
		}
		took = append(took, time.Duration(ms*float64(time.Millisecond)))
	}
	const moves = `(async () => {
		const at = document.querySelector('[aria-label="Moment of the attempt"] input[type=range]');
		const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;
		let frames = 0; const start = performance.now();
		while (performance.now() - start < 3000) {
			set.call(at, String(Math.floor(Number(at.max) * ((performance.now() - start) / 3000))));
			at.dispatchEvent(new Event('input', {bubbles: true})); at.dispatchEvent(new Event('change', {bubbles: true}));
			await new Promise(r => requestAnimationFrame(r)); frames++;
		}
		return frames / 3;
	})()`
	var sweeps []float64
	for range 5 {
		frames, err := housetest.Eval[float64](tab, moves)
		if err != nil {
			return err
		}
		sweeps = append(sweeps, frames)
	}
	slices.Sort(sweeps)
	frames := sweeps[len(sweeps)/2]
	return errors.Join(
		say("a leg of 2 h with 50,000 exchanges is usable, in s", median(took).Seconds(), 1, "%d readings of %d gauges, %d MB of network log; median of %d that were never opened", longReading, len(gauges.Table), asked.Len()>>20, len(took)),
		say("50 frames a second ÷ those while the cursor moves", 50/frames, 1, "%.0f frames a second; median of %d sweeps, from %.0f to %.0f", frames, len(sweeps), sweeps[0], sweeps[len(sweeps)-1]))
}
