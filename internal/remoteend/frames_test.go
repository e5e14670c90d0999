package remoteend_test

// Frames of other sites: in a browser each has a process of its own, in a web view they have the page's.

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/housetest"
)

const aroundPage = `<!doctype html><title>Around</title><style>body{margin:0}</style><p id=own>Around</p><div style="height:1400px"></div>
<iframe id=other src="http://%s/apart" style="margin-left:40px;width:500px;height:300px;border:7px solid"></iframe><div style="height:900px"></div>`

const apartPage = `<!doctype html><title>Apart</title><p id=own>Apart</p><input id=name><button id=press onclick="this.textContent='Pressed at '+event.clientX+','+event.clientY">Press</button><select id=where><option id=o1>Gull Ledge<option id=o2>Tern Rocks</select>
<div id=host></div><div style="height:500px"></div><button id=low onclick="this.textContent='seen'">Low</button><iframe id=back src="http://%s/tides" style="width:200px;height:80px"></iframe><iframe id=near srcdoc="<p id=own>Near</p><button id=deep onclick=&quot;this.textContent='Deep'&quot;>Deeper</button>" style="width:200px;height:80px"></iframe>
<script>host.attachShadow({mode: 'open'}).innerHTML = '<span id=inner>in the shadow</span>'; window.state = {tide: 'low'}</script>`

// framed are commands; a word alone asks for the text of that element.
var framed = []asked{{"POST", "/frame", `{"id": 0}`}, {"GET", "/element/{#own}/text", ""}, {"GET", "/title", ""}, {"GET", "/url", ""}, {"POST", "/elements", `{"using": "css selector", "value": "option"}`}, {"POST", "/element", `{"using": "css selector", "value": "#nix"}`},
	{"GET", "/element/{#press}/screenshot", ""}, {"POST", "/element/{#press}/click", "{}"}, {"GET", "/element/{#press}/text", ""},
	{"POST", "/element/{#name}/value", `{"text": "Ada"}`}, {"GET", "/element/{#name}/property/value", ""}, {"POST", "/element/{#name}/clear", "{}"}, {"GET", "/element/{#name}/property/value", ""}, {"GET", "/element/active", ""}, {"POST", "/element/{#o2}/click", "{}"}, {"GET", "/element/{#where}/property/value", ""},
	{"POST", "/element/{#low}/click", "{}"}, {"GET", "/element/{#low}/text", ""}, {"GET", "/element/{#host}/shadow", ""}, {"POST", "/execute/sync", `{"script": "return window.state", "args": []}`}, {"POST", "/execute/sync", `{"script": "return document.querySelectorAll('button')", "args": []}`},
	{"POST", "/execute/sync", `{"script": "return arguments[0].id", "args": [{"{key}": "{#press}"}]}`}, {"POST", "/execute/sync", `{"script": "return window === top", "args": []}`},
	{"POST", "/element/{#name}/click", "{}"}, {"POST", "/actions", `{"actions": [{"type": "pointer", "id": "m", "actions": [{"type": "pointerMove", "x": 0, "y": 0, "origin": {"{key}": "{#press}"}}, {"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}]}]}`}, {"GET", "/element/{#press}/text", ""},
	{"POST", "/element/{#name}/click", "{}"}, {"POST", "/actions", `{"actions": [{"type": "key", "id": "k", "actions": [{"type": "keyDown", "value": "q"}, {"type": "keyUp", "value": "q"}]}]}`}, {"GET", "/element/{#name}/property/value", ""},
	{"POST", "/frame", `{"id": {"{key}": "{#back}"}}`}, {"GET", "/element/{#tide}/text", ""}, {"GET", "/url", ""}, {"POST", "/frame/parent", "{}"}, {"GET", "/element/{#own}/text", ""},
	{"POST", "/frame", `{"id": {"{key}": "{#near}"}}`}, {"GET", "/element/{#deep}/text", ""}, {"POST", "/element/{#deep}/click", "{}"}, {"GET", "/element/{#deep}/text", ""}, {"POST", "/frame/parent", "{}"}, {"POST", "/frame/parent", "{}"}, {"GET", "/element/{#own}/text", ""}, {"POST", "/frame/parent", "{}"},
	{"POST", "/frame", `{"id": {"{key}": "{#other}"}}`}, {"POST", "/execute/sync", `{"script": "location.href = '/tides'", "args": []}`}, {"POST", "/element", `{"using": "css selector", "value": "#tide"}`}, {"POST", "/frame", `{"id": null}`}, {"GET", "/element/{#own}/text", ""}, {"POST", "/refresh", "{}"}, {"GET", "/title", ""}, {"GET", "/element/{#other}/name", ""}}

func TestFramesOfOtherSitesAreCommandedLikeByAnotherRemoteEnd(t *testing.T) {
	t.Parallel()
	base := helpServer(t)
	theirs := theirView(t, base+"/around")
	theirs.must("POST", "/timeouts", m{"implicit": 1500})
	var said []string
	for _, q := range framed {
		said = append(said, plainAnswer(theirs, q))
	}
	for name, args := range map[string][]string{"in processes of their own": nil, "in the page's process": {"--disable-site-isolation-trials", "--disable-features=IsolateOrigins,site-per-process"}} {
		t.Run(name, func(t *testing.T) {
			ours, _, _ := webView(t, base+"/around", args...)
			ours.must("POST", "/timeouts", m{"implicit": 1500})
			housetest.Eventually(t, "the page has come", func() bool {
				return ours.must("POST", "/execute/sync", m{"script": "return document.readyState", "args": []any{}}) == "complete"
			})
			for i, q := range framed {
				assert.Equal(t, said[i], plainAnswer(ours, q), "%s %s %s", q.method, q.path, q.body)
			}
			ours.must("POST", "/frame", m{"id": 0})
			assert.Equal(t, "Press", ours.must("GET", "/element/"+ours.find("#press")+"/computedlabel", nil), "which chromedriver does not find there")
		})
	}
}

// plainAnswer asks with the references of elements as they are found now.
func plainAnswer(c *client, q asked) string {
	a := c.raw(q.method, "/session/"+c.id+filled(q.path, c.find), filled(q.body, c.find))
	return fmt.Sprintf("%d %v", a.Status, plainly(a.Value))
}
