package main

// From outside: the way through the door, many sessions at once, the sandbox's start, and JUnit XML.

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/core/junit"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/w3c"
	device "tessellant/internal/phone"
	"tessellant/internal/phone/android"
	"tessellant/internal/remoteend"
	"tessellant/internal/sandbox"
	"tessellant/internal/standin/phone"
)

// wd is a WebDriver client.
type wd struct{ url, key, path, bearer string }

var wdHTTP = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 300}}

func (c *wd) do(method, path string, body any) (any, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequest(method, c.url+c.path+path, bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	r.SetBasicAuth("any", c.key)
	if c.bearer != "" {
		r.Header.Set("Authorization", "Bearer "+c.bearer)
	}
	resp, err := wdHTTP.Do(r)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var a struct{ Value any }
	if err := json.NewDecoder(resp.Body).Decode(&a); err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s %s: %v", method, path, a.Value)
	}
	return a.Value, nil
}

func (c *wd) open(caps map[string]any) error {
	v, err := c.do("POST", "/session", map[string]any{"capabilities": map[string]any{"alwaysMatch": caps}})
	if err == nil {
		c.path = "/session/" + v.(map[string]any)["sessionId"].(string)
	}
	return err
}

func (c *wd) find(css string) (string, error) {
	v, err := c.do("POST", "/element", map[string]string{"using": "css selector", "value": css})
	if err != nil {
		return "", err
	}
	return v.(map[string]any)[w3c.ElementKey].(string), nil
}

// noted are notes that are taken as a host takes them: what is recorded costs the same on both ways.
type noted struct {
	mu    sync.Mutex
	line  *timeline.Writer
	log   *bufio.Writer
	close func()
}

func newNoted(dir string) (*noted, error) {
	a, err := os.Create(filepath.Join(dir, "timeline.jsonl"))
	if err != nil {
		return nil, err
	}
	b, err := os.Create(filepath.Join(dir, "remote-end.log"))
	return &noted{line: timeline.NewWriter(a), log: bufio.NewWriter(b), close: func() { _ = a.Close(); _ = b.Close() }}, err
}

func (n *noted) Command(c device.Command) {
	n.mu.Lock()
	defer n.mu.Unlock()
	_, _ = n.line.Append(timeline.Event{Kind: timeline.Command, Name: c.Name, Args: c.Args, Took: c.Took.Milliseconds(), Answer: c.Answer})
}

func (n *noted) Log(line string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	_, _ = n.log.WriteString(line)
}

func (*noted) Secret(string)                                             {}
func (*noted) Step(context.Context, string) error                        { return nil }
func (*noted) BeginCase(context.Context, string) error                   { return nil }
func (*noted) EndCase(context.Context, string, string) error             { return nil }
func (*noted) Mark(string, string)                                       {}
func (*noted) Console(string, string)                                    {}
func (*noted) DeviceLog(context.Context, int64) ([]string, int64, error) { return nil, 0, nil }

// instantPhones makes so many phones of one kind.
func instantPhones(n int) (out []phone.Traits, err error) {
	fleet, err := phone.ReadFleetFile("demo/fleet.yaml", false)
	if err != nil {
		return nil, err
	}
	for i := range n {
		t := fleet[0]
		t.Serial, t.Temper = fmt.Sprintf("skerry-%03d", i+1), phone.Instant
		out = append(out, t)
	}
	return out, nil
}

// outside measures all of this file.
func outside(dir string) error {
	return errors.Join(door(dir), hundred(dir), boxStart(), reports(dir))
}

// door compares a command through the service's door with the same straight at a remote end, and through Go's bare reverse proxy.
func door(dir string) error {
	fleet, err := instantPhones(2)
	if err != nil {
		return err
	}
	d, stop, err := start(filepath.Join(dir, "door"), fleet[:1])
	if err != nil {
		return err
	}
	defer stop()
	straight, done, err := bareRemoteEnd(dir, fleet[1])
	if err != nil {
		return err
	}
	defer done()
	to, err := url.Parse(straight)
	if err != nil {
		return err
	}
	proxied, closeProxy, err := listen(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to) }, ErrorLog: nil})
	if err != nil {
		return err
	}
	defer closeProxy()
	through := &wd{url: d.url + "/webdriver", key: d.key}
	// No video: a bare remote end takes none.
	if err := through.open(map[string]any{"tessellant:recording": map[string]bool{"video": false, "log": false}}); err != nil {
		return err
	}
	bare := &wd{url: straight}
	if err := bare.open(map[string]any{}); err != nil {
		return err
	}
	clients := []*wd{through, bare, {url: proxied, path: bare.path}}
	took := make([][]time.Duration, len(clients))
	for range 1000 {
		for i, c := range clients {
			time.Sleep(5 * time.Millisecond) // until what was seen last is not trusted any more
			begin := time.Now()
			if _, err := c.do("GET", "/source", nil); err != nil {
				return err
			}
			took[i] = append(took[i], time.Since(begin))
		}
	}
	for i := range took {
		slices.Sort(took[i])
	}
	at := func(i int, p float64) time.Duration { return took[i][int(p*float64(len(took[i])-1))] }
	us := func(d time.Duration) time.Duration { return d.Round(time.Microsecond) }
	_, _ = through.do("DELETE", "", nil)
	return errors.Join(
		say("command through /webdriver ÷ straight, median", float64(at(0, .5))/float64(at(1, .5)), 1.3, "%s against %s; a bare reverse proxy %s", us(at(0, .5)), us(at(1, .5)), us(at(2, .5))),
		say("command through /webdriver ÷ straight, p99", float64(at(0, .99))/float64(at(1, .99)), 2, "%s against %s; a bare reverse proxy %s", us(at(0, .99)), us(at(1, .99)), us(at(2, .99))))
}

func listen(h http.Handler) (url string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	web := &http.Server{Handler: h}
	go func() { _ = web.Serve(l) }()
	return "http://" + l.Addr().String(), func() { _ = web.Close() }, nil
}

// bareArg makes this program a remote end over one phone, and nothing else: as a host, a process of its own.
const bareArg = "bare-remote-end"

// bareRemoteEnd starts it, over a phone of its own.
func bareRemoteEnd(dir string, t phone.Traits) (url string, stop func(), err error) {
	p, err := phone.Start(t, "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	self, err := os.Executable()
	if err != nil {
		p.Close()
		return "", nil, err
	}
	cmd := exec.Command(self, bareArg, dir, p.Address())
	cmd.Stderr = os.Stderr
	in, _ := cmd.StdinPipe()
	out, _ := cmd.StdoutPipe()
	if err := cmd.Start(); err != nil {
		p.Close()
		return "", nil, err
	}
	url, err = bufio.NewReader(out).ReadString('\n')
	return strings.TrimSpace(url), func() { _ = in.Close(); _ = cmd.Wait(); p.Close() }, err
}

// serveBare is that process: it prints its address, and ends when its input does.
func serveBare(dir, address string) error {
	ctx := context.Background()
	server, err := adb.StartServer(ctx, filepath.Join(dir, "door-adb"))
	if err != nil {
		return err
	}
	defer server.Close()
	if err := server.Connect(ctx, address); err != nil {
		return err
	}
	var d *android.Device
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if d, err = android.Open(ctx, &server.Server, address); err == nil || time.Now().After(deadline) {
			break
		}
	}
	if err != nil {
		return err
	}
	facts, err := d.Facts(ctx)
	if err != nil {
		return err
	}
	notes, err := newNoted(dir)
	if err != nil {
		return err
	}
	defer notes.close()
	url, stop, err := listen(&remoteend.Handler{Open: func(context.Context, []w3c.Capabilities) (*remoteend.Session, *w3c.Error) {
		return remoteend.New(remoteend.Config{ID: "straight", Timeouts: w3c.DefaultTimeouts(), Phone: d, Facts: facts, Notes: notes}), nil
	}})
	if err != nil {
		return err
	}
	defer stop()
	fmt.Println(url)
	_, err = io.Copy(io.Discard, os.Stdin)
	return err
}

// hundred opens a hundred sessions at once, each with ten commands a second.
func hundred(dir string) error {
	const sessions, seconds = 100, 20
	fleet, err := instantPhones(sessions)
	if err != nil {
		return err
	}
	d, stop, err := start(filepath.Join(dir, "hundred"), fleet)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := d.command("build", "add", apk); err != nil {
		return err
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	var took []time.Duration
	var failed []error
	opened := make(chan bool, sessions)
	begin := make(chan bool)
	for range sessions {
		all.Go(func() {
			c := &wd{url: d.url + "/webdriver", key: d.key}
			err := c.open(map[string]any{"tessellant:build": "kelpline/android@newest", "tessellant:recording": map[string]bool{"video": false}, "timeouts": map[string]int{"implicit": 5000}})
			var field string
			if err == nil {
				field, err = c.find("#search")
			}
			opened <- err == nil
			<-begin
			if err == nil {
				var mine []time.Duration
				mine, err = paced(c, field, seconds)
				mu.Lock()
				took = append(took, mine...)
				mu.Unlock()
			}
			if _, derr := c.do("DELETE", "", nil); derr != nil {
				err = errors.Join(err, derr)
			}
			if err != nil {
				mu.Lock()
				failed = append(failed, err)
				mu.Unlock()
			}
		})
	}
	for range sessions {
		<-opened
	}
	close(begin)
	all.Wait()
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d sessions had an error; the first: %w", len(failed), sessions, failed[0])
	}
	slices.Sort(took)
	p99 := took[len(took)*99/100]
	return say("100 sessions × 10 commands/s: p99 ÷ 100 ms", float64(p99)/float64(100*time.Millisecond), 1, "no errors in %d commands; median %s, p99 %s", len(took), median(took).Round(100*time.Microsecond), p99.Round(100*time.Microsecond))
}

// paced sends ten commands a second, as tests do: finds and reads, and now and then a tap.
func paced(c *wd, field string, seconds int) (took []time.Duration, err error) {
	time.Sleep(rand.N(100 * time.Millisecond)) // not all at the same moment
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for i := range seconds * 10 {
		begin := time.Now()
		switch i % 10 {
		case 0, 3, 6:
			_, err = c.find("#search")
		case 9:
			_, err = c.do("POST", "/element/"+field+"/click", map[string]any{})
		case 2, 5, 8:
			_, err = c.do("GET", "/element/"+field+"/enabled", nil)
		default:
			_, err = c.do("GET", "/element/"+field+"/text", nil)
		}
		if err != nil {
			return took, err
		}
		took = append(took, time.Since(begin))
		<-tick.C
	}
	return took, nil
}

// boxStart compares starting a command in the sandbox with starting it bare.
func boxStart() error {
	ctx := context.Background()
	box, err := sandbox.Probe(ctx, "")
	if err != nil {
		return err
	}
	defer box.Close()
	if box.Level != sandbox.Tight {
		return fmt.Errorf("the sandbox is not tight here: %s", box.Why)
	}
	f, err := box.Make()
	if err != nil {
		return err
	}
	defer box.Remove(f)
	var in, bare []time.Duration
	for range 51 {
		begin := time.Now()
		end, err := box.Run(ctx, sandbox.Spec{Work: f.Work, Keep: f.Keep, Command: []string{"true"}, MemoryMB: 512, Processes: 64, DiskMB: 100, Output: io.Discard})
		if err != nil || end.Code != 0 {
			return fmt.Errorf("true in the sandbox: %w, code %d", err, end.Code)
		}
		in = append(in, time.Since(begin))
		begin = time.Now()
		if err := exec.Command("true").Run(); err != nil {
			return err
		}
		bare = append(bare, time.Since(begin))
	}
	more := median(in) - median(bare)
	return say("sandbox's start over a bare one ÷ 50 ms", float64(more)/float64(50*time.Millisecond), 1, "%s against %s", median(in).Round(100*time.Microsecond), median(bare).Round(100*time.Microsecond))
}

// reports reads 100 MB of JUnit XML.
func reports(dir string) error {
	file := filepath.Join(dir, "large.xml")
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	fmt.Fprint(f, `<?xml version="1.0" encoding="UTF-8"?><testsuites><testsuite name="shores" timestamp="2026-11-20T09:30:00">`)
	size, cases := int64(0), 0
	for ; size < 100<<20; cases++ {
		n, _ := fmt.Fprintf(f, "<testcase classname=\"shore.Case%d\" name=\"opens the shore number %d\" time=\"0.25\"><failure message=\"not there\" type=\"AssertionError\">%s</failure><system-out><![CDATA[%s]]></system-out></testcase>\n",
			cases, cases, strings.Repeat("  at line 5 of shores.py\n", 12), strings.Repeat("looked for the shore in the list\n", 30))
		size += int64(n)
	}
	fmt.Fprint(f, "</testsuite></testsuites>\n")
	if err := f.Close(); err != nil {
		return err
	}
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	runtime.GC()
	debug.FreeOSMemory()
	var most uint64
	read := 0
	begin := time.Now()
	err = junit.Read(in, func(junit.Case) error {
		if read++; read%5000 == 0 {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapAlloc)
		}
		return nil
	})
	took := time.Since(begin)
	if err != nil || read != cases {
		return fmt.Errorf("%d of %d cases were read: %w", read, cases, err)
	}
	speed := float64(size) / 1e6 / took.Seconds()
	return errors.Join(say("JUnit XML: 50 MB/s ÷ what it is", 50/speed, 1, "%.0f MB/s over %d MB", speed, size>>20), say("JUnit XML: heap ÷ 64 MB", float64(most)/(64<<20), 1, "%d MB at most", most>>20))
}
