package labfile_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/labfile"
)

const least = `labs:
  - name: heron
    kind: webdriver
    address: https://lab.example/wd
    devices:
      - {id: h1, platform: android, os: "14", api: 34, maker: Orrery, model: Skerry 5, width: 720, height: 1600, density: 280}
    session:
      capabilities:
        alwaysMatch: {platformName: "{{.Device.Platform}}", "heron:device": "{{.Device.ID}}"}
`

func TestTheDemosLabFileIsGood(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "..", "demo", "labs.yaml"))
	require.NoError(t, err)
	f, mistakes := labfile.Parse(raw)
	require.Empty(t, mistakes)
	require.Len(t, f.Labs, 3)
	l := f.Labs[1]
	assert.Equal(t, "heron", l.Name)
	assert.Equal(t, "cloud", l.Origin)
	assert.Equal(t, 10*time.Second, l.Every)
	assert.Equal(t, "app", l.Build.Part)
	assert.Equal(t, "/heron:device", l.Session.Told.Device)
	assert.Len(t, l.Commands, len(labfile.Commands))
}

func TestWhatTemplatesMakeIsJSONWhateverTheValues(t *testing.T) {
	f, mistakes := labfile.Parse([]byte(strings.ReplaceAll(least, `"{{.Device.ID}}"}`, `"{{.Device.ID}}", name: "run {{.Name}}", language: "{{.Conditions.language}}", limit: 30, deep: {args: "{{.Args}}", list: [a, "{{.Language}}"], none: null, when: 2026-05-06}}`)))
	require.Empty(t, mistakes)
	v := labfile.Values{Device: labfile.Device{ID: `h"1\`, Platform: "android"}, Name: "a\nb", Args: map[string]string{"shore": `"x"`}, Conditions: labfile.Conditions(conditions.Set{})}
	raw, err := f.Labs[0].Session.Capabilities.Make(v)
	require.NoError(t, err)
	var out any
	require.NoError(t, json.Unmarshal(raw, &out), string(raw))
	assert.Equal(t, map[string]any{"alwaysMatch": map[string]any{"platformName": "android", "heron:device": `h"1\`, "name": "run a\nb", "limit": 30.0,
		"deep": map[string]any{"args": map[string]any{"shore": `"x"`}, "list": []any{"a"}, "none": nil, "when": "2026-05-06"}}}, out, "what comes out empty is left out")
}

// TestEachMistakeHasItsLineAndItsRemedy changes one line of a good file each time.
func TestEachMistakeHasItsLineAndItsRemedy(t *testing.T) {
	for _, c := range []struct{ old, new, says, line string }{
		{"    kind: webdriver\n", "    kind: webdrivers\n", "was webdriver meant?", "3"},
		{"    kind: webdriver\n", "", "has no kind", "2"},
		{"  - name: heron\n", "  - name: Heron Point\n", "can't be a lab's name", "2"},
		{"    address:", "    adress:", "was address meant?", "4"},
		{"https://lab.example/wd", "lab.example", "not that of a WebDriver endpoint", "4"},
		{"https://lab.example/wd", "https://u:p@lab.example/wd", "a user or a password", "4"},
		{"    session:", "    secrets: {key: abc}\n    session:", "must not stand in the file", "7"},
		{"    session:", "    secrets: {key: {env: A, file: B}}\n    session:", "from a variable or from a file", "7"},
		{"    session:", "    headers: {X-Key: \"{{.Secret.key}}\"}\n    session:", "a template with a mistake", "7"},
		{"    session:", "    headers: {\"X Key\": a}\n    session:", "can't be a name", "7"},
		{"    session:", "    at_once: 0\n    session:", "write a number from 1", "7"},
		{"    session:", "    catalogue: {address: /c}\n    session:", "both catalogue and devices", "6"},
		{"    session:", "    build: {address: /b}\n    session:", "where its answer has the lab's reference", "7"},
		{"    session:", "    build: {address: /b, answer: id}\n    session:", "JSON Pointer", "7"},
		{"    session:", "    build: {address: /b, answer: /id}\n    session:", "nothing installs it", "7"},
		{"    session:", "    commands: {reboot: {address: x}}\n    session:", "no key \"reboot\"", "7"},
		{"    session:", "    commands: {stop: {method: FETCH, address: x}}\n    session:", "the method of stop can't be", "7"},
		{"    session:", "    commands: {stop: {address: \"{{range $i, $x := .Args}}{{range .Args}}{{end}}{{end}}\"}}\n    session:", "can range over", "7"},
		{"    session:", "    commands: {stop: {address: \"{{range 1000000000}}{{end}}\"}}\n    session:", "can range over", "7"},
		{"{{.Device.ID}}", "{{.Device.Serial}}", "a template with a mistake", "9"},
		{"\"{{.Device.ID}}\"", "{{.Device.ID}} ", "put a text with {{ }} into quotes", "9"},
		{"{{.Device.ID}}", "{{.Build}}", "no build gets there", "8"},
		{"{{.Device.ID}}", "{{.Conditions.languge}}", "a template with a mistake", "9"},
		{"        alwaysMatch:", "        always:", "alwaysMatch or firstMatch", "9"},
		{"platform: android", "platform: palm", "platform is \"palm\"", "6"},
		{"api: 34, ", "", "runs Android and has no api", "6"},
		{"width: 720", "width: wide", "width can't be", "6"},
		{"    session:", "    devices: []\n    session:", "devices is there twice", "7"},
		{"labs:", "labs: &x", "", ""},
	} {
		raw := strings.Replace(least, c.old, c.new, 1)
		require.NotEqual(t, least, raw, c.new)
		_, mistakes := labfile.Parse([]byte(raw))
		if c.says == "" {
			assert.Empty(t, mistakes, c.new)
			continue
		}
		var all []string
		for _, m := range mistakes {
			assert.NotEmpty(t, m.Remedy, m.What)
			all = append(all, m.Error())
		}
		found := false
		for _, m := range mistakes {
			found = found || strings.Contains(m.What+" "+m.Remedy, c.says) && fmt.Sprint(m.Line) == c.line
		}
		assert.True(t, found, "%s in line %s\nfor %s\ngot:\n%s", c.says, c.line, c.new, strings.Join(all, "\n"))
	}
}

func TestAllMistakesAreToldAtOnceInTheirOrder(t *testing.T) {
	_, mistakes := labfile.Parse([]byte("labs:\n  - kind: webdriver\n    at_once: none\n  - name: x\n    kind: adb\n    address: http://a\n"))
	var lines []int
	for _, m := range mistakes {
		lines = append(lines, m.Line)
	}
	assert.IsNonDecreasing(t, lines)
	assert.GreaterOrEqual(t, len(mistakes), 5)
	assert.Equal(t, 6, lines[len(lines)-1])
}

func TestWhatIsNoLabFileIsSaidSo(t *testing.T) {
	for name, raw := range map[string]string{
		"nothing": "", "a text": "hello", "a list": "- a\n- b", "not YAML": "labs: [", "two documents": least + "---\n" + least, "no labs": "{}", "too long": strings.Repeat("#", labfile.MaxBytes+1),
		"references": "labs: &a [*a]", "a bomb": "a: &a [x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\nlabs: [*c,*c,*c]", "two of a name": least + strings.TrimPrefix(least, "labs:\n"),
	} {
		_, mistakes := labfile.Parse([]byte(raw))
		assert.NotEmpty(t, mistakes, name)
	}
}

func TestAJSONPointerLeadsWhereRFC6901Says(t *testing.T) {
	var doc any
	require.NoError(t, json.Unmarshal([]byte(`{"foo": ["bar", "baz"], "": 0, "a/b": 1, "m~n": 8}`), &doc))
	for pointer, want := range map[string]any{"/foo/0": "bar", "/": 0.0, "/a~1b": 1.0, "/m~0n": 8.0} {
		got, ok := labfile.At(doc, pointer)
		assert.True(t, ok, pointer)
		assert.Equal(t, want, got, pointer)
	}
	for _, pointer := range []string{"/foo/2", "/foo/-1", "/foo/01", "/foo/bar", "/nothing", "/a~1b/c"} {
		_, ok := labfile.At(doc, pointer)
		assert.False(t, ok, pointer)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(least))
	raw, err := os.ReadFile(filepath.Join("..", "..", "..", "demo", "labs.yaml"))
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		file, mistakes := labfile.Parse(raw)
		for _, m := range mistakes {
			if m.What == "" || m.Remedy == "" {
				t.Fatalf("a mistake without words: %+v", m)
			}
		}
		if len(mistakes) > 0 {
			return
		}
		for _, l := range file.Labs {
			if l.Kind != labfile.WebDriver {
				continue
			}
			v := labfile.Values{Secret: map[string]string{}, Args: map[string]string{}, Conditions: labfile.Conditions(nil)}
			for name := range l.Secrets {
				v.Secret[name] = "s"
			}
			if raw, err := l.Session.Capabilities.Make(v); err == nil && !json.Valid(raw) {
				t.Fatalf("no JSON: %s", raw)
			}
		}
	})
}

func TestKindsThatNeedLess(t *testing.T) {
	f, mistakes := labfile.Parse([]byte(`labs:
  - name: gull
    kind: tessellant
    address: https://tessellant.example/
    key: {env: GULL_KEY}
    at_once: 2
  - name: browsers
    kind: browser
    addresses: [tides.example, "*.kelpline.example", "10.0.0.7:8080", "[::1]:9000"]
    devices: [{id: c-360, width: 1080, height: 2340, density: 480}]
  - name: adb
    kind: adb
    at_most: 2
    startable: [{id: e, count: 3, start: "run {{.Port}}", os: "13", api: 33, model: M, width: 720, height: 1280, density: 320, fresh: each}]
`))
	require.Empty(t, mistakes)
	gull, browsers, adb := f.Labs[0], f.Labs[1], f.Labs[2]
	assert.Equal(t, []any{"https://tessellant.example/webdriver", "cloud", 2, "GULL_KEY"}, []any{gull.Address, gull.Origin, gull.AtOnce, gull.Secrets["key"].Env})
	assert.Equal(t, "/tessellant:session", gull.Session.Told.Reference)
	assert.Equal(t, []string{"web", "360 × 780", "phone"}, []string{browsers.Devices[0].Platform, browsers.Devices[0].Model, browsers.Devices[0].Form})
	raw, err := browsers.Session.Pages.Make(labfile.Values{Screen: labfile.Screen{Width: 360, Height: 780, Scale: 3}, Language: "de", Device: labfile.Device{OS: "150"}, Own: map[string]string{"proxy": "127.0.0.1:1", "box": ""}})
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"deviceMetrics":{"width":360,"height":780,"pixelRatio":3,"touch":true,"mobile":true}`, "numbers are numbers")
	assert.Contains(t, string(raw), `"--proxy-bypass-list=\u003c-loopback\u003e"`)
	assert.NotContains(t, string(raw), "no-sandbox")
	assert.Equal(t, []string{"e-1", "e-2", "e-3"}, adb.Startable[0].Serials())
	assert.True(t, adb.Startable[0].Fresh)
	for server, want := range map[string][2]bool{"tides.example:443": {true, true}, "TIDES.example.:80": {true, true}, "a.tides.example:443": {}, "kelpline.example:80": {}, "a.b.kelpline.example:80": {true, false}, "10.0.0.7:8080": {true, true}, "10.0.0.7:80": {},
		"[::1]:9000": {true, true}, "[::1]:9001": {}, "127.0.0.1:80": {}} {
		host, port, err := net.SplitHostPort(server)
		require.NoError(t, err)
		may, named := browsers.Leads(host, port)
		assert.Equal(t, want, [2]bool{may, named}, server)
	}
	may, named := (&labfile.Lab{}).Leads("anything.example", "443")
	assert.Equal(t, [2]bool{true, false}, [2]bool{may, named}, "without addresses, all that is public")
}

func TestMistakesOfKindsThatNeedLess(t *testing.T) {
	for text, says := range map[string]string{
		"kind: tessellant": "not that of a Tessellant",
		"kind: tessellant, address: https://t.example":                                                               "has no key",
		"kind: tessellant, address: https://u:p@t.example, key: {env: A}":                                            "a user or a password",
		"kind: tessellant, address: \"https://t.example/{{.Build}}\", key: {env: A}":                                 "not that of a Tessellant",
		"kind: tessellant, address: https://t.example, key: abc":                                                     "must not stand in the file",
		"kind: tessellant, address: https://t.example, key: {env: A}, session: {}":                                   "has no session",
		"kind: browser, addresses: [\"http://a\"]":                                                                   "is no server",
		"kind: browser, addresses: [\"a b\"]":                                                                        "is no server",
		"kind: browser, devices: [{id: a, width: 0, height: 5}]":                                                     "width can't be",
		"kind: browser, catalogue: {address: /c}":                                                                    "has no catalogue",
		"kind: adb, at_most: 3":                                                                                      "there are none",
		"kind: adb, startable: [{id: a, os: \"1\", api: 1, model: m, width: 1, height: 1}]":                          "no command that starts it",
		"kind: adb, startable: [{id: a, start: \"{{.Nothing}}\", os: \"1\", api: 1, model: m, width: 1, height: 1}]": "a template with a mistake",
		"kind: adb, startable: [{id: a, start: x, api: 1, model: m, width: 1, height: 1}]":                           "it has no os",
		"kind: adb, startable: [{id: a, start: x, fresh: always, os: \"1\", api: 1, model: m, width: 1, height: 1}]": "fresh can't be",
		"kind: adb, startable: [{id: a, count: 2, start: x, os: \"1\", api: 1, model: m, width: 1, height: 1}, {id: a-1, start: x, os: \"1\", api: 1, model: m, width: 1, height: 1}]": "a device a-1 is there already",
	} {
		_, mistakes := labfile.Parse([]byte("labs:\n  - {name: x, " + text + "}\n"))
		var all []string
		for _, m := range mistakes {
			all = append(all, m.Error())
			assert.NotEmpty(t, m.Remedy)
			assert.Equal(t, 2, m.Line, m.What)
		}
		assert.Contains(t, strings.Join(all, "\n"), says, text)
	}
}
