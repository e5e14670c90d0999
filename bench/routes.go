package main

// Routes: how much slower a server on the engineer's machine is through a route than without one, how much goes through a second, and 200 connections at once.

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

const (
	smallAsked   = 2000
	largeMB      = 1024
	manyAtOnce   = 200
	wantedRate   = 100 // MB a second
	wantedAdded  = time.Millisecond
	manyEachSize = 1 << 20
)

// routed measures all of this file.
func routed(dir string) error {
	fleet, err := heldPhones(1, false)
	if err != nil {
		return err
	}
	d, stop, err := startWith(filepath.Join(dir, "routes"), fleet, 1)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := d.command("build", "add", apk); err != nil {
		return err
	}
	if _, err := d.hold("orr-01"); err != nil {
		return err
	}
	block := make([]byte, 256<<10)
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(r.URL.Query().Get("bytes"))
		w.Header().Set("Content-Length", strconv.Itoa(n))
		for n > 0 {
			k, err := w.Write(block[:min(n, len(block))])
			if err != nil {
				return
			}
			n -= k
		}
	}))
	defer own.Close()
	_, port, _ := net.SplitHostPort(own.Listener.Addr().String())
	open := exec.Command(program, "route", "open", "3000="+port, "--hold", "orr-01")
	open.Env = append(os.Environ(), "TESSELLANT_URL="+d.url, "TESSELLANT_KEY="+d.key)
	open.Stderr = os.Stderr
	said, err := open.StdoutPipe()
	if err != nil {
		return err
	}
	if err := open.Start(); err != nil {
		return err
	}
	defer func() {
		_ = open.Process.Signal(os.Interrupt)
		_ = open.Wait()
	}()
	if _, err := bufio.NewReader(said).ReadString('\n'); err != nil {
		return fmt.Errorf("the route was not opened: %w", err)
	}
	proxy, err := d.proxy()
	if err != nil {
		return err
	}
	through := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(proxy), MaxIdleConnsPerHost: manyAtOnce}}
	straight := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: manyAtOnce}}
	const name = "http://route.test:3000"
	slow, err1 := medianOf(through, name)
	quick, err2 := medianOf(straight, own.URL)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	added := slow - quick
	err = say("added by a route to a request ÷ 1 ms", float64(added)/float64(wantedAdded), 1, "median of %d requests: %s through it, %s straight", smallAsked, slow.Round(time.Microsecond), quick.Round(time.Microsecond))
	rate, err1 := fetched(through, name)
	base, err2 := fetched(straight, own.URL)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	err = errors.Join(err, say(fmt.Sprintf("%d MB/s ÷ what goes through a route", wantedRate), wantedRate/rate, 1, "%.0f MB/s through it, %.0f MB/s straight, %d MB", rate, base, largeMB))
	var all sync.WaitGroup
	var bad atomic.Int64
	begun := time.Now()
	for range manyAtOnce {
		all.Go(func() {
			n, err := get(through, fmt.Sprintf("%s/?bytes=%d", name, manyEachSize))
			if err != nil || n != manyEachSize {
				bad.Add(1)
			}
		})
	}
	all.Wait()
	took := time.Since(begun)
	return errors.Join(err, say("errors of 200 connections at once", float64(bad.Load()), 0, "%d MB in %s", manyAtOnce*manyEachSize>>20, took.Round(time.Millisecond)))
}

func get(c *http.Client, address string) (int64, error) {
	r, err := c.Get(address)
	if err != nil {
		return 0, err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("%s answered %s", address, r.Status)
	}
	return io.Copy(io.Discard, r.Body)
}

// medianOf gives the median time of a small request.
func medianOf(c *http.Client, address string) (time.Duration, error) {
	var took []time.Duration
	for range smallAsked {
		begun := time.Now()
		if _, err := get(c, address+"/?bytes=20"); err != nil {
			return 0, err
		}
		took = append(took, time.Since(begun))
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

// fetched gives how much came in a second, in MB.
func fetched(c *http.Client, address string) (float64, error) {
	begun := time.Now()
	n, err := get(c, fmt.Sprintf("%s/?bytes=%d", address, largeMB<<20))
	return float64(n) / (1 << 20) / time.Since(begun).Seconds(), err
}

// proxy finds the proxy of the held device among what the service listens on.
func (d *desk) proxy() (*url.URL, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/tcp", d.pid))
	if err != nil {
		return nil, err
	}
	for line := range strings.SplitSeq(string(raw), "\n") {
		f := strings.Fields(line)
		if len(f) < 4 || f[3] != "0A" { // listens
			continue
		}
		_, hex, _ := strings.Cut(f[1], ":")
		port, err := strconv.ParseUint(hex, 16, 16)
		if err != nil {
			continue
		}
		at := &url.URL{Scheme: "http", Host: fmt.Sprintf("127.0.0.1:%d", port)}
		probe := &http.Client{Timeout: 2 * time.Second, Transport: &http.Transport{Proxy: http.ProxyURL(at), DisableKeepAlives: true}}
		if n, err := get(probe, "http://route.test:3000/?bytes=7"); err == nil && n == 7 {
			return at, nil
		}
	}
	return nil, errors.New("the proxy of the held device is not to be found")
}
