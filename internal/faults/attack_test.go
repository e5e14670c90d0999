package faults

// The service as an attacker and an unlucky client meet it, process by process: what is sent, what holds, and what it costs. make attack runs all of it; a
// short form is part of make test.

import (
	"archive/zip"
	"bytes"
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"text/tabwriter"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/housetest"
)

var long = flag.Bool("long", false, "all of TestAttack, and not its short form")

// Bounds that hold throughout an attack.
const (
	mostMemory = 900 << 20        // bytes of a process of ours
	mostWork   = 6 * time.Second  // processor time of the service and its database, if an attack has no bound of its own: unlike time that passes, it is about the same beside other work
	goodAnswer = 3 * time.Second  // for a good client beside it
	freeWithin = 90 * time.Second // a device after it
)

// attack is one thing that is tried. It answers why it did not hold; "": it did.
type attack struct {
	name string
	long bool          // only in the long form
	work time.Duration // 0: mostWork
	do   func(l *lab) string
}

var attacks = []attack{
	{name: "60 MB of multipart to sign-in, twice", do: multipartToSignIn},
	{name: "40 MB of XML to sign-in", do: func(l *lab) string {
		return l.refuses(415, "POST", "/api/v1/signin", "", []byte("<SignIn>"+strings.Repeat("<a><b/></a>", 4<<20)+"</SignIn>"), "Content-Type", "application/xml")
	}},
	{name: "8 MB of brackets to /webdriver, without a key", do: func(l *lab) string {
		return l.refuses(400, "POST", "/webdriver/session", "", []byte(`{"capabilities":{"a:b":[`+strings.Repeat("[],", 8<<20/3)+`1]}}`), "Content-Type", "application/json")
	}},
	{name: "a body nested 400,000 deep", do: func(l *lab) string {
		return l.refuses(400, "POST", "/api/v1/runs/check", labKey, []byte(strings.Repeat("[", 400_000)), "Content-Type", "application/json")
	}},
	{name: "500 stalled clients", do: stalledClients},
	{name: "odd calls of every operation", do: oddCalls},
	{name: "four APKs of 200,000 entries at once", do: manyEntries},
	{name: "/metrics 300 times", work: 10 * time.Second, do: metricsOften},
	{name: "locators that panic or never end", do: hostileLocators},
	{name: "texts of a session that are long", do: longTexts},
	{name: "a script that says too much", do: func(l *lab) string {
		return l.scripted("floods", "def test_log(phone):\n    for i in range(1500):\n        log('z' * 60000)\ndef test_book(phone):\n    print('x' * (20 << 20))\ndef test_fail(phone):\n    fail('x' * 70000)\n", api.Failed)
	}},
	{name: "a timeline read by twenty at once", work: 45 * time.Second, do: readTimelines},
	{name: "a script that takes all it gets", long: true, work: 20 * time.Second, do: func(l *lab) string {
		return l.scripted("greedy", "def test_memory(phone):\n    x = [1]\n    for i in range(100):\n        x = x + x\ndef test_steps(phone):\n    while True:\n        pass\ndef test_number(phone):\n    x = 3\n    for i in range(60):\n        x = x * x\n        log(str(x))\n", api.Failed)
	}},
	{name: "100,000 soft checks", long: true, work: 15 * time.Second, do: func(l *lab) string {
		return l.scripted("checks", "def test_soft(phone):\n    for i in range(100000):\n        check.equal('a' * 900, 'b' * 900, go_on = True)\n", api.Failed)
	}},
	{name: "a report of 12,000 cases, the last failed", work: 15 * time.Second, do: func(l *lab) string { return l.programmed("many", cases(12_000), api.Failed, 12_000) }},
	{name: "a report of 60,000 cases, the last failed", long: true, work: time.Minute, do: func(l *lab) string { return l.programmed("more", cases(60_000), api.Failed, 60_000) }},
	{name: "a report of more cases than are read", long: true, work: 4 * time.Minute, do: func(l *lab) string {
		return l.programmed("excess", strings.ReplaceAll(cases(200_050), `<failure message=\"no\"/>`, ""), api.Invalid, 200_000)
	}},
	{name: "cases of one name, odd files, long names", do: func(l *lab) string {
		return l.programmed("odd", `cd "$TESSELLANT_KEEP"; printf a > "$(printf 'n-\377.txt')"; printf b > "$(printf 'n%.0s' $(seq 1 240)).log"; cd - > /dev/null
printf '<testsuite><testcase name="a"/><testcase name="a"><failure message="%s"/></testcase><testcase name="a"/></testsuite>' "$(printf 'm%.0s' $(seq 1 65540))" > out.xml`, api.Failed, 3)
	}},
}

// cases is a shell command that writes a report of n cases, of which the last failed.
func cases(n int) string {
	return fmt.Sprintf(`awk 'BEGIN { print "<testsuite>"; for (i = 1; i < %d; i++) print "<testcase name=\"c" i "\"/>"; print "<testcase name=\"last\"><failure message=\"no\"/></testcase></testsuite>" }' > out.xml`, n)
}

func TestAttack(t *testing.T) {
	tmp := t.TempDir()
	l := newLab(t, 1)
	l.service.end()
	l.service.env = append(l.service.env, "TMPDIR="+tmp, "TESSELLANT_ATTACKED=1")
	l.service.start()
	l.up()
	out := tabwriter.NewWriter(os.Stdout, 0, 0, 3, ' ', 0)
	defer func() { _ = out.Flush() }()
	fmt.Fprintln(out, "tried\theld\ttook\twork\tmemory at most, service and host\tslowest good answer")
	for _, a := range attacks {
		if a.long && !*long {
			continue
		}
		l.free(1)
		w := watchOver(l)
		start, worked := time.Now(), l.worked()
		why := a.do(l)
		took, work := time.Since(start), l.worked()-worked
		freed := l.freed()
		w.stop()
		switch {
		case why != "":
		case w.service.Load() > mostMemory || w.host.Load() > mostMemory:
			why = "it takes too much memory"
		case work > cmp.Or(a.work, mostWork):
			why = "it takes too much processor time"
		case w.slowest.Load() > int64(goodAnswer):
			why = "a good client waits"
		case !freed:
			why = "the device does not come free"
		case len(leftIn(tmp)) > 0:
			why = "files are left: " + strings.Join(leftIn(tmp), ", ")
		}
		held := "yes"
		if why != "" {
			held = "NO: " + why
		}
		fmt.Fprintf(out, "%s\t%s\t%.1f s\t%.1f s\t%d MB, %d MB\t%d ms\n", a.name, held, took.Seconds(), work.Seconds(), w.service.Load()>>20, w.host.Load()>>20, time.Duration(w.slowest.Load()).Milliseconds())
		assert.Empty(t, why, a.name)
	}
	raw, err := os.ReadFile(l.service.log)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "a panic was caught", "nothing of it was a fault of the program")
}

// leftIn lists what lies in a folder for temporary files.
func leftIn(dir string) (out []string) {
	_ = filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasPrefix(filepath.Base(p), "multipart-") {
			out = append(out, p)
		}
		return nil
	})
	return out
}

// watched is what is seen beside an attack.
type watched struct {
	service, host, slowest atomic.Int64
	end                    chan struct{}
	all                    sync.WaitGroup
}

func (w *watched) stop() { close(w.end); w.all.Wait() }

// watchOver samples the memory of our processes, and is a good client that asks again and again.
func watchOver(l *lab) *watched {
	w := &watched{end: make(chan struct{})}
	most := func(at *atomic.Int64, n int64) {
		if n > at.Load() {
			at.Store(n)
		}
	}
	w.all.Go(func() {
		for {
			most(&w.service, resident(l.service.cmd.Process.Pid))
			most(&w.host, resident(l.host.cmd.Process.Pid))
			select {
			case <-time.After(50 * time.Millisecond):
			case <-w.end:
				return
			}
		}
	})
	w.all.Go(func() {
		for {
			start := time.Now()
			r, err := l.GetMeWithResponse(ctx)
			if err != nil || r.JSON200 == nil {
				most(&w.slowest, int64(time.Hour))
			}
			most(&w.slowest, int64(time.Since(start)))
			select {
			case <-time.After(200 * time.Millisecond):
			case <-w.end:
				return
			}
		}
	})
	return w
}

// resident is how many bytes of memory a process has (proc(5): /proc/pid/statm).
func resident(pid int) int64 {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	f := strings.Fields(string(raw))
	if len(f) < 2 {
		return 0
	}
	n, _ := strconv.ParseInt(f[1], 10, 64)
	return n * int64(os.Getpagesize())
}

// worked is the processor time that the service and its database have used (proc(5): /proc/pid/stat, in hundredths of a second).
func (l *lab) worked() (all time.Duration) {
	for _, pid := range []int{l.service.cmd.Process.Pid, l.service.childNamed("mariadbd")} {
		raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		_, after, _ := strings.Cut(string(raw), ") ")
		if f := strings.Fields(after); len(f) > 12 {
			user, _ := strconv.Atoi(f[11])
			system, _ := strconv.Atoi(f[12])
			all += time.Duration(user+system) * 10 * time.Millisecond
		}
	}
	return all
}

// freed says whether the phone can be given to somebody again, soon.
func (l *lab) freed() bool {
	for deadline := time.Now().Add(freeWithin); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		if d, err := l.GetDeviceWithResponse(ctx, "skerry-1"); err == nil && d.JSON200 != nil && d.JSON200.State == "free" {
			return true
		}
	}
	return false
}

// call sends a bare request; status 0: no answer came.
func (l *lab) call(method, path, key string, body []byte, headers ...string) (status int, answer string) {
	r, err := http.NewRequest(method, l.url+path, bytes.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	if key != "" {
		r.Header.Set("Authorization", "Bearer "+key)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	resp, err := (&http.Client{Timeout: 30 * time.Second}).Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return resp.StatusCode, string(raw)
}

func (l *lab) refuses(status int, method, path, key string, body []byte, headers ...string) string {
	got, answer := l.call(method, path, key, body, headers...)
	if got != status {
		return fmt.Sprintf("it answers %d, not %d: %.200s", got, status, answer)
	}
	return ""
}

func multipartToSignIn(l *lab) string {
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	part, _ := w.CreateFormFile("key", "x")
	_, _ = part.Write(make([]byte, 60<<20))
	_ = w.Close()
	for range 2 {
		if why := l.refuses(415, "POST", "/api/v1/signin", "", form.Bytes(), "Content-Type", w.FormDataContentType()); why != "" {
			return why
		}
	}
	return ""
}

func stalledClients(l *lab) string {
	var all []net.Conn
	defer func() {
		for _, c := range all {
			_ = c.Close()
		}
	}()
	for i := range 500 {
		c, err := net.Dial("tcp", strings.TrimPrefix(l.url, "http://"))
		if err != nil {
			return err.Error()
		}
		all = append(all, c)
		_, _ = io.WriteString(c, []string{"GET /api/v1/me HT", "POST /api/v1/signin HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 900\r\n\r\n{",
			"POST /api/v1/builds HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + labKey + "\r\nContent-Length: 1000000\r\n\r\nPK", "GET / HTTP/1.1\r\nHost: x\r\n\r\nGET / HTTP/1.1\r\nHost: x\r\n\r\n"}[i%4])
	}
	for range 30 {
		start := time.Now()
		if status, answer := l.call("GET", "/api/v1/me", labKey, nil); status != 200 || time.Since(start) > goodAnswer {
			return fmt.Sprintf("a good client gets %d after %s: %.100s", status, time.Since(start), answer)
		}
	}
	return ""
}

// oddCalls calls every operation of the contract with ids, parameters and bodies that nobody means. None may be a fault of the service.
func oddCalls(l *lab) string {
	doc, err := openapi3.NewLoader().LoadFromFile(filepath.Join(housetest.Root(), "api", "openapi.yaml"))
	if err != nil {
		return err.Error()
	}
	ids := []string{"x", "newest", strings.Repeat("n", 5000), "%00", "%ff%fe", "..%2f..%2fetc", "'%20OR%201=1", "%E2%80%AE", "newest%2Forr-01"}
	bodies := []string{"", "{}", "[]", "null", "7", `"x"`, `{"a":`, `{"name":"\u0000"}`, `{"build":"a/b@1","package":"c@1","limit_seconds":-5}`, `{"build":1}`, `{"where":["x"]}`, "\xff\xfe", strings.Repeat("x", 70_000), `{"verdict":"passed","message":"` + strings.Repeat("m", 70_000) + `"}`, `{"name":"` + strings.Repeat("n", 500) + `"}`}
	query := []string{"", "?limit=abc", "?limit=-1", "?limit=99999999999999999999", "?after=%00", "?attempt=999999999999", "?from=-1", "?near=x", "?where=%27", "?at=x&name=..&offset=-9", "?filename=" + strings.Repeat("f", 300)}
	calls := 0
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			if path == "/events" || path == "/backup" || (method == "DELETE" && path == "/signin") {
				continue
			}
			for i := range 15 {
				p := path
				for _, name := range []string{"{id}", "{ref}", "{serial}", "{name}", "{language}"} {
					p = strings.ReplaceAll(p, name, ids[(i+calls)%len(ids)])
				}
				kind := []string{"application/json", "application/octet-stream", "application/zip", "application/xml", "image/jpeg"}[0]
				if op := item.GetOperation(method); op.RequestBody != nil {
					for media := range op.RequestBody.Value.Content {
						kind = media
					}
				}
				status, answer := l.call(method, "/api/v1"+p+query[i%len(query)], labKey, []byte(bodies[(i+calls)%len(bodies)]), "Content-Type", kind, "Idempotency-Key", []string{"k", strings.Repeat("k", 300), "\xff"}[i%3])
				calls++
				if status >= 500 || status == 0 {
					return fmt.Sprintf("%s %.100s is answered with %d: %.300s", method, p+query[i%len(query)], status, answer)
				}
				if len(answer) > 20_000 && status >= 400 {
					return fmt.Sprintf("%s %.100s echoes %d bytes", method, p, len(answer))
				}
			}
		}
	}
	for _, path := range []string{"/api/v1/me", "/api/v1/nothing", "/", "/assets/x", "/webdriver/status", "/metrics", "/healthz", "/%00", "/..%2f"} {
		for _, method := range []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "BREW"} {
			if status, answer := l.call(method, path, labKey, nil); status >= 500 || status == 0 {
				return fmt.Sprintf("%s %s is answered with %d: %.200s", method, path, status, answer)
			}
			calls++
		}
	}
	if calls < 500 {
		return fmt.Sprintf("only %d calls were made", calls)
	}
	return ""
}

func manyEntries(l *lab) string {
	var apk bytes.Buffer
	z := zip.NewWriter(&apk)
	for i := range 200_000 {
		if _, err := z.CreateHeader(&zip.FileHeader{Name: strconv.Itoa(i), Method: zip.Store}); err != nil {
			return err.Error()
		}
	}
	_ = z.Close()
	var all sync.WaitGroup
	said := make([]string, 4)
	for i := range said {
		all.Go(func() {
			said[i] = l.refuses(422, "POST", "/api/v1/builds?filename="+strconv.Itoa(i), labKey, append(bytes.Clone(apk.Bytes()), byte(i)), "Content-Type", "application/octet-stream")
		})
	}
	all.Wait()
	return strings.Join(slices.DeleteFunc(said, func(s string) bool { return s == "" }), "; ")
}

func metricsOften(l *lab) string {
	if status, _ := l.call("GET", "/metrics", "", nil); status != 401 {
		return fmt.Sprintf("without a key it answers %d", status)
	}
	for range 300 {
		if status, answer := l.call("GET", "/metrics", labKey, nil); status != 200 || !strings.Contains(answer, "tessellant_panics_total") && !strings.Contains(answer, "tessellant_devices") {
			return fmt.Sprintf("it answers %d", status)
		}
	}
	return ""
}

func hostileLocators(l *lab) string {
	path, id := l.openSession()
	defer l.wd("DELETE", path, nil)                                                  // also where it did not hold
	if _, ok := l.wd("POST", path+"/timeouts", map[string]any{"implicit": 0}); !ok { // nothing is waited for
		return "the timeouts can't be set"
	}
	for using, values := range map[string][]string{
		"xpath": {`//*[starts-with(1,'a')]`, `//*[sum('a')>0]`, `//*[contains(1,2)]`, `//*[substring(@id,'a')]`, `//*[replace(@id,'(','a')]`, "//*" + strings.Repeat("[count(.//*", 12) + ")>0" + strings.Repeat("])>0", 11) + "]",
			strings.Repeat("//*/..", 100), "//*" + strings.Repeat("/preceding::*", 50), "//*[" + strings.Repeat("(", 2000) + "1" + strings.Repeat(")", 2000) + "]", "(", "//*[a:b]", "//*[1 div 0]"},
		"css selector": {strings.Repeat("*:has(", 100) + "x" + strings.Repeat(")", 100), strings.Repeat("* ", 1500) + "x", "*:matches(')", ":not(", "*" + strings.Repeat(":nth-child(2n+1)", 200), "\x00"},
	} {
		for _, v := range values {
			start := time.Now()
			answer, _ := l.wd("POST", path+"/elements", map[string]any{"using": using, "value": v})
			if took := time.Since(start); took > 6*time.Second {
				return fmt.Sprintf("%.60s takes %s", v, took)
			}
			if m, ok := answer.(map[string]any); ok && m["error"] != "invalid selector" && m["error"] != "invalid argument" {
				return fmt.Sprintf("%.60s is answered with %v: %.200v", v, m["error"], m["message"])
			}
		}
	}
	if _, ok := l.wd("POST", path+"/timeouts", map[string]any{"implicit": 8000}); !ok || !l.sees(path) {
		return "the session does not go on"
	}
	if _, ok := l.wd("DELETE", path, nil); !ok {
		return "the session does not end"
	}
	l.sessionOver(id)
	return l.scripted("locators", "def test_panics(phone):\n    phone.launch()\n    phone.find(\"//*[starts-with(1,'a')]\", within = 1)\ndef test_long(phone):\n    phone.launch()\n    phone.find('//*' + '[count(.//*' * 12 + ')>0' + '])>0' * 11 + ']', within = 1)\n", api.Failed)
}

func longTexts(l *lab) string {
	path, id := l.openSession()
	defer l.wd("DELETE", path, nil)
	text := strings.Repeat("m", 70_000)
	for _, c := range [][2]any{{"/tessellant/case/begin", map[string]any{"name": strings.Repeat("n", 400)}}, {"/tessellant/case/end", map[string]any{"verdict": "failed", "message": text}}, {"/tessellant/case/begin", map[string]any{"name": "\x1b[2J\u202e"}}, {"/tessellant/case/end", map[string]any{"verdict": "passed", "message": "\x00"}}, {"/tessellant/step", map[string]any{"name": strings.Repeat("s", 400)}}, {"/tessellant/verdict", map[string]any{"verdict": "failed", "message": text}}} {
		if v, ok := l.wd("POST", path+c[0].(string), c[1]); !ok {
			if m, is := v.(map[string]any); !is || m["error"] != "invalid argument" {
				return fmt.Sprintf("%s is answered with %.200v", c[0], v)
			}
		}
	}
	if _, ok := l.wd("DELETE", path, nil); !ok {
		return "the session does not end"
	}
	if s := l.sessionOver(id); s.Verdict == nil || *s.Verdict != api.Failed {
		return fmt.Sprintf("its verdict is %v", s.Verdict)
	}
	return ""
}

// scripted runs a script, which must come out so.
func (l *lab) scripted(name, source string, want api.Verdict) string {
	l.add(name, source)
	l.limit = 300
	_, legs := l.over(l.start(name, 1).Id, 8*time.Minute)
	if v := legs[0].Verdict; v == nil || *v != want {
		return fmt.Sprintf("the verdict is %v: %.200s", *v, *legs[0].Message)
	}
	return ""
}

func readTimelines(l *lab) string {
	r, err := l.ListRunsWithResponse(ctx, &api.ListRunsParams{})
	if err != nil || r.JSON200 == nil || len(r.JSON200.Items) == 0 {
		return "there is no run"
	}
	run := l.run(r.JSON200.Items[0].Id)
	var all sync.WaitGroup
	var failed atomic.Int64
	for range 20 {
		all.Go(func() {
			for from := ""; ; {
				q := &api.GetTimelineParams{}
				if from != "" {
					q.From = &from
				}
				v, err := l.GetTimelineWithResponse(ctx, run.Legs[0].Id, q)
				if err != nil || v.JSON200 == nil {
					failed.Add(1)
					return
				}
				if v.JSON200.Next == nil {
					return
				}
				from = *v.JSON200.Next
			}
		})
	}
	all.Wait()
	if n := failed.Load(); n > 0 {
		return fmt.Sprintf("%d of 20 did not get it", n)
	}
	return ""
}

// programmed runs a shell program that writes out.xml, which must come out so, with so many cases.
func (l *lab) programmed(name, command string, want api.Verdict, cases int) string {
	h, err := l.ListHostsWithResponse(ctx)
	if err != nil || h.JSON200 == nil {
		return "the hosts are not listed"
	}
	if slices.ContainsFunc(h.JSON200.Items, func(h api.Host) bool { return h.Name == "bench-1" && h.Isolation == "none" }) {
		return "" // programs can't be kept apart on this machine, and are refused
	}
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for file, text := range map[string]string{testpkg.Entry: "name: " + name + "\nkind: program\nrun: [sh, run.sh]\nresults: [out.xml]\n", "run.sh": command + "\n"} {
		w, _ := z.Create(file)
		_, _ = io.WriteString(w, text)
	}
	_ = z.Close()
	p, err := l.AddPackageWithBodyWithResponse(ctx, "application/zip", &buf)
	if err != nil || (p.JSON201 == nil && p.JSON200 == nil) {
		return fmt.Sprintf("the package is refused: %.300s", p.Body)
	}
	l.limit = 300
	_, legs := l.over(l.start(name, 1).Id, 8*time.Minute)
	at := legs[0].Attempts[len(legs[0].Attempts)-1]
	if v := legs[0].Verdict; v == nil || *v != want {
		raw, _ := json.Marshal(legs[0].Message)
		return fmt.Sprintf("the verdict is %v: %.300s", *v, raw)
	}
	if len(at.Cases) != cases {
		return fmt.Sprintf("there are %d cases, not %d", len(at.Cases), cases)
	}
	return ""
}
