package remoteend_test

// A page in a web view: the same commands to this remote end and to chromedriver, each at a Chromium of its own that shows the same page. What chromedriver answers
// rightly is answered alike: status, error code, and value.

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/child"
	"tessellant/internal/core/w3c"
	"tessellant/internal/housetest"
	"tessellant/internal/remoteend"
)

const helpPage = `<!doctype html><html lang=en><head><title>Kelpline help</title><meta name=viewport content="width=device-width">
<style>#hidden{display:none} #faint{visibility:hidden} #clear{opacity:0} .wide{letter-spacing:3px;color:rgb(1,2,3)} #far{margin-top:1500px} #cover{position:absolute;left:0;top:0;width:60px;height:30px} #under{position:absolute;left:0;top:0} body{padding-top:60px}</style></head>
<body><button id=under>Under</button><div id=cover></div>
<h1 id=title>How to survey <em>a rock pool</em></h1>
<p id=text>  Lay the  quadrat <b>flat</b>.<br>Count what is <span style="display:none">not </span>in it.&nbsp;Then   send it. </p>
<p id=hidden>You see me not</p><p id=faint>nor me</p><p id=clear>nor <i>me</i></p>
<a id=link href="/tides">Tide <b>table</b></a> <a href="#two"> Second&nbsp;link </a>
<ul id=list><li>wrack<li>kelp<li>barnacle</ul>
<form id=form><input id=name value=Ada><input id=pw type=password><input id=box type=checkbox checked><input id=r1 type=radio name=r><input id=off disabled value=x><input id=ro readonly value=y>
<textarea id=note>calm
sea</textarea><select id=where><option id=o1 value=1>Gull Ledge<option id=o2 value=2 selected>Tern Rocks<option id=o3 disabled>Old Slip</select><select id=many multiple><option id=m1>a<option id=m2>b</select>
<button id=send type=button onclick="document.title='sent '+document.getElementById('name').value; console.log('sent', 3, {a:1})">Send</button></form>
<div id=rich contenteditable>edit <b>me</b></div>
<button id=ask type=button onclick="window.answer=prompt('Name of the shore?','Gull')">Ask</button><button id=warn type=button onclick="alert('Mind the swell');document.body.dataset.warned=1">Warn</button><button id=sure type=button onclick="window.sure=confirm('Sure?')">Sure</button>
<div id=host></div><iframe id=frame srcdoc="<p id=inside>Inside</p><button id=press onclick=&quot;this.textContent='Pressed'&quot;>Press</button>" width=200 height=90></iframe>
<img id=pic alt="A kelp" width=20 height=20><div role=alert aria-label="Low tide" id=role>x</div><label for=name id=lab>Observer</label>
<button id=far onclick="this.textContent='seen'">Far down</button>
<script>const s=host.attachShadow({mode:'open'});s.innerHTML='<span id=inner>in the shadow</span>';customElements.define('k-p',class extends HTMLElement{});</script></body></html>`

// helpServer serves the page.
func helpServer(t *testing.T) string {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		switch r.URL.Path {
		case "/tides":
			fmt.Fprint(w, "<title>Tides</title><p id=tide>High at noon</p><script>console.error('no chart'); setTimeout(() => { throw new Error('late') })</script>")
		case "/touch":
			fmt.Fprint(w, touchPage)
		case "/around":
			fmt.Fprintf(w, aroundPage, strings.Replace(r.Host, "127.0.0.1", "localhost", 1))
		case "/apart":
			fmt.Fprintf(w, apartPage, strings.Replace(r.Host, "localhost", "127.0.0.1", 1))
		case "/slow":
			time.Sleep(3 * time.Second)
		default:
			fmt.Fprint(w, helpPage)
		}
	}))
	t.Cleanup(srv.Close)
	return srv.URL
}

// webView gives a client of ours at a page, and what its session keeps.
func webView(t *testing.T, url string, args ...string) (c *client, notes *kept, chromium *child.Process) {
	w := housetest.WebView(t, url, args...)
	notes = &kept{}
	end := remoteend.New(remoteend.Config{ID: "web", Answer: w3c.Capabilities{}, Timeouts: w3c.DefaultTimeouts(), Phone: w, Notes: notes})
	t.Cleanup(end.Close)
	srv := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		call, werr := w3c.Route(r.Method, r.URL.EscapedPath())
		body, bad := remoteend.ReadBody(r.Body, 1<<20)
		if werr == nil {
			werr = bad
		}
		_ = call
		if werr != nil {
			remoteend.Answer(werr).Write(rw)
			return
		}
		end.Do(r.Context(), remoteend.Request{Method: r.Method, Path: r.URL.EscapedPath(), Body: body}).Write(rw)
	}))
	t.Cleanup(srv.Close)
	c = &client{t: t, base: srv.URL, id: "web"}
	housetest.Eventually(t, "the page can be switched to", func() bool {
		return c.do("POST", "/tessellant/context", m{"context": "web", "url": url}).Status == 200
	})
	return c, notes, w.Chromium
}

// theirView is chromedriver at the same page.
func theirView(t *testing.T, url string) *client {
	c := &client{t: t, base: housetest.Chromedriver(t)}
	options, _ := json.Marshal(m{"capabilities": m{"alwaysMatch": m{"goog:chromeOptions": m{"binary": "/usr/bin/chromium", "args": append(housetest.ChromiumArgs, "--user-data-dir="+t.TempDir())}}}})
	a := c.raw("POST", "/session", string(options))
	require.Equal(t, 200, a.Status, a.Value)
	c.id = a.Value.(m)["sessionId"].(string)
	t.Cleanup(func() {
		_, _ = http.NewRequest("DELETE", c.base+"/session/"+c.id, nil)
		c.raw("DELETE", "/session/"+c.id, "")
	})
	c.must("POST", "/url", m{"url": url})
	return c
}

// plainly is an answer with references as they are of no use to compare.
func plainly(v any) any {
	switch v := v.(type) {
	case m:
		if _, is := v[w3c.ElementKey]; is {
			return "an element"
		}
		if _, is := v["shadow-6066-11e4-a52e-4f735466cecf"]; is {
			return "a shadow root"
		}
		if e, is := v["error"]; is {
			return fmt.Sprint("error ", e)
		}
		out := m{}
		for k := range v {
			out[k] = plainly(v[k])
		}
		return out
	case []any:
		out := []any{}
		for _, x := range v {
			out = append(out, plainly(x))
		}
		return out
	case string:
		if len(v) > 500 {
			return "long"
		}
	}
	return v
}

// asked is one command; "#id" in braces stands for the reference of that element.
type asked struct{ method, path, body string }

func TestAPageIsCommandedLikeByAnotherRemoteEnd(t *testing.T) {
	t.Parallel()
	url := helpServer(t)
	ours, notes, _ := webView(t, url+"/")
	theirs := theirView(t, url+"/")
	refs := map[*client]map[string]string{ours: {}, theirs: {}}
	script := func(s string) asked { return asked{"POST", "/execute/sync", s} }
	on := func(what string, ids ...string) (all []asked) {
		for _, id := range ids {
			all = append(all, asked{"GET", "/element/{" + id + "}/" + what, ""})
		}
		return all
	}
	all := []asked{{"GET", "/title", ""}, {"GET", "/url", ""}, {"GET", "/source", ""}, {"GET", "/screenshot", ""}, {"GET", "/element/{#title}/screenshot", ""}, {"GET", "/window/rect", ""}}
	all = append(all, on("text", "#title", "#text", "#hidden", "#faint", "#link", "#list", "#note", "#where", "#o1", "#rich", "#send", "#form")...)
	all = append(all, on("name", "#title", "#name", "#rich")...)
	all = append(all, on("enabled", "#name", "#off", "#o3", "#send", "#title")...)
	all = append(all, on("selected", "#box", "#r1", "#o1", "#o2", "#title")...)
	all = append(all, on("displayed", "#title", "#hidden", "#faint", "#clear", "#o1", "#far", "#host", "#pic", "#name")...)
	all = append(all, on("rect", "#title", "#name")...)
	all = append(all, on("computedrole", "#title", "#send", "#name", "#role", "#pic", "#list")...)
	all = append(all, on("computedlabel", "#send", "#name", "#role", "#pic")...)
	all = append(all, on("attribute/value", "#name", "#o1")...)
	all = append(all, on("attribute/checked", "#box", "#r1")...)
	all = append(all, on("attribute/disabled", "#off", "#name")...)
	all = append(all, on("attribute/href", "#link")...)
	all = append(all, on("attribute/nothing", "#name")...)
	all = append(all, on("property/value", "#name", "#note")...)
	all = append(all, on("property/checked", "#box")...)
	all = append(all, on("property/nothing", "#name")...)
	all = append(all, on("property/tagName", "#name")...)
	all = append(all, on("css/display", "#title", "#hidden")...)
	all = append(all, on("css/nothing", "#link")...)
	for _, f := range []string{`"css selector", "value": "li"`, `"css selector", "value": "##"`, `"xpath", "value": "//li[2]"`, `"xpath", "value": "//["`, `"xpath", "value": "//li/text()"`, `"xpath", "value": "count(//li)"`, `"link text", "value": "Tide table"`, `"link text", "value": "Second link"`, `"partial link text", "value": "Tide"`,
		`"tag name", "value": "li"`, `"tag name", "value": "nix"`, `"id", "value": "title"`, `"css selector", "value": "#nix"`, `"css selector", "value": ""`} {
		all = append(all, asked{"POST", "/element", `{"using": ` + f + `}`}, asked{"POST", "/elements", `{"using": ` + f + `}`}, asked{"POST", "/element/{#list}/elements", `{"using": ` + f + `}`})
	}
	all = append(all, asked{"GET", "/element/{#host}/shadow", ""}, asked{"GET", "/element/{#title}/shadow", ""}, asked{"GET", "/element/active", ""},
		script(`{"script": "return 1+1", "args": []}`), script(`{"script": "return arguments", "args": [1, "a", null, true, {"b": [2]}]}`), script(`{"script": "return document.querySelectorAll('li')", "args": []}`), script(`{"script": "return {e: document.body, l: [document.head]}", "args": []}`),
		script(`{"script": "return undefined", "args": []}`), script(`{"script": "return NaN", "args": []}`), script(`{"script": "return () => 1", "args": []}`), script(`{"script": "throw new TypeError('odd')", "args": []}`), script(`{"script": "return (", "args": []}`), script(`{"script": "const a = []; a.push(a); return a", "args": []}`),
		script(`{"script": "return Promise.resolve(7)", "args": []}`), script(`{"script": "return Promise.reject(7)", "args": []}`), script(`{"script": "return arguments[0].id", "args": [{"{key}": "{#title}"}]}`), script(`{"script": "return arguments[0].id", "args": [{"{key}": "nix"}]}`), script(`{"script": 1, "args": []}`), script(`{"script": "return 1"}`),
		script(`{"script": "return [undefined, 2]", "args": []}`), script(`{"script": "return document.createElement('p')", "args": []}`), script(`{"script": "return this === window", "args": []}`),
		asked{"POST", "/execute/async", `{"script": "arguments[arguments.length-1](arguments[0]+1)", "args": [4]}`}, asked{"POST", "/execute/async", `{"script": "throw 1", "args": []}`}, asked{"POST", "/timeouts", `{"script": 200}`},
		asked{"POST", "/execute/async", `{"script": "", "args": []}`}, asked{"POST", "/timeouts", `{"script": 30000}`},
		// what is done
		asked{"POST", "/element/{#under}/click", "{}"}, asked{"POST", "/element/{#hidden}/click", "{}"}, asked{"POST", "/element/{#faint}/click", "{}"}, asked{"POST", "/element/{#far}/click", "{}"}, asked{"GET", "/element/{#far}/text", ""},
		asked{"POST", "/element/{#name}/clear", "{}"}, asked{"GET", "/element/{#name}/property/value", ""}, asked{"POST", "/element/{#name}/value", `{"text": "Küste 潮 x\ue003"}`}, asked{"GET", "/element/{#name}/property/value", ""}, asked{"POST", "/element/{#name}/value", `{"text": "\ue009a\ue000Ben"}`}, asked{"GET", "/element/{#name}/property/value", ""},
		asked{"POST", "/element/{#send}/click", "{}"}, asked{"GET", "/title", ""}, asked{"POST", "/element/{#off}/clear", "{}"}, asked{"POST", "/element/{#ro}/clear", "{}"}, asked{"POST", "/element/{#title}/clear", "{}"}, asked{"POST", "/element/{#off}/value", `{"text": "x"}`}, asked{"POST", "/element/{#title}/value", `{"text": "x"}`}, asked{"POST", "/element/{#name}/value", `{"text": 1}`},
		asked{"POST", "/element/{#rich}/clear", "{}"}, asked{"GET", "/element/{#rich}/text", ""}, asked{"POST", "/element/{#rich}/value", `{"text": "new"}`}, asked{"GET", "/element/{#rich}/text", ""}, asked{"POST", "/element/{#note}/value", `{"text": " today"}`}, asked{"GET", "/element/{#note}/property/value", ""},
		asked{"POST", "/element/{#box}/click", "{}"}, asked{"GET", "/element/{#box}/selected", ""}, asked{"POST", "/element/{#r1}/click", "{}"}, asked{"GET", "/element/{#r1}/selected", ""}, asked{"POST", "/element/{#o1}/click", "{}"}, asked{"GET", "/element/{#where}/property/value", ""}, asked{"POST", "/element/{#m1}/click", "{}"}, asked{"POST", "/element/{#m2}/click", "{}"}, asked{"GET", "/element/{#m1}/selected", ""}, asked{"POST", "/element/{#m1}/click", "{}"}, asked{"GET", "/element/{#m1}/selected", ""},
		asked{"GET", "/element/active", ""},
		// dialogs
		asked{"GET", "/alert/text", ""}, asked{"POST", "/alert/accept", "{}"}, asked{"POST", "/element/{#warn}/click", "{}"}, asked{"GET", "/alert/text", ""}, asked{"POST", "/alert/text", `{"text": "x"}`}, asked{"POST", "/alert/accept", "{}"}, script(`{"script": "return document.body.dataset.warned", "args": []}`),
		asked{"POST", "/element/{#ask}/click", "{}"}, asked{"POST", "/alert/text", `{"text": "Tern"}`}, asked{"POST", "/alert/accept", "{}"}, script(`{"script": "return window.answer", "args": []}`), asked{"POST", "/element/{#sure}/click", "{}"}, asked{"POST", "/alert/dismiss", "{}"}, script(`{"script": "return window.sure", "args": []}`),
		asked{"POST", "/element/{#warn}/click", "{}"}, asked{"GET", "/title", ""}, asked{"GET", "/title", ""},
		// frames
		asked{"POST", "/frame", `{"id": 0}`}, asked{"POST", "/element", `{"using": "css selector", "value": "#inside"}`}, asked{"GET", "/element/{#press}/text", ""}, asked{"POST", "/element/{#press}/click", "{}"}, asked{"GET", "/element/{#press}/text", ""}, asked{"GET", "/title", ""}, asked{"POST", "/frame/parent", "{}"}, asked{"POST", "/element", `{"using": "css selector", "value": "#inside"}`},
		asked{"POST", "/frame", `{"id": {"{key}": "{#frame}"}}`}, asked{"POST", "/element", `{"using": "css selector", "value": "#inside"}`}, asked{"POST", "/frame", `{"id": null}`}, asked{"POST", "/frame", `{"id": 5}`}, asked{"POST", "/frame", `{"id": {"{key}": "{#title}"}}`}, asked{"POST", "/frame", `{"id": "x"}`}, asked{"POST", "/frame", `{}`},
		// cookies
		asked{"POST", "/cookie", `{"cookie": {"name": "tide", "value": "low"}}`}, asked{"GET", "/cookie/tide", ""}, asked{"GET", "/cookie/nix", ""}, asked{"POST", "/cookie", `{"cookie": {"name": "a"}}`}, asked{"POST", "/cookie", `{"cookie": {"name": "a", "value": "b", "domain": "elsewhere.test"}}`}, asked{"POST", "/cookie", `{"cookie": {"name": "a", "value": "b", "httpOnly": true, "path": "/x"}}`},
		asked{"POST", "/cookie", `{"cookie": {"name": "a", "value": "b", "expiry": -1}}`}, asked{"GET", "/cookie", ""}, asked{"DELETE", "/cookie/tide", ""}, asked{"GET", "/cookie", ""}, asked{"DELETE", "/cookie", ""},
		// going elsewhere
		asked{"POST", "/element/{#link}/click", "{}"}, asked{"GET", "/title", ""}, asked{"GET", "/url", ""}, asked{"GET", "/element/{#title}/text", ""}, asked{"POST", "/element/{#title}/click", "{}"}, asked{"POST", "/back", "{}"}, asked{"GET", "/title", ""}, asked{"POST", "/forward", "{}"}, asked{"GET", "/title", ""}, asked{"POST", "/refresh", "{}"}, asked{"GET", "/title", ""},
		asked{"POST", "/url", `{"url": "` + url + `/tides?two"}`}, asked{"GET", "/url", ""}, asked{"POST", "/url", `{"url": "nowhere"}`}, asked{"POST", "/url", `{}`}, asked{"POST", "/url", `{"url": "http://127.0.0.1:65530/"}`}, asked{"POST", "/url", `{"url": "data:text/html,<title>Data</title>x"}`}, asked{"GET", "/title", ""}, asked{"POST", "/cookie", `{"cookie": {"name": "a", "value": "b"}}`},
		asked{"POST", "/timeouts", `{"pageLoad": 300}`}, asked{"POST", "/url", `{"url": "` + url + `/slow"}`})
	ask := func(c *client, q asked) answered {
		ref := func(css string) string {
			if refs[c][css] == "" {
				refs[c][css] = c.find(css)
			}
			return refs[c][css]
		}
		return c.raw(q.method, "/session/"+c.id+filled(q.path, ref), filled(q.body, ref))
	}
	for _, q := range all {
		mine, other := ask(ours, q), ask(theirs, q)
		assert.Equal(t, fmt.Sprintf("%d %v", other.Status, plainly(other.Value)), fmt.Sprintf("%d %v", mine.Status, plainly(mine.Value)), "%s %s %s\ntheirs: %.300v\nours:   %.300v", q.method, q.path, q.body, other.Value, mine.Value)
	}
	// Where chromedriver departs from the standard, the standard counts: sizes are not rounded (12.4.6), colours are as the page computes them (12.4.4), what has toJSON is that (13.1), and a
	// script that never ends runs into its time-out (13.2.2).
	ours.must("POST", "/timeouts", m{"pageLoad": 30000, "script": 300})
	ours.must("POST", "/url", m{"url": url + "/"})
	assert.InDelta(t, 76.3, ours.must("GET", "/element/"+ours.find("#far")+"/rect", nil).(m)["width"], 0.5)
	assert.Equal(t, "rgb(0, 0, 238)", ours.must("GET", "/element/"+ours.find("#link")+"/css/color", nil))
	assert.Equal(t, "1970-01-01T00:00:00.000Z", ours.must("POST", "/execute/sync", m{"script": "return new Date(0)", "args": []any{}}))
	assert.Equal(t, "script timeout", ours.do("POST", "/execute/sync", m{"script": "while (true) {}", "args": []any{}}).Error())
	assert.Equal(t, "Kelpline help", ours.must("GET", "/title", nil), "it goes on afterwards")
	assert.True(t, notes.has(`console log sent 3 Object`), notes.said)
	assert.True(t, notes.has(`console error no chart`))
}

func TestAPageThatDiesOrIsSomebodyElsesIsNotCommanded(t *testing.T) {
	url := helpServer(t)
	c, _, chromium := webView(t, url+"/")
	assert.Equal(t, "no such window", c.do("POST", "/tessellant/context", m{"context": "web:gone:1"}).Error())
	assert.Equal(t, "no such window", c.do("POST", "/tessellant/context", m{"context": "web", "url": "/elsewhere"}).Error())
	all := c.must("GET", "/tessellant/contexts", nil).([]any)
	require.Len(t, all, 2, "one that does not answer is left out")

	// What may open dialogs is as the session asked for.
	c.must("POST", "/execute/sync", m{"script": "setTimeout(() => { window.sure = confirm('Sure?') }); return 1", "args": []any{}})
	housetest.Eventually(t, "the dialog is open", func() bool { return c.do("GET", "/alert/text", nil).Status == 200 })
	a := c.do("GET", "/title", nil)
	assert.Equal(t, "unexpected alert open", a.Error())
	assert.Equal(t, m{"text": "Sure?"}, a.Value.(m)["data"])
	assert.Equal(t, false, c.must("POST", "/execute/sync", m{"script": "return window.sure", "args": []any{}}))

	moved := c.do("POST", "/execute/sync", m{"script": "return new Promise(() => { location.href = '/tides' })", "args": []any{}})
	assert.Equal(t, "unknown error", moved.Error(), "no element is stale: there was none")
	assert.Contains(t, moved.Value.(m)["message"], "the page went to another document meanwhile")
	assert.Equal(t, "Tides", c.must("GET", "/title", nil))

	chromium.Stop(5 * time.Second)
	housetest.Eventually(t, "the page is gone", func() bool { return c.do("GET", "/title", nil).Error() == "no such window" })
	assert.Equal(t, "no such window", c.do("GET", "/window", nil).Error())
	assert.Len(t, c.must("GET", "/tessellant/contexts", nil), 1)
	c.must("POST", "/tessellant/context", m{"context": "native"})
}
