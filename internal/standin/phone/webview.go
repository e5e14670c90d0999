package phone

// Web views: a real headless Chromium for each, drawn into the phone's screen, which listens for the DevTools protocol where Android's web views do: on a socket of
// the phone's own. It reaches the network as the phone's apps do, and sees no files of the machine that the phone is simulated on.

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/coder/websocket"

	"tessellant/internal/standin/adbd"
	"tessellant/internal/standin/app"
)

const (
	chromiumWakes = 30 * time.Second
	lastGoes      = 5 * time.Second // the last of a browser's processes, after the first
	maxFrame      = 16 << 20        // bytes of a picture of it
)

// webView is one. It implements app.Page.
type webView struct {
	p       *Phone
	proc    *process
	changed func()
	w, h    int // px
	url     string
	ctx     context.Context
	cancel  context.CancelFunc
	orders  chan order
	port    string // of its DevTools; "": it does not listen yet

	mu  sync.Mutex
	img image.Image
}

// order is a command of the DevTools protocol.
type order struct {
	method string
	params any
}

// openWeb opens one for an app, under mu.
func (p *Phone) openWeb(proc *process, address string, w, h int, changed func()) app.Page {
	ctx, cancel := context.WithCancel(proc.gone)
	v := &webView{p: p, proc: proc, url: address, w: w, h: h, changed: changed, ctx: ctx, cancel: cancel, orders: make(chan order, 200)}
	p.webs[v] = true
	p.running.Go(func() {
		defer cancel()
		err := v.run()
		p.mu.Lock()
		delete(p.webs, v)
		p.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			p.log("main", proc.pid, 'E', "chromium", "[ERROR:aw_browser_terminator.cc] Renderer process crash detected: %v", err)
		}
	})
	return v
}

// Picture implements app.Page.
func (v *webView) Picture() image.Image {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.img
}

// Close implements app.Page.
func (v *webView) Close() { v.cancel() }

func (v *webView) do(method string, params any) {
	select {
	case v.orders <- order{method, params}:
	default:
	}
}

func (v *webView) scale() float64 { return float64(v.p.density()) / 160 }

// Tap implements app.Page.
func (v *webView) Tap(x, y int) {
	for _, kind := range []string{"mousePressed", "mouseReleased"} {
		v.do("Input.dispatchMouseEvent", map[string]any{"type": kind, "x": float64(x) / v.scale(), "y": float64(y) / v.scale(), "button": "left", "clickCount": 1})
	}
}

// Scroll implements app.Page.
func (v *webView) Scroll(by int) {
	v.do("Input.dispatchMouseEvent", map[string]any{"type": "mouseWheel", "x": 10, "y": 10, "deltaX": 0, "deltaY": float64(by) / v.scale()})
}

// Type implements app.Page.
func (v *webView) Type(text string) { v.do("Input.insertText", map[string]any{"text": text}) }

// Backspace implements app.Page.
func (v *webView) Backspace() {
	for _, kind := range []string{"rawKeyDown", "keyUp"} {
		v.do("Input.dispatchKeyEvent", map[string]any{"type": kind, "key": "Backspace", "code": "Backspace", "windowsVirtualKeyCode": 8})
	}
}

// run runs the browser until the view is closed.
func (v *webView) run() error {
	if v.p.traits.Browser == nil {
		return errors.New("the phone was given no browser")
	}
	dir, err := os.MkdirTemp("", "tsl-web-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	way := &http.Server{Handler: v.p.webWay(), ReadHeaderTimeout: time.Minute}
	go func() { _ = way.Serve(l) }()
	defer way.Close()
	cmd, err := v.p.traits.Browser(v.ctx, dir, "--headless", "--disable-gpu", "--disable-dev-shm-usage", "--disable-background-networking", "--no-first-run", "--disable-component-update", "--disable-sync", "--disable-extensions", "--mute-audio", "--hide-scrollbars",
		"--proxy-server=http://"+l.Addr().String(), "--proxy-bypass-list=<-loopback>", "--remote-debugging-port=0", "about:blank")
	if err != nil {
		return err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = io.Discard, io.Discard, lastGoes // its children have these, too, and are waited for
	if err := cmd.Start(); err != nil {
		return err
	}
	over, ended := make(chan error, 1), make(chan struct{})
	go func() {
		over <- cmd.Wait()
		close(ended)
	}()
	defer func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		<-ended
	}()
	port, target, err := v.found(dir, over)
	if err != nil {
		return err
	}
	ws, _, err := websocket.Dial(v.ctx, "ws://127.0.0.1:"+port+"/devtools/page/"+target, nil)
	if err != nil {
		return err
	}
	defer ws.CloseNow()
	ws.SetReadLimit(maxFrame)
	v.p.mu.Lock()
	v.port = port
	v.p.mu.Unlock()
	v.do("Emulation.setDeviceMetricsOverride", map[string]any{"width": int(float64(v.w) / v.scale()), "height": int(float64(v.h) / v.scale()), "deviceScaleFactor": v.scale(), "mobile": true})
	v.do("Network.enable", nil)
	v.do("Network.setExtraHTTPHeaders", map[string]any{"headers": map[string]string{ofPage: "1"}})
	v.do("Page.enable", nil)
	v.do("Page.navigate", map[string]any{"url": v.url})
	v.do("Page.startScreencast", map[string]any{"format": "png", "maxWidth": v.w, "maxHeight": v.h})
	go v.send(ws)
	for {
		_, raw, err := ws.Read(v.ctx)
		if err != nil {
			return err
		}
		var m struct {
			Method string
			Params struct {
				Data      string
				SessionID int
			}
		}
		if json.Unmarshal(raw, &m) != nil || m.Method != "Page.screencastFrame" {
			continue
		}
		v.do("Page.screencastFrameAck", map[string]any{"sessionId": m.Params.SessionID})
		data, err := base64.StdEncoding.DecodeString(m.Params.Data)
		if err != nil {
			continue
		}
		if img, err := png.Decode(bytes.NewReader(data)); err == nil {
			v.mu.Lock()
			v.img = img
			v.mu.Unlock()
			v.repainted()
		}
	}
}

// repainted has the screen drawn anew. To who reads the tree it does not move: what a page paints is no event of the app's views.
func (v *webView) repainted() {
	v.p.mu.Lock()
	defer v.p.mu.Unlock()
	if v.ctx.Err() == nil {
		v.changed()
		v.p.drew(v.proc)
		v.p.changes++
	}
}

// send sends what is to be done, in its order.
func (v *webView) send(ws *websocket.Conn) {
	for n := 1; ; n++ {
		select {
		case o := <-v.orders:
			if o.params == nil {
				o.params = struct{}{}
			}
			raw, err := json.Marshal(map[string]any{"id": n, "method": o.method, "params": o.params})
			if err != nil || ws.Write(v.ctx, websocket.MessageText, raw) != nil {
				return
			}
		case <-v.ctx.Done():
			return
		}
	}
}

// found waits until the browser listens, and gives its port and its page.
func (v *webView) found(dir string, over <-chan error) (port, target string, err error) {
	for deadline := time.Now().Add(chromiumWakes); time.Now().Before(deadline); {
		if raw, err := os.ReadFile(filepath.Join(dir, "DevToolsActivePort")); err == nil {
			port, _, _ = strings.Cut(string(raw), "\n")
		}
		if port != "" {
			var all []struct{ ID, Type string }
			if r, err := http.Get("http://127.0.0.1:" + port + "/json/list"); err == nil {
				err = json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&all)
				_ = r.Body.Close()
				for _, t := range all {
					if err == nil && t.Type == "page" {
						return port, t.ID, nil
					}
				}
			}
		}
		select {
		case err := <-over:
			return "", "", fmt.Errorf("it ended: %w", err)
		case <-v.ctx.Done():
			return "", "", v.ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return "", "", fmt.Errorf("it did not listen within %s", chromiumWakes)
}

// ofPage marks what a page asks for, on its way through webWay.
const ofPage = "Tessellant-Of-Page"

// webWay is the pages' way to the network: as the phone's apps have it. What the browser asks for by itself is no app's, and leads nowhere.
func (p *Phone) webWay() http.Handler {
	t := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := p.dial(ctx, network, address, p.offline())
		if err != nil {
			return nil, err
		}
		return &metered{Conn: c, p: p}, nil
	}, Proxy: func(*http.Request) (*url.URL, error) {
		p.mu.Lock()
		proxy := p.settings["global/http_proxy"]
		p.mu.Unlock()
		if proxy == "" || proxy == ":0" || p.traits.NoProxy {
			return nil, nil
		}
		return &url.URL{Scheme: "http", Host: proxy}, nil
	}}
	rp := &httputil.ReverseProxy{Rewrite: func(*httputil.ProxyRequest) {}, Transport: t, ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
		http.Error(w, err.Error(), http.StatusBadGateway)
	}}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !r.URL.IsAbs() {
			http.Error(w, "only plain HTTP goes this way", http.StatusNotImplemented)
			return
		}
		if r.Header.Get(ofPage) == "" {
			http.Error(w, "only pages go this way", http.StatusBadGateway)
			return
		}
		r.Header.Del(ofPage)
		rp.ServeHTTP(w, r)
	})
}

// webSockets are, under mu, the names under which web views listen.
func (p *Phone) webSockets() (names []string) {
	for v := range p.webs {
		if v.port != "" && v.ctx.Err() == nil {
			names = append(names, "webview_devtools_remote_"+strconv.Itoa(v.proc.pid))
		}
	}
	return names
}

// localAbstract connects a stream of adb to a socket of the phone's own; nil: nobody listens there.
func (p *Phone) localAbstract(name string) func(context.Context, *adbd.Stream) {
	pid, is := strings.CutPrefix(name, "webview_devtools_remote_")
	p.mu.Lock()
	defer p.mu.Unlock()
	for v := range p.webs {
		if is && v.port != "" && strconv.Itoa(v.proc.pid) == pid {
			return func(ctx context.Context, s *adbd.Stream) {
				c, err := (&net.Dialer{}).DialContext(ctx, "tcp", "127.0.0.1:"+v.port)
				if err != nil {
					return
				}
				defer c.Close()
				defer context.AfterFunc(v.ctx, func() { _ = c.Close() })()
				go func() {
					_, _ = io.Copy(c, s)
					_ = c.Close()
				}()
				_, _ = io.Copy(s, c)
			}
		}
	}
	return nil
}
