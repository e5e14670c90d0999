// Command pictures takes the README's pictures of the console, from a demo that is up:
//
//	make demo                       (in another terminal, until its run is over)
//	go run ./docs/pictures          into docs/screenshots
//	go run ./docs/pictures -width 390 -to /tmp/narrow
package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"log"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tessellant/api"
	"tessellant/internal/housetest"
)

func main() {
	url := flag.String("url", "http://127.0.0.1:7480", "the demo's console")
	keyFile := flag.String("key", ".data/demo/key", "file with the demo's key")
	to := flag.String("to", "docs/screenshots", "folder")
	width := flag.Int64("width", 1280, "pixels")
	height := flag.Int64("height", 800, "pixels")
	only := flag.String("only", "", "only pictures whose name has this in it")
	flag.Parse()
	if err := run(*url, *keyFile, *to, *width, *height, *only); err != nil {
		log.Fatal(err)
	}
}

type picture struct {
	name, path string
	look       string   // light or dark
	ready      string   // what must be on the page
	below      []string // other pages, below it in the picture
}

func run(url, keyFile, to string, width, height int64, only string) error {
	raw, err := os.ReadFile(keyFile)
	if err != nil {
		return err
	}
	key := strings.TrimSpace(string(raw))
	newest, err := runOf(url, key, "1.9.0", "")
	if err != nil {
		return err
	}
	first, err := runOf(url, key, "1.8.0", "variants") // the version in which the app crashes
	if err != nil {
		return err
	}
	both, err := runOf(url, key, "1.8.0", "both platforms")
	if err != nil {
		return err
	}
	var sessions api.SessionPage
	if err := get(url, key, "sessions?group=shore-suite-js", &sessions); err != nil {
		return err
	}
	legs := func(r api.Run) map[string]string {
		out := map[string]string{}
		for _, l := range r.Legs {
			if out[l.Serial] == "" { // the first of its variants
				out[l.Serial] = l.Id
			}
		}
		return out
	}
	pictures := []picture{
		{"console-runs", "/", "light", "tbody tr", nil},
		{"console-run", "/runs/" + first.Id, "light", "#broke", nil},
		{"console-leg", "/legs/" + legs(newest)["orr-05"], "light", "[data-outline=true]", nil},
		{"console-leg-dark", "/legs/" + legs(first)["fen-02"] + "?case=tides.test_tide_chart", "dark", "video", nil},
		{"console-lent", "/legs/" + legs(both)["her-07"], "light", "[data-outline=true], figure img, main h1", nil},
		{"console-start", "/start?where=%20&pool=most-different&package=shore-suite@1&variants=as-it-is%3D%7Cde%3Dlanguage:de", "light", "aside pre", nil},
		{"console-steps", "/runs/" + newest.Id + "?tab=steps&step=review&of=survey.test_send_a_survey", "light", "figure img", nil},
		{"console-builds", "/builds", "light", "tbody tr", []string{"/packages"}},
		{"console-build", "/builds/" + newest.BuildId, "light", "main h1", []string{"/cases?case=test_send_a_survey&package=shore-suite"}},
		{"console-package", "/packages/" + newest.PackageId, "light", "tbody tr", []string{"/keys"}},
		{"console-devices", "/devices", "light", "main li", []string{"/pools/most-different", "/hands/newest"}},
		{"console-sessions", "/sessions", "light", "main pre", nil},
		{"console-session", "/sessions/" + sessions.Items[0].Id, "light", "video", nil},
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	tab, stop, err := housetest.Browse()
	if err != nil {
		return err
	}
	defer stop()
	if err := tab.Size(width, height); err != nil {
		return err
	}
	signedIn := false
	for _, p := range pictures {
		if only != "" && !strings.Contains(p.name, only) {
			continue
		}
		if !signedIn {
			if err := tab.SignIn(url, key); err != nil {
				return fmt.Errorf("sign in: %w", err)
			}
			signedIn = true
		}
		if err := tab.Look(p.look); err != nil {
			return err
		}
		pages := append([]string{p.path}, p.below...)
		if slices.Contains(pages, "/hands/newest") {
			back, err := hold(url, key)
			if err != nil {
				return err
			}
			defer back()
		}
		var parts [][]byte
		for _, path := range pages {
			if err := tab.Size(width, height/min(int64(len(pages)), 2)); err != nil {
				return err
			}
			if err := tab.Open(url+path, p.ready); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
			if strings.Contains(path, "tab=") { // what is in it lies far down
				if _, err := housetest.Eval[bool](tab, `document.querySelector('[role=tablist]').scrollIntoView(), true`); err != nil {
					return err
				}
			}
			picture, err := tab.Picture()
			if err != nil {
				return err
			}
			parts = append(parts, picture)
		}
		whole, err := stacked(parts)
		if err != nil {
			return err
		}
		file := filepath.Join(to, p.name+".png")
		if err := os.WriteFile(file, whole, 0o644); err != nil {
			return err
		}
		fmt.Println(file)
	}
	return nil
}

// runOf finds the widest run of the script suite with a version of the app, of this name: the demo's own, whatever was tried after it.
func runOf(url, key, version, name string) (r api.Run, err error) {
	var all api.RunPage
	if err := get(url, key, "runs?package=shore-suite@newest&build=kelpline/android@v"+version, &all); err != nil {
		return r, err
	}
	all.Items = slices.DeleteFunc(all.Items, func(r api.Run) bool { return r.Name != name })
	if len(all.Items) == 0 {
		return r, fmt.Errorf("there is no run of %s yet", version)
	}
	total := func(r api.Run) (n int) {
		for _, count := range r.Counts {
			n += count
		}
		return n
	}
	widest := slices.MaxFunc(all.Items, func(a, b api.Run) int { return cmp.Compare(total(a), total(b)) })
	return r, get(url, key, "runs/"+widest.Id, &r)
}

// hold has a device held until back is called.
func hold(url, key string) (back func(), err error) {
	var h api.Hold
	if err := ask(url, key, http.MethodPost, "hands", `{"device": "orr-01", "build": "kelpline/android@newest", "seconds": 600, "name": "a look at the shores"}`, &h); err != nil {
		return nil, err
	}
	for h.Stage != api.HoldStageRunning {
		if h.Stage == api.HoldStageDone {
			return nil, fmt.Errorf("no device is held: %v", h.Message)
		}
		time.Sleep(time.Second)
		if err := get(url, key, "hands/"+h.Id, &h); err != nil {
			return nil, err
		}
	}
	return func() { _ = ask(url, key, http.MethodPost, "hands/"+h.Id+"/end", "", &h) }, nil
}

func get(url, key, path string, v any) error { return ask(url, key, http.MethodGet, path, "", v) }

func ask(url, key, method, path, body string, v any) error {
	r, err := http.NewRequest(method, url+"/api/v1/"+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	r.Header.Set("Authorization", "Bearer "+key)
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(v)
}

// stacked puts pictures below each other.
func stacked(parts [][]byte) ([]byte, error) {
	if len(parts) == 1 {
		return parts[0], nil
	}
	var whole *image.RGBA
	y := 0
	for _, raw := range parts {
		part, err := png.Decode(bytes.NewReader(raw))
		if err != nil {
			return nil, err
		}
		b := part.Bounds()
		if whole == nil {
			whole = image.NewRGBA(image.Rect(0, 0, b.Dx(), b.Dy()*len(parts)))
		}
		draw.Draw(whole, image.Rect(0, y, b.Dx(), y+b.Dy()), part, b.Min, draw.Src)
		y += b.Dy()
	}
	var out bytes.Buffer
	err := png.Encode(&out, whole)
	return out.Bytes(), err
}
