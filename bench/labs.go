package main

// Labs: the way to a device of a lab, many sessions at once there, a long catalogue, and the facts of an IPA.

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/appfile"
	list "tessellant/internal/core/catalogue"
	"tessellant/internal/core/labfile"
	"tessellant/internal/host"
	"tessellant/internal/hostlink"
	"tessellant/internal/house"
	"tessellant/internal/lab"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/standin/backend"
	"tessellant/internal/standin/cloudlab"
	"tessellant/internal/standin/ipa"
)

// labs measures all of this file.
func labs(dir string) error { return errors.Join(atALab(dir), catalogueOf(dir), factsOfIPA(dir)) }

const (
	cloudKey = "key-of-the-benchmark"
	// answerTakes is how long the cloud takes for each answer besides its work: it is elsewhere.
	answerTakes = 20 * time.Millisecond
)

// cloud starts the simulated cloud with so many phones like one of its own, and writes a lab file that leads to it.
func cloud(dir string, phones int) (c *cloudlab.Cloud, file string, stop func(), err error) {
	f, err := cloudlab.ReadFile("demo/cloud.yaml")
	if err != nil {
		return nil, "", nil, err
	}
	like := f.Phones[0]
	f.Phones, f.AtOnce = nil, phones
	for i := range phones {
		like.ID = fmt.Sprintf("her-%03d", i+1)
		f.Phones = append(f.Phones, like)
	}
	back, err := backend.Start("127.0.0.1:0")
	if err != nil {
		return nil, "", nil, err
	}
	c, err = cloudlab.Start(cloudlab.Config{File: f, Key: cloudKey, Instant: true, Slower: answerTakes, Network: back.Network(), System: back.Certificate})
	if err != nil {
		back.Close()
		return nil, "", nil, err
	}
	stop = func() { c.Close(); back.Close() }
	raw, err := os.ReadFile("demo/labs.yaml")
	if err != nil {
		return nil, "", stop, err
	}
	text, _, _ := strings.Cut(strings.ReplaceAll(string(raw), "http://127.0.0.1:7492", c.URL()), "  - name: browsers")
	file = filepath.Join(dir, "labs.yaml")
	return c, file, stop, os.WriteFile(file, []byte(text), 0o600)
}

// atALab compares a command to a device of a lab with the same straight at the lab, and opens fifty sessions at once.
func atALab(dir string) error {
	const sessions, seconds = 50, 20
	c, file, closeCloud, err := cloud(dir, sessions+1)
	if err != nil {
		return err
	}
	defer closeCloud()
	if err := os.Setenv("HERON_KEY", cloudKey); err != nil {
		return err
	}
	d, stop, err := startWith(filepath.Join(dir, "labs"), nil, sessions+1, "--labs", file)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := d.command("build", "add", apk); err != nil {
		return err
	}
	through := &wd{url: d.url + "/webdriver", key: d.key}
	if err := through.open(map[string]any{"tessellant:build": "kelpline/android@newest", "tessellant:where": []string{"serial=her-001"}, "tessellant:recording": map[string]bool{"video": false, "log": false}}); err != nil {
		return err
	}
	straight := &wd{url: c.URL() + "/wd", bearer: cloudKey}
	if err := straight.open(map[string]any{"heron:device": "her-002"}); err != nil {
		return err
	}
	clients := []*wd{through, straight}
	took := make([][]time.Duration, len(clients))
	for range 1000 {
		for i, x := range clients {
			time.Sleep(5 * time.Millisecond)
			begin := time.Now()
			if _, err := x.do("GET", "/source", nil); err != nil {
				return err
			}
			took[i] = append(took[i], time.Since(begin))
		}
	}
	_, _ = through.do("DELETE", "", nil)
	_, _ = straight.do("DELETE", "", nil)
	for i := range took {
		slices.Sort(took[i])
	}
	at := func(i int, p float64) time.Duration { return took[i][int(p*float64(len(took[i])-1))] }
	us := func(d time.Duration) time.Duration { return d.Round(time.Microsecond) }
	err = errors.Join(
		say("command to a lab's device ÷ straight at the lab, median", float64(at(0, .5))/float64(at(1, .5)), 1.3, "%s against %s", us(at(0, .5)), us(at(1, .5))),
		say("command to a lab's device ÷ straight at the lab, p99", float64(at(0, .99))/float64(at(1, .99)), 2, "%s against %s", us(at(0, .99)), us(at(1, .99))))

	var all sync.WaitGroup
	var mu sync.Mutex
	var failed []error
	commands := 0
	begin := time.Now()
	for range sessions {
		all.Go(func() {
			x := &wd{url: d.url + "/webdriver", key: d.key}
			err := x.open(map[string]any{"tessellant:build": "kelpline/android@newest", "tessellant:recording": map[string]bool{"video": false}})
			for end := time.Now().Add(seconds * time.Second); err == nil && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
				if _, err = x.do("GET", "/source", nil); err == nil {
					mu.Lock()
					commands++
					mu.Unlock()
				}
			}
			if err == nil {
				_, err = x.do("DELETE", "", nil)
			}
			if err != nil {
				mu.Lock()
				failed = append(failed, err)
				mu.Unlock()
			}
		})
	}
	all.Wait()
	detail := fmt.Sprintf("%d commands in %s", commands, time.Since(begin).Round(time.Second))
	if len(failed) > 0 {
		detail = failed[0].Error()
	}
	return errors.Join(err, say("errors of 50 sessions at once at a lab", float64(len(failed)), 0, "%s", detail))
}

// catalogueOf takes a catalogue of 10,000 devices over: asked, read, told by the host, kept by the service.
func catalogueOf(dir string) error {
	const many = 10_000
	var c list.Catalogue
	for i := range many {
		c.Devices = append(c.Devices, list.Device{ID: fmt.Sprintf("c-%05d", i), Platform: "android", OS: "14", API: 34, Maker: "Orrery", Model: fmt.Sprintf("Skerry %d", i%90), Form: "phone", Width: 1080, Height: 2400, Density: 420, MemoryMB: 8192, ABIs: []string{"arm64-v8a"}, Language: "en"})
	}
	raw, err := c.JSON()
	if err != nil {
		return err
	}
	url, closeList, err := listen(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(raw) }))
	if err != nil {
		return err
	}
	defer closeList()
	f, mistakes := labfile.Parse(fmt.Appendf(nil, "labs:\n  - name: long\n    kind: webdriver\n    address: %s\n    catalogue: {address: %s/c, every: 24h}\n    session: {capabilities: {alwaysMatch: {d: \"{{.Device.ID}}\"}}}\n", url, url))
	if len(mistakes) > 0 {
		return mistakes[0]
	}
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	h, err := house.Start(ctx, house.Config{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "catalogue"), NoHost: true, Workspace: "main", Version: "bench", Log: quiet})
	if err != nil {
		return err
	}
	defer h.Close()
	l, err := wdlab.New(wdlab.Config{Lab: f.Labs[0], Dir: filepath.Join(dir, "catalogue", "labs"), Log: quiet})
	if err != nil {
		return err
	}
	link := &told{Link: h.HostLink(), all: make(chan bool)}
	beside := host.New(host.Config{Name: "bench-1", Dir: filepath.Join(dir, "catalogue", "host"), Link: link, Labs: []lab.Maker{wdlab.Maker(l)}, Log: quiet})
	if err := beside.Begin(); err != nil {
		return err
	}
	begin := time.Now()
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	all.Go(func() { _ = beside.Run(ctx) })
	select {
	case <-link.all:
	case <-time.After(time.Minute):
		return errors.New("after a minute the devices were not taken over")
	}
	took := time.Since(begin)
	return say("taking over a catalogue of 10,000 devices ÷ 1 s", took.Seconds(), 1, "%d kB of JSON, asked, read, told and kept in %s", len(raw)>>10, took.Round(time.Millisecond))
}

// told is the way to the service, which says when all devices were told and kept.
type told struct {
	hostlink.Link
	all  chan bool
	once sync.Once
}

// Devices implements hostlink.Work.
func (t *told) Devices(ctx context.Context, name string, about hostlink.About, seen []hostlink.Seen) ([]string, error) {
	out, err := t.Link.Devices(ctx, name, about, seen)
	if err == nil && len(seen) > 0 {
		t.once.Do(func() { close(t.all) })
	}
	return out, err
}

// factsOfIPA reads the facts of an IPA of 150 MB, in process.
func factsOfIPA(dir string) error {
	f, err := cloudlab.ReadFile("demo/cloud.yaml")
	if err != nil {
		return err
	}
	a, err := ipa.Kelpline("demo/kelpline", "1.8.0", "231", f.UDIDs())
	if err != nil {
		return err
	}
	small, err := ipa.Build(a)
	if err != nil {
		return err
	}
	in, err := zip.NewReader(bytes.NewReader(small), int64(len(small)))
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "big.ipa")
	out, err := os.Create(path)
	if err != nil {
		return err
	}
	defer out.Close()
	z := zip.NewWriter(out)
	app := ""
	for _, x := range in.File {
		if err := z.Copy(x); err != nil {
			return err
		}
		if i := strings.Index(x.Name, ".app/"); i > 0 {
			app = x.Name[:i+5]
		}
	}
	w, err := z.CreateHeader(&zip.FileHeader{Name: app + "big.bin", Method: zip.Store})
	if err != nil {
		return err
	}
	if _, err := io.CopyN(w, rand.Reader, 150<<20); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	st, err := out.Stat()
	if err != nil {
		return err
	}
	var took []time.Duration
	for range 101 {
		begin := time.Now()
		facts, err := appfile.Read(out, st.Size())
		if err != nil || facts.IOS == nil {
			return fmt.Errorf("the IPA could not be read: %w", err)
		}
		took = append(took, time.Since(begin))
	}
	m := median(took)
	return say("facts of a 150 MB IPA ÷ 10 ms", m.Seconds()/0.01, 1, "median of 101, in process: %s", m.Round(10*time.Microsecond))
}
