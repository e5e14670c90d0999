package host_test

// Packages of the kind program: run in the sandbox, on a simulated phone.

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/housetest"
	"tessellant/internal/sandbox"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	standin "tessellant/internal/standin/phone"
)

// boxed gives a host a tight box.
func boxed(t *testing.T) func(*config) {
	t.Helper()
	dir, err := os.MkdirTemp("", "tsl-box-") // the test's own folder is closed to other users
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o711))
	box, err := sandbox.Probe(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(box.Close)
	_, err = exec.LookPath("bwrap")
	require.NoError(t, err, "install Debian's bubblewrap")
	if box.Level != sandbox.Tight {
		t.Skip("this machine's kernel gives programs no namespaces of their own: " + box.Why)
	}
	return func(c *config) { c.Box = box }
}

// knows waits until the service knows what the host has.
func (b *bench) knows() {
	b.t.Helper()
	housetest.Eventually(b.t, "the host has told what it has", func() bool {
		hs, err := b.ListHosts(b.t.Context())
		require.NoError(b.t, err)
		return len(hs) == 1 && hs[0].About.V.Runtimes["python3"] != ""
	})
}

// startProgram runs a package of these files: its tessellant.yaml begins with name and kind.
func (b *bench) startProgram(limit int, more string, files map[string]string) string {
	b.t.Helper()
	_, _, err := b.AddPackage(context.Background(), b.Who, service.Upload{Body: b.program(more, files), Size: -1})
	require.NoError(b.t, err)
	return b.run("prog@newest", limit)
}

// program packs these files as a program.
func (b *bench) program(more string, files map[string]string) io.Reader {
	b.t.Helper()
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	files[testpkg.Entry] = "name: prog\nkind: program\n" + more
	for name, s := range files {
		w, err := z.Create(name)
		require.NoError(b.t, err)
		_, err = w.Write([]byte(s))
		require.NoError(b.t, err)
	}
	require.NoError(b.t, z.Close())
	return &buf
}

func (b *bench) run(pkg string, limit int) string {
	b.t.Helper()
	r, _, err := b.StartRun(context.Background(), b.Who, service.RunRequest{Build: "kelpline/android@newest", Package: pkg, LimitSeconds: limit})
	require.NoError(b.t, err)
	return r.ID
}

// addFolder uploads a folder of the demo.
func (b *bench) addFolder(name string) {
	b.t.Helper()
	var buf bytes.Buffer
	require.NoError(b.t, testpkg.Pack(os.DirFS(filepath.Join(housetest.Root(), "demo", name)), &buf))
	_, _, err := b.AddPackage(context.Background(), b.Who, service.Upload{Body: &buf, Size: -1})
	require.NoError(b.t, err)
}

func TestTheDemosProgramsRunOnADevice(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	for name, cases := range map[string][]string{
		"shore-suite-js": {"shores / the search narrows the list", "shores / the chart of the tides shows", "survey / a survey can be sent", "survey / a draft survives going back"},
		"shore-suite-py": {"Survey.test_a_draft_survives_going_back", "Survey.test_an_earlier_survey_can_be_opened", "Survey.test_covers_are_added_up", "Tides.test_the_chart_shows", "Tides.test_the_table_has_four_tides"},
	} {
		b.addFolder(name)
		l := b.wait(b.run(name+"@newest", 120))
		a := l.Attempts[0]
		require.Equal(t, verdict.Passed, l.Verdict, "%s: %s", l.Message, b.file(a, "output.log"))
		var got []string
		for _, c := range a.Cases {
			got = append(got, c.Name)
			if c.Verdict == verdict.Skipped {
				continue
			}
			assert.Equal(t, verdict.Passed, c.Verdict)
			assert.Positive(t, c.StartMS, "%s is married to the clock", c.Name)
			assert.Positive(t, c.TookMS)
		}
		assert.Equal(t, cases, got)
		es := b.whole(a)
		var done []string
		for _, e := range es {
			if e.Kind == timeline.Command && e.Case != "" {
				done = append(done, e.Name)
			}
		}
		assert.Contains(t, done, "element click")
		assert.Contains(t, string(b.file(a, "remote-end.log")), "device: tap")
		assert.Contains(t, string(b.file(a, "results/001-shore.xml")), "<testcase")
		v, err := b.Run(t.Context(), b.Who, l.RunID)
		require.NoError(t, err)
		assert.Equal(t, cases, v.CaseNames)
	}
}

// binary gives a program of the system, as a package may bring along one of its own.
func binary(t *testing.T, name string) string {
	t.Helper()
	at, err := exec.LookPath(name)
	require.NoError(t, err)
	raw, err := os.ReadFile(at)
	require.NoError(t, err)
	return string(raw)
}

const report = `<testsuite><testcase classname="c" name="a" time="0.1"/></testsuite>`

func TestAProgramGetsWhatItNeedsAndSecretsAreHidden(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	run := func() string {
		var buf bytes.Buffer
		z := zip.NewWriter(&buf)
		for name, s := range map[string]string{
			testpkg.Entry: "name: prog\nkind: program\nprepare: echo prepared > p\nrun: sh run.sh\nresults: [r.xml]\ninputs:\n  observer-code: {secret: true}\n  shore: {default: Gull}\n",
			"run.sh":      "cat p; echo $TESSELLANT_DEVICE_SERIAL $TESSELLANT_INPUT_SHORE $TESSELLANT_BUILD $TESSELLANT_APP; echo code $TESSELLANT_INPUT_OBSERVER_CODE; echo $TESSELLANT_DEVICE; echo $TESSELLANT_INPUT_OBSERVER_CODE > $TESSELLANT_KEEP/note.txt; (printf '\\200\\0'; head -c 3000000 /dev/zero) > $TESSELLANT_KEEP/raw; (yes å | head -c 3000000; echo; echo $TESSELLANT_INPUT_OBSERVER_CODE) > $TESSELLANT_KEEP/long.txt; mkdir $TESSELLANT_KEEP/d; echo x > $TESSELLANT_KEEP/d/x; ln -s /etc/passwd $TESSELLANT_KEEP/link; cp r0.xml r.xml",
			"r0.xml":      report,
		} {
			w, err := z.Create(name)
			require.NoError(t, err)
			_, err = w.Write([]byte(s))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		_, _, err := b.AddPackage(t.Context(), b.Who, service.Upload{Body: &buf, Size: -1})
		require.NoError(t, err)
		r, _, err := b.StartRun(t.Context(), b.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "prog@newest", Secrets: map[string]string{"observer-code": "ebb-and-flow"}})
		require.NoError(t, err)
		return r.ID
	}()
	l := b.wait(run)
	a := l.Attempts[0]
	out := string(b.file(a, "output.log"))
	require.Equal(t, verdict.Passed, l.Verdict, "%s %s", l.Message, out)
	assert.Contains(t, out, "prepared\norr-01 Gull kelpline/android@231 org.kelpline.app\ncode ••••••\n")
	assert.Contains(t, out, `"maker":"Orrery"`)
	assert.Equal(t, "x\n", string(b.file(a, "kept/d/x")))
	assert.Equal(t, "••••••\n", string(b.file(a, "kept/note.txt")))
	assert.Equal(t, "\x80"+strings.Repeat("\x00", 3_000_001), string(b.file(a, "kept/raw")), "what is no text stays as it is")
	long := string(b.file(a, "kept/long.txt"))
	assert.Equal(t, 1_000_000, strings.Count(long, "å"))
	assert.Equal(t, "••••••\n", long[strings.LastIndex(long[:len(long)-1], "\n")+1:])
	for _, f := range a.Artifacts {
		assert.NotEqual(t, "kept/link", f.Name, "links lead where the program chose")
	}
	assert.NotContains(t, string(b.file(a, "timeline.jsonl")), "ebb-and-flow")
}

func TestHowAProgramCanEnd(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	ok := map[string]string{"r.xml": report}
	for name, c := range map[string]struct {
		limit   int
		more    string
		files   map[string]string
		verdict verdict.Verdict
		said    []string
	}{
		"it writes no results":              {60, "run: echo last words; exit 3\nresults: [r.xml]\n", map[string]string{}, verdict.Invalid, []string{"with exit code 3", "wrote no results as r.xml", "last words"}},
		"its results hold no case":          {60, "run: echo '<testsuites/>' > r.xml; echo '{}' > s.xml; echo done > t.xml; touch u.xml\nresults: ['*.xml']\n", map[string]string{}, verdict.Invalid, []string{"no JUnit XML with test cases", "r.xml: there is no test case in it", `s.xml: there is no test case in it: it is no XML, but begins with "{}"`, `begins with "done"`, "u.xml: there is no test case in it: it is empty"}},
		"its results are none":              {60, "run: echo '<html/>' > r.xml\nresults: [r.xml]\n", map[string]string{}, verdict.Invalid, []string{"it begins with <html>", "it wrote nothing"}},
		"it can't be started":               {60, "run: [no-such-thing]\nresults: [r.xml]\n", map[string]string{}, verdict.Invalid, []string{"no-such-thing can't be started: it is not here"}},
		"it can't be prepared":              {60, "prepare: echo oh no; exit 1\nrun: 'true'\nresults: [r.xml]\n", ok, verdict.Invalid, []string{"could not be prepared", "oh no"}},
		"preparing never ends":              {60, "prepare: while true; do sleep 1; done\nlimits: {prepare: 1s}\nrun: 'true'\nresults: [r.xml]\n", ok, verdict.Invalid, []string{"preparing took longer than 1s"}},
		"it never ends":                     {4, "run: while true; do sleep 1; done\nresults: [r.xml]\n", ok, verdict.Expired, []string{"time limit"}},
		"a case fails":                      {60, "run: 'exit 1'\nresults: [r.xml]\n", map[string]string{"r.xml": `<testsuite><testcase name="a"><failure message="no tide"/></testcase></testsuite>`}, verdict.Failed, []string{"a: no tide"}},
		"it fails, and its report does not": {60, "run: echo why; exit 2\nresults: [r.xml]\n", ok, verdict.Failed, []string{"exit code 2, though no case of its report failed", "why"}},
		"it writes too much":                {60, "run: cat /dev/zero > a & cat /dev/zero > b & sleep 20\nlimits: {disk-mb: 30}\nresults: [r.xml]\n", ok, verdict.Expired, []string{"it wrote more than 30 MB"}},
		"it is a binary":                    {60, "run: [./bin/prog, r0.xml, r.xml]\nresults: [r.xml]\n", map[string]string{"bin/prog": binary(t, "cp"), "r0.xml": report}, verdict.Passed, nil},
		"the app dies in a case": {60, "run: python3 die.py\nresults: [r.xml]\n", map[string]string{"die.py": wd + `
wd("POST", s + "/tessellant/case/begin", {"name": "dies"})
wd("POST", s + "/tessellant/app/stop", {})
wd("POST", s + "/tessellant/app/launch", {"args": {"debug_crash": "low tide"}})
wd("POST", s + "/timeouts", {"implicit": 8000})
wd("POST", s + "/element", {"using": "css selector", "value": "#aerr_close"})
wd("POST", s + "/tessellant/case/end", {"verdict": "passed"})
wd("DELETE", s)
open("r.xml", "w").write('<testsuite><testcase name="dies"/></testsuite>')
`}, verdict.Crashed, []string{"low tide"}},
	} {
		l := b.wait(b.startProgram(c.limit, c.more, c.files))
		assert.Equal(t, c.verdict, l.Verdict, "%s: %s", name, l.Message)
		for _, s := range c.said {
			assert.Contains(t, l.Message, s, name)
		}
	}
}

// wd is the head of programs in Python that send commands.
const wd = `
import json, os, time, urllib.request
def wd(m, p, b=None):
    with urllib.request.urlopen(urllib.request.Request(os.environ["TESSELLANT_WEBDRIVER_URL"] + p, None if b is None else json.dumps(b).encode(), method=m)) as a: return json.load(a)["value"]
s = "/session/" + wd("POST", "/session", {"capabilities": {}})["sessionId"]
def begin(name): wd("POST", s + "/tessellant/case/begin", {"name": name})
def end(verdict): wd("POST", s + "/tessellant/case/end", {"verdict": verdict})
`

// ws is a client of RFC 6455 as short as it can be.
const ws = `
import base64, json, os, socket, struct, time, urllib.parse, urllib.request
def wd(m, p, b=None):
    with urllib.request.urlopen(urllib.request.Request(os.environ["TESSELLANT_WEBDRIVER_URL"] + p, None if b is None else json.dumps(b).encode(), method=m)) as a: return json.load(a)["value"]
class WS:
    def __init__(self, url):
        u = urllib.parse.urlparse(url)
        self.s = socket.create_connection((u.hostname, u.port))
        self.s.settimeout(20)
        self.s.sendall(f"GET {u.path} HTTP/1.1\r\nHost: {u.netloc}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: {base64.b64encode(os.urandom(16)).decode()}\r\n\r\n".encode())
        self.f = self.s.makefile("rb")
        assert b" 101 " in self.f.readline()
        while self.f.readline() != b"\r\n": pass
    def say(self, id, method, params):
        b = json.dumps({"id": id, "method": method, "params": params}).encode()
        self.s.sendall(b"\x81" + (bytes([0x80 | len(b)]) if len(b) < 126 else b"\xfe" + struct.pack(">H", len(b))) + bytes(4) + b)
    def hear(self):
        while True:
            kind, n = self.f.read(2)
            if n == 126: n = struct.unpack(">H", self.f.read(2))[0]
            if n == 127: n = struct.unpack(">Q", self.f.read(8))[0]
            b = self.f.read(n)
            if kind & 15 == 1: return json.loads(b)
            if kind & 15 == 8: return {"closed": b[2:].decode()}
    def until(self, what):
        while True:
            m = self.hear()
            if what(m): return m
`

func TestAProgramListensToItsSession(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	files := map[string]string{"go.py": ws + `
caps = {"capabilities": {"alwaysMatch": {"webSocketUrl": True}}}
a = wd("POST", "/session", caps)
w = WS(a["capabilities"]["webSocketUrl"])
w.say(1, "session.subscribe", {"events": ["log"]})
w.until(lambda m: m.get("method") == "log.entryAdded" and m["params"]["tessellant:tag"] == "ActivityManager")
w.say(2, "browsingContext.getTree", {})
assert w.until(lambda m: m.get("id") == 2)["result"]["contexts"][0]["context"] == "native"
w.say(3, "session.end", {})
w.until(lambda m: m.get("id") == 3)
w.until(lambda m: "closed" in m)
a = wd("POST", "/session", caps) # the next has no wait
w = WS(a["capabilities"]["webSocketUrl"])
wd("DELETE", "/session/" + a["sessionId"])
assert w.until(lambda m: "closed" in m)["closed"] == "the session has ended"
assert "webSocketUrl" not in wd("POST", "/session", {"capabilities": {}})["capabilities"]
open("r.xml", "w").write('<testsuite><testcase name="hears"/></testsuite>')
`}
	l := b.wait(b.startProgram(60, "run: python3 go.py\nresults: [r.xml]\n", files))
	assert.Equal(t, verdict.Passed, l.Verdict, "%s", l.Message)
}

func TestCasesThatAProgramMarksAreSeenAtOnceAndItsReportHasTheLastWord(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	files := map[string]string{"go.py": wd + `
for _ in range(2):
    begin("opens"); wd("GET", s + "/source"); end("passed")
begin("unknown to the report"); end("failed")
begin("waits")
for _ in range(20): wd("GET", s + "/tessellant/orientation"); time.sleep(0.1)
open("r.xml", "w").write('<testsuite><testcase classname="Shores" name="opens" time="0.1"/><testcase classname="Tides" name="opens"><failure message="no tide"/></testcase></testsuite>')
`}
	run := b.startProgram(60, "run: python3 go.py\nresults: [r.xml]\n", files)
	b.until(run, "waits")
	live := b.leg(run)
	assert.Zero(t, live.CasesTotal, "nobody knows yet how many there will be")
	var names []string
	for _, c := range live.Attempts[0].Cases {
		names = append(names, c.Name+" "+string(c.Verdict))
	}
	assert.Equal(t, []string{"opens passed", "opens passed", "unknown to the report failed", "waits "}, names)

	l := b.wait(run)
	names = nil
	for _, c := range l.Attempts[0].Cases {
		names = append(names, c.Name+" "+string(c.Verdict))
		assert.Positive(t, c.StartMS)
	}
	assert.Equal(t, []string{"Shores.opens passed", "Tides.opens failed", "unknown to the report failed", "waits failed"}, names)
	assert.Less(t, l.Attempts[0].Cases[0].StartMS, l.Attempts[0].Cases[1].StartMS, "each has its own mark's time")
	assert.Equal(t, "the program ended while it ran", l.Attempts[0].Cases[3].Message)
	assert.Equal(t, 4, l.CasesTotal)
	var seen []string
	for _, e := range b.whole(l.Attempts[0]) {
		if e.Kind == timeline.Case || (e.Kind == timeline.Command && e.Name == "get page source") {
			seen = append(seen, strings.TrimSpace(e.Case+" "+e.Verdict))
		}
	}
	assert.Equal(t, []string{"Shores.opens", "Shores.opens", "Shores.opens passed", "Tides.opens", "Tides.opens", "Tides.opens failed", "unknown to the report", "unknown to the report failed", "waits", "waits failed"}, seen)
}

func TestALostProgramsTimelineHasItsCases(t *testing.T) {
	t.Parallel()
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	run := b.startProgram(60, "run: python3 go.py\nresults: [r.xml]\n", map[string]string{"go.py": wd + `
begin("opens"); end("passed")
begin("waits")
time.sleep(3)
`})
	b.until(run, "waits")
	b.phone.Unplug()
	l := b.wait(run)
	require.NotEmpty(t, l.Attempts)
	a := l.Attempts[0]
	assert.Equal(t, verdict.Lost, a.Verdict)
	var seen []string
	for _, e := range events(t, b.file(a, "timeline.jsonl")) {
		if e.Kind == timeline.Case {
			seen = append(seen, strings.TrimSpace(e.Name+" "+e.Verdict))
		}
	}
	assert.Equal(t, []string{"opens", "opens passed", "waits", "waits lost"}, seen)
}

func TestASuiteThatAsksForAnotherDeviceRunsWhereTheRunSays(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	run := b.startProgram(60, "run: python3 go.py\nresults: [r.xml]\n", map[string]string{"go.py": strings.Replace(wd, `{"capabilities": {}}`, `{"capabilities": {
	"alwaysMatch": {"tessellant:idle": 1, "tessellant:build": "kelpline/android@v0.1"}, "firstMatch": [{"browserName": "any"}, {"tessellant:where": ["maker=Fenwick"]}]}}`, 1) + `
# A test that forgot its session: the next one's waits until it was idle for a second.
s = "/session/" + wd("POST", "/session", {"capabilities": {"firstMatch": [{"tessellant:where": ["maker=Fenwick"]}, {"tessellant:where": ["serial=orr-01"]}]}})["sessionId"]
wd("GET", s + "/source")
wd("DELETE", s)
open("r.xml", "w").write('<testsuite><testcase name="asks"/></testsuite>')
`})
	l := b.wait(run)
	require.Equal(t, verdict.Passed, l.Verdict, l.Message)
	var noted []string
	for _, e := range b.whole(l.Attempts[0]) {
		if e.Kind == timeline.Marker && (strings.HasPrefix(e.Name, "the suite asked") || strings.HasPrefix(e.Name, "a session waits")) {
			noted = append(noted, e.Name+": "+e.Answer)
		}
	}
	require.Len(t, noted, 2)
	assert.Equal(t, "the suite asked for another device: maker=Fenwick; the run has chosen orr-01", noted[0])
	assert.Contains(t, noted[1], "has not been ended yet; a device has one at a time")
}

func TestAProgramThatUpdatesTheAppBeginsItsNextSessionWithTheRunsBuild(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	newer, err := os.Open(housetest.Kelpline190(t))
	require.NoError(t, err)
	defer newer.Close()
	_, _, err = b.AddBuild(t.Context(), b.Who, service.Upload{Body: newer, Size: -1})
	require.NoError(t, err)
	_, _, err = b.AddPackage(t.Context(), b.Who, service.Upload{Body: b.program("run: python3 go.py\nresults: [r.xml]\n", map[string]string{"go.py": wd + `
wd("POST", s + "/tessellant/app/install", {"build": "kelpline/android@240"})
wd("POST", s + "/tessellant/app/launch", {})
wd("DELETE", s)
s = "/session/" + wd("POST", "/session", {"capabilities": {}})["sessionId"]
wd("GET", s + "/source")
wd("DELETE", s)
s = "/session/" + wd("POST", "/session", {"capabilities": {}})["sessionId"]
print([l.split("versionCode=")[1] for l in wd("POST", s + "/tessellant/log", {})["lines"] if "versionCode=" in l])
wd("DELETE", s)
open("r.xml", "w").write('<testsuite><testcase name="updates"/></testsuite>')
`}), Size: -1})
	require.NoError(t, err)
	r, _, err := b.StartRun(t.Context(), b.Who, service.RunRequest{Build: "kelpline/android@231", Package: "prog@newest", LimitSeconds: 60})
	require.NoError(t, err)
	l := b.wait(r.ID)
	require.Equal(t, verdict.Passed, l.Verdict, l.Message)
	assert.Contains(t, string(b.file(l.Attempts[0], "output.log")), "['231', '240', '231']", "it is installed anew, and only where another had taken its place")
}

func TestAProgramReachesNothingButItsDevice(t *testing.T) {
	b := set(t, "orr-01", standin.Instant, boxed(t))
	b.knows()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	files := func() map[string]string {
		return map[string]string{"r.xml": report, "run.sh": "curl -sS -m 3 http://" + l.Addr().String() + " 2>&1; curl -sS -m 3 " + b.URL + "/healthz 2>&1; curl -sS $TESSELLANT_WEBDRIVER_URL/status; ls " + b.Dir + " 2>&1; cat /etc/resolv.conf; true"}
	}
	out := func(run string) string {
		leg := b.wait(run)
		require.Equal(t, verdict.Passed, leg.Verdict, leg.Message)
		return string(b.file(leg.Attempts[0], "output.log"))
	}
	said := out(b.startProgram(60, "run: sh run.sh\nresults: [r.xml]\n", files()))
	assert.Equal(t, 2, strings.Count(said, "Failed to connect"), said)
	assert.Contains(t, said, `"ready":true`)
	assert.Contains(t, said, "No such file or directory")
	on := true
	_, err = b.SetAllowances(t.Context(), b.Who, &on, nil, nil)
	require.NoError(t, err)
	r := b.run("prog@newest", 60)
	if leg := b.wait(r); leg.Verdict == verdict.Invalid {
		t.Skip("this machine can't give programs a network of their own: " + leg.Message)
	}
	said = out(r)
	assert.Equal(t, 2, strings.Count(said, "Failed to connect"), "a network is never this machine's own: %s", said)
	assert.Contains(t, said, `"ready":true`)
	assert.Contains(t, said, "nameserver", "it has one")
}

func TestAHostThatCanNotKeepProgramsApartRunsNone(t *testing.T) {
	weak := &sandbox.Box{Level: sandbox.Open, Why: "bubblewrap is not installed"}
	b := set(t, "orr-01", standin.Instant, func(c *config) { c.Box = weak })
	housetest.Eventually(t, "the host has told why", func() bool {
		hs, err := b.ListHosts(t.Context())
		require.NoError(t, err)
		return hs[0].About.V.Why != ""
	})
	var buf bytes.Buffer
	require.NoError(t, testpkg.Pack(os.DirFS(filepath.Join(housetest.Root(), "demo", "shore-suite-py")), &buf))
	p, _, err := b.AddPackage(t.Context(), b.Who, service.Upload{Body: &buf, Size: -1})
	require.NoError(t, err)
	require.NotEmpty(t, p.Findings.V)
	assert.Contains(t, p.Findings.V[0].What, "it runs no programs. bubblewrap is not installed")
	_, _, err = b.StartRun(t.Context(), b.Who, service.RunRequest{Build: "kelpline/android@newest", Package: "shore-suite-py@newest"})
	require.Error(t, err)
	var no *refuse.Error
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Findings[0].What, "can't run the package")
}
