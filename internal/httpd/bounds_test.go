package httpd_test

// The service as an attacker and an unlucky client meet it: bodies that are none, that are too long, too slow, or of another kind.

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/housetest"
	"tessellant/internal/httpd"
)

var asJSON = []string{"Content-Type", "application/json"}

func TestTheTableOfBodiesIsTheContracts(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromFile(filepath.Join(housetest.Root(), "api", "openapi.yaml"))
	require.NoError(t, err)
	want := map[string]string{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if op.RequestBody == nil {
				continue
			}
			for media := range op.RequestBody.Value.Content {
				if media != "application/json" {
					want[method+" "+strings.ReplaceAll(strings.ReplaceAll(path, "{", ":"), "}", "")] = media
				}
			}
		}
	}
	assert.Equal(t, want, httpd.Bodies())
}

func TestABodyOfAnotherKindIsNotLookedAt(t *testing.T) {
	d := open(t)
	tmp := t.TempDir()
	t.Setenv("TMPDIR", tmp)
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	part, err := w.CreateFormFile("key", "x")
	require.NoError(t, err)
	_, _ = part.Write(make([]byte, 40<<20))
	require.NoError(t, w.Close())
	xml := []byte("<SignIn>" + strings.Repeat("<a><b/></a>", 4<<20) + "</SignIn>")
	before := heap()
	for _, path := range []string{"/signin", "/runs", "/runs/check", "/devices/x/quarantine", "/hosts", "/workspace", "/sessions/x/verdict"} {
		method := "POST"
		if path == "/workspace" || strings.HasSuffix(path, "quarantine") {
			method = "PUT"
		}
		for kind, body := range map[string][]byte{w.FormDataContentType(): form.Bytes(), "application/xml": xml, "text/xml": xml, "application/x-www-form-urlencoded": []byte("key=x"), "": []byte(`{}`), "application/json-patch+json": []byte(`{}`)} {
			resp, raw := d.do(method, "/api/v1"+path, d.Key, bytes.NewReader(body), "Content-Type", kind)
			refused(t, resp, raw, 415, "application/json is what is taken here")
		}
	}
	assert.Less(t, heap()-before, int64(100<<20))
	left, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing was put onto the disk")
	for path, kind := range map[string]string{"/builds": "application/json", "/packages": "application/octet-stream"} {
		resp, raw := d.do("POST", "/api/v1"+path, d.Key, strings.NewReader("x"), "Content-Type", kind)
		refused(t, resp, raw, 415, "is what is taken here")
	}
}

// heap is how much memory is in use, in bytes.
func heap() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.Sys - m.HeapReleased)
}

func TestEveryJSONBodyIsBoundedAndRead(t *testing.T) {
	d := open(t)
	long := `{"name": "` + strings.Repeat("x", 2<<20) + `"}`
	for _, key := range []string{d.Key, ""} {
		resp, raw := d.do("POST", "/api/v1/signin", key, strings.NewReader(strings.Replace(long, "name", "key", 1)), asJSON...)
		refused(t, resp, raw, 413, "longer than the")
	}
	resp, raw := d.do("POST", "/api/v1/hosts", d.Key, strings.NewReader(long), asJSON...)
	refused(t, resp, raw, 413, "longer than the 1048576 bytes")
	for body, says := range map[string]string{
		"":                                "it has no body",
		"{":                               "JSON that is cut off",
		"[]":                              "its body must be an object, not array",
		`"x"`:                             "its body must be an object, not string",
		`{"build": 7}`:                    `its field "build" must be a text, not number`,
		`{"device": ["orr-05"]}`:          `a field "device", which is not known here; was "devices" meant?`,
		`{"zebra": 1}`:                    `a field "zebra", which is not known here`,
		`{"build": "a"} {}`:               "there is more text after the end",
		`{"build": "a",}`:                 "is not JSON at byte 15",
		`{"limit_seconds": 1.5}`:          `its field "limit_seconds" must be a whole number, not number 1.5`,
		strings.Repeat("[", 100_000):      "its body",
		"null":                            "its body must be an object, not null",
		`{"build": "a"}`:                  `its body lacks the field "package"`,
		`{"build": "a", "package": null}`: `its body lacks the field "package"`,
		`{"build": "a", "package": ""}`:   "the request names no package",
		`{}`:                              `its body lacks the field "build"`, "{ }": `lacks the field "build"`, `{"build": "", "package": ""}`: "the request names no build",
		`{"build":"a/android@v","package":"p@1"}`:    `"v" is no version`,
		`{"build":"a/android@+231","package":"p@1"}`: `"+231" is no version`,
		`{"build":"a/android@0231","package":"p@1"}`: `"0231" is no version`,
	} {
		resp, raw := d.do("POST", "/api/v1/runs/check", d.Key, strings.NewReader(body), asJSON...)
		p := refused(t, resp, raw, 400, says)
		for _, go_ := range []string{"json:", "strconv", "Go ", "struct", "unmarshal"} {
			assert.NotContains(t, problemText(p), go_)
		}
	}
	name := strings.Repeat("n", 200_000)
	resp, raw = d.do("GET", "/api/v1/builds/"+name[:60_000], d.Key, nil)
	refused(t, resp, raw, 404, "there is no build")
	assert.Less(t, len(raw), 2000, "a long name is not echoed whole")
}

func TestParametersThatCanNotBeReadAreSaidInWords(t *testing.T) {
	d := open(t)
	for path, says := range map[string]string{
		"/builds?limit=abc": "its parameter limit has a value that can't be read", "/runs?limit=1e3": "its parameter limit", "/legs": "its parameter device", "/builds?after=xyz": `"xyz" is not a place in the list`,
		"/runs?after=0": "is not a place in the list", "/packages?after=%00": "is not a place", "/sessions?after=zz": "is not a place",
	} {
		resp, raw := d.do("GET", "/api/v1"+path, d.Key, nil)
		p := refused(t, resp, raw, 400, says)
		assert.NotContains(t, problemText(p), "strconv")
	}
	for _, name := range []string{strings.Repeat("x", 256), "%ff%fe", "a%00b", "%1b[31m"} {
		resp, raw := d.do("POST", "/api/v1/builds?filename="+name, d.Key, strings.NewReader("x"), "Content-Type", "application/octet-stream")
		refused(t, resp, raw, 400, "the file's name has more than 255 bytes, or characters")
	}
}

func TestMethodsAreToldApart(t *testing.T) {
	d := open(t)
	for path, allow := range map[string]string{"/api/v1/runs": "GET, POST", "/api/v1/builds": "GET, POST", "/api/v1/me": "GET", "/api/v1/workspace": "PUT", "/metrics": "GET"} {
		resp, raw := d.do("DELETE", path, d.Key, nil)
		refused(t, resp, raw, 405, "use "+strings.ReplaceAll(allow, ", ", " or "))
		assert.Equal(t, allow, resp.Header.Get("Allow"))
	}
	resp, raw := d.do("POST", "/api/v1/nothing", d.Key, strings.NewReader("{}"), asJSON...)
	refused(t, resp, raw, 404, "there is no POST /api/v1/nothing here")
	for _, path := range []string{"/api/v1/me", "/api/v1/builds", "/healthz", "/"} {
		resp, raw := d.do("HEAD", path, d.Key, nil)
		assert.Equal(t, 200, resp.StatusCode, path)
		assert.Empty(t, raw)
		assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
	}
	resp, _ = d.do("HEAD", "/api/v1/builds/nothing", d.Key, nil)
	assert.Equal(t, 404, resp.StatusCode)
	resp, _ = d.do("HEAD", "/api/v1/events", d.Key, nil)
	assert.Equal(t, 405, resp.StatusCode)
}

func TestAnIdempotencyKeyIsForOneRequest(t *testing.T) {
	d := open(t)
	d.addKelpline()
	d.device("orr-01", "Orrery", 34)
	p, err := d.AddPackageWithBodyWithResponse(context.Background(), "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	require.NotNil(t, p.JSON201)
	body := `{"build": "kelpline/android@newest", "package": "suite@newest", "devices": ["orr-01"]%s}`
	start := func(more, key string) (*http.Response, []byte) {
		return d.do("POST", "/api/v1/runs", d.Key, strings.NewReader(fmt.Sprintf(body, more)), append(asJSON, "Idempotency-Key", key)...)
	}
	resp, raw := start("", "a-1")
	require.Equal(t, 201, resp.StatusCode, string(raw))
	resp, again := start("", "a-1")
	require.Equal(t, 200, resp.StatusCode)
	var one, two struct{ ID string }
	require.NoError(t, json.Unmarshal(raw, &one))
	require.NoError(t, json.Unmarshal(again, &two))
	assert.Equal(t, one, two)
	resp, raw = start(`, "confirm": 2`, "a-1")
	refused(t, resp, raw, 422, "already used for another request, which started run "+one.ID)
	for _, bad := range []string{strings.Repeat("k", 101), "\xff\xfe", "k\u00fc"} {
		resp, raw := start("", bad)
		refused(t, resp, raw, 400, "up to 100 printable ASCII characters")
	}
}

func TestAClientThatIsRefusedEarlySeesWhy(t *testing.T) {
	d := open(t)
	for _, key := range []string{"", "tsl_wrong"} {
		resp, raw := d.do("POST", "/api/v1/builds", key, bytes.NewReader(make([]byte, 20<<20)), "Content-Type", "application/octet-stream")
		refused(t, resp, raw, 401, "key")
	}
}

func TestTheDoorLooksForTheKeyFirst(t *testing.T) {
	d := open(t)
	before := heap()
	bomb := []byte(`{"capabilities": {"alwaysMatch": {"a:b": [` + strings.Repeat("[],", 3<<20) + `[]]}}}`)
	for path, says := range map[string]string{"/session": "longer than the 65536 bytes", "/session/x/url": "there is no session", "/session/x/tessellant/file/put": "there is no session", "/nothing": "there is no command"} {
		start := time.Now()
		resp, raw := d.do("POST", "/webdriver"+path, "", bytes.NewReader(bomb), asJSON...)
		assert.GreaterOrEqual(t, resp.StatusCode, 400)
		assert.Contains(t, string(raw), says)
		assert.Less(t, time.Since(start), 2*time.Second, path)
	}
	resp, raw := d.do("POST", "/webdriver/session", "tsl_wrong", bytes.NewReader(bomb), asJSON...)
	assert.Equal(t, 401, resp.StatusCode, string(raw))
	resp, raw = d.do("POST", "/webdriver/session", d.Key, bytes.NewReader(bomb[:900_000]), asJSON...)
	assert.Equal(t, 400, resp.StatusCode)
	assert.Contains(t, string(raw), "more than 100000 values")
	assert.Less(t, heap()-before, int64(60<<20))
	resp, raw = d.do("POST", "/webdriver/session", d.Key, strings.NewReader(`{}`), append(asJSON, "Origin", "https://elsewhere.example", "Sec-Fetch-Site", "cross-site")...)
	assert.Equal(t, 403, resp.StatusCode)
	assert.Contains(t, string(raw), "another site's page")
}

// stalled opens a connection, sends the beginning of a request, and no more.
func stalled(t *testing.T, url, begin string) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(url, "http://"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	_, err = io.WriteString(c, begin)
	require.NoError(t, err)
	return c
}

func TestFiveHundredStalledClientsHoldNobodyUpAndAreSentAway(t *testing.T) {
	defer httpd.Hurry(2*time.Second, 2*time.Second)()
	d := open(t)
	var all []net.Conn
	for i := range 500 {
		begin := []string{
			"POST /api/v1/builds HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + d.Key + "\r\nContent-Type: application/octet-stream\r\nContent-Length: 1000000\r\n\r\nPK",
			"POST /api/v1/signin HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
			"POST /webdriver/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
			"GET /api/v1/me HT",
			"POST /api/v1/runs/check HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + d.Key + "\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n1\r\n{\r\n",
		}[i%5]
		all = append(all, stalled(t, d.URL, begin))
	}
	start := time.Now()
	for range 20 {
		resp, _ := d.do("GET", "/api/v1/me", d.Key, nil)
		require.Equal(t, 200, resp.StatusCode)
	}
	assert.Less(t, time.Since(start), 5*time.Second, "a good client is served beside them")
	var gone sync.WaitGroup
	for _, c := range all {
		gone.Go(func() {
			_ = c.SetReadDeadline(time.Now().Add(30 * time.Second))
			_, err := io.Copy(io.Discard, c)
			var late net.Error
			assert.False(t, err != nil && isTimeout(err, &late), "a stalled client is still there")
		})
	}
	gone.Wait()
}

func isTimeout(err error, late *net.Error) bool {
	e, ok := err.(net.Error) //nolint:errorlint // as it comes from the connection
	*late = e
	return ok && e.Timeout()
}

func TestAnAnswerThatNobodyTakesIsGivenUp(t *testing.T) {
	defer httpd.Hurry(time.Second, time.Second)()
	done := make(chan error, 1)
	web := httptest.NewServer(httpd.Outermost(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, err := w.Write(make([]byte, 256<<20))
		done <- err
	}), echo.Routes{}))
	defer web.Close()
	c := stalled(t, web.URL, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	_, err := bufio.NewReader(c).ReadByte()
	require.NoError(t, err)
	select {
	case err := <-done:
		assert.Error(t, err)
	case <-time.After(20 * time.Second):
		t.Fatal("it waits for ever")
	}
}

func TestARequestMayTakeLongerThanABodyMayPause(t *testing.T) {
	defer httpd.Hurry(300*time.Millisecond, time.Second)()
	d := open(t)
	// A stream goes on long after the last byte of its request; so does an upload that is looked at.
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", d.URL+"/api/v1/events", http.NoBody)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+d.Key)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	lines := bufio.NewReader(resp.Body)
	_, err = lines.ReadString('\n')
	require.NoError(t, err)
	time.Sleep(time.Second) // longer than a body may pause: nothing must end it
	d.device("orr-09", "Orrery", 34)
	d.Feed.End()
	rest, err := io.ReadAll(lines)
	require.NoError(t, err, "it was not broken off")
	assert.NotEmpty(t, rest)
}
