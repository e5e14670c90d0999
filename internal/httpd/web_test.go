package httpd_test

// A native app with a web view in it: one session commands both.

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/w3c"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
)

func TestASessionCommandsTheWebViewOfAnApp(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(m{"tessellant:build": "kelpline/android@newest", "timeouts": m{"implicit": 60000}})
	require.Empty(t, code, message)
	assert.Equal(t, []any{m{"context": "native"}}, c.must("GET", "/tessellant/contexts", nil))
	assert.Equal(t, "native", c.must("GET", "/tessellant/context", nil))
	_, code = c.do("GET", "/title", nil)
	assert.Equal(t, "unsupported operation", code)
	c.click("#settings")
	c.click("#help")
	c.must("POST", "/tessellant/context", m{"context": "web", "url": "/help"})
	all := c.must("GET", "/tessellant/contexts", nil).([]any)
	require.Len(t, all, 2)
	page := all[1].(m)
	assert.Equal(t, "org.kelpline.app", page["app"])
	assert.Equal(t, page["context"], c.must("GET", "/tessellant/context", nil))

	// The page by its own elements.
	assert.Equal(t, "Kelpline help", c.must("GET", "/title", nil))
	step := c.find("#steps li")
	assert.Equal(t, "Lay the quadrat flat.", c.must("GET", "/element/"+step+"/text", nil))
	c.must("POST", "/element/"+c.find("#search")+"/value", m{"text": "Küste"})
	_, code = c.do("GET", "/element/"+step+"/text", nil)
	assert.Equal(t, "stale element reference", code, "the list was made anew")
	c.must("POST", "/element/"+c.find("#search")+"/clear", m{})
	c.click("#more")
	assert.Len(t, c.must("POST", "/elements", m{"using": "css selector", "value": "#steps li"}), 4)
	assert.EqualValues(t, 4, c.must("POST", "/execute/sync", m{"script": "console.warn('counted'); return document.querySelectorAll('li').length", "args": []any{}}))
	c.must("POST", "/actions", m{"actions": []any{m{"type": "pointer", "id": "m", "actions": []any{m{"type": "pointerMove", "x": 0, "y": 0, "origin": m{w3c.ElementKey: c.find("#search")}}, m{"type": "pointerDown", "button": 0}, m{"type": "pointerUp", "button": 0}}},
		m{"type": "key", "id": "k", "actions": []any{m{"type": "pause"}, m{"type": "pause"}, m{"type": "pause"}, m{"type": "keyDown", "value": "Q"}, m{"type": "keyUp", "value": "Q"}}}}})
	assert.Equal(t, "Q", c.must("GET", "/element/"+c.find("#search")+"/property/value", nil))

	// Files that it finds are the phone's, and not the machine's that the phone is simulated on.
	mine := filepath.Join(t.TempDir(), "mine.txt")
	require.NoError(t, os.WriteFile(mine, []byte("nobody's business"), 0o644))
	for _, path := range []string{mine, "/etc/passwd", "/root/", "/proc/self/environ"} {
		_, _ = c.do("POST", "/url", m{"url": "file://" + path})
		source := c.must("GET", "/source", nil)
		assert.NotContains(t, source, "nobody's business")
		assert.NotContains(t, source, "root:", path)
		assert.NotContains(t, source, "SHELL=", path)
	}
	// Nor is the machine itself what a phone calls localhost, by any of its names.
	port := o.URL[strings.LastIndex(o.URL, ":"):]
	for _, host := range []string{"127.0.0.1", "localhost", "my.localhost", "0.0.0.0", "127.0.0.2", "[::ffff:127.0.0.1]", "[::]"} {
		_, _ = c.do("POST", "/url", m{"url": "http://" + host + port + "/"})
		assert.NotContains(t, c.must("GET", "/source", nil), "<title>Tessellant", host)
	}
	c.must("POST", "/back", m{})

	// Back to the screen; the page goes with its screen.
	c.must("POST", "/tessellant/context", m{"context": "native"})
	c.find("#help_view")
	c.click("#up")
	housetest.Eventually(t, "the web view is gone", func() bool {
		return len(c.must("GET", "/tessellant/contexts", nil).([]any)) == 1
	})
	c.must("POST", "/timeouts", m{"implicit": 0})
	_, code = c.do("POST", "/tessellant/context", m{"context": page["context"]})
	assert.Equal(t, "no such window", code)
	_, code = c.do("POST", "/tessellant/context", m{"context": 1})
	assert.Equal(t, "invalid argument", code)

	// A page that goes while it is commanded says so.
	c.must("POST", "/timeouts", m{"implicit": 60000})
	c.click("#help")
	c.must("POST", "/tessellant/context", m{"context": "web", "url": "/help"})
	c.find("#more")
	c.must("POST", "/tessellant/app/stop", m{})
	housetest.Eventually(t, "the page is gone", func() bool {
		_, code := c.do("GET", "/title", nil)
		return code == "no such window"
	})
	c.must("POST", "/tessellant/context", m{"context": "native"})
	c.must("DELETE", "", nil)
	s := o.over(c)
	warned := false
	for _, e := range o.events(s.Id) {
		warned = warned || e.Kind == timeline.Log && e.Name == "console" && e.Answer == "counted"
	}
	assert.True(t, warned, "what the page's console says is on the timeline")
}

func TestAScriptReadsTheWebViewOfAnApp(t *testing.T) {
	t.Parallel()
	o := openOutside(t, "orr-01")
	next, err := os.Open(filepath.Join(housetest.Root(), "build", "kelpline-1.9.0.apk"))
	require.NoError(t, err)
	defer next.Close()
	b, err := o.AddBuildWithBodyWithResponse(t.Context(), &api.AddBuildParams{}, "application/octet-stream", next)
	require.NoError(t, err)
	require.NotNil(t, b.JSON201, string(b.Body))
	body := bytes.NewReader(good(t, "help", `phone.launch()
    phone.tap("#settings")
    phone.tap("#help")
    help = phone.web("/help", within = 60)
    check.equal(help.title(), "Kelpline help")
    check.contains(help.url(), "v=1.")
    check.that(not help.sees("#nothing"), "nothing is not there")
    help.wait_for("#steps li", text = "quadrat", within = 15)
    check.equal(help.count("//li"), 2)
    help.type("#search", "Cover")
    check.equal(help.read("#steps"), "Write the cover in per cent.")
    help.clear("#search")
    help.tap("#more")
    check.equal(help.run("return document.querySelectorAll('li').length"), 4)
    phone.tap("#up")`))
	_, _, err = o.Service.AddPackage(t.Context(), o.Who, service.Upload{Body: body, Size: -1})
	require.NoError(t, err)
	for build, want := range map[string]string{"kelpline/android@231": "passed", "kelpline/android@240": "failed"} {
		r, err := o.StartRunWithResponse(t.Context(), &api.StartRunParams{}, api.RunRequest{Build: build, Package: "help@newest", Devices: &[]string{"orr-01"}})
		require.NoError(t, err)
		require.NotNil(t, r.JSON201, string(r.Body))
		var run *api.Run
		housetest.Eventually(t, "the run is over", func() bool {
			v, err := o.GetRunWithResponse(t.Context(), r.JSON201.Id)
			require.NoError(t, err)
			run = v.JSON200
			return run.Done
		})
		events := o.events(run.Legs[0].Id)
		assert.Equal(t, want, string(*run.Verdict), "%s: %v", build, events[len(events)-1])
		faults := 0
		for _, e := range events {
			if e.Name == "console" && e.Error != "" {
				faults++
				assert.Contains(t, e.Error, "toUpperCase")
			}
		}
		assert.Equal(t, want == "failed", faults > 0, "only the web view shows the fault")
	}
}
