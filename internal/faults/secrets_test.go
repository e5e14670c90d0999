package faults

// Secret inputs are planted, and everything that the service and the host write is searched for them, in every encoding that appears there.

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/testpkg"
)

const planted = `ebb & "flow" <9>`

// encodings are what the planted secret looks like.
func encodings() map[string]string {
	raw, _ := json.Marshal(planted)
	out := map[string]string{"plain": planted, "json": string(raw[1 : len(raw)-1]), "quoted": strings.Trim(strconv.Quote(planted), `"`), "query": url.QueryEscape(planted), "path": url.PathEscape(planted),
		"html": html.EscapeString(planted), "xml": strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(planted), "hex": hex.EncodeToString([]byte(planted)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(planted))), "input": strings.ReplaceAll(planted, " ", "%s")}
	for i, before := range []string{"", "x", "xy"} {
		whole := base64.StdEncoding.EncodeToString([]byte(before + planted))
		out["base64 "+strconv.Itoa(i)] = whole[len(before)*8/6+1 : len(whole)-4]
	}
	return out
}

// search finds the planted secret in all files below a folder.
func search(t *testing.T, dir string) (found []string) {
	t.Helper()
	forms := encodings()
	n := 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil //nolint:nilerr // files come and go while they are searched
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil //nolint:nilerr // as above
		}
		n++
		for name, form := range forms {
			if bytes.Contains(raw, []byte(form)) || strings.Contains(path, form) {
				found = append(found, strings.TrimPrefix(path, dir)+": "+name)
			}
		}
		return nil
	}))
	require.Greater(t, n, 50, "the database, the evidence and the logs are among them")
	return found
}

func TestPlantedSecretsAreInNothingThatServiceAndHostWrite(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	script := `
def test_said(phone):
    phone.launch()
    phone.type("#search", inputs["code"])
    log(inputs["code"] + " and " + repr(inputs["code"]))
    print({"code": inputs["code"]})
    check.equal(phone.read("#search"), "x", "about " + inputs["code"], go_on = True)
    phone.step(inputs["code"])
    fail("it was " + inputs["code"])
`
	program := `
import base64, html, json, os, sys, urllib.parse, urllib.request
code = os.environ["TESSELLANT_INPUT_CODE"]
said = [code, json.dumps(code), repr(code), urllib.parse.quote(code), urllib.parse.quote_plus(code), html.escape(code), code.encode().hex(), base64.b64encode(code.encode()).decode(), base64.b64encode(("any:" + code).encode()).decode(), base64.b64encode(("ab" + code).encode()).decode()]
for s in said:
    print("it is", s, flush = True)
    open(os.path.join(os.environ["TESSELLANT_KEEP"], "note.txt"), "a").write(s + "\n")
def wd(method, path, body = None):
    r = urllib.request.Request(os.environ["TESSELLANT_WEBDRIVER_URL"] + path, None if body is None else json.dumps(body).encode(), method = method)
    try: return json.load(urllib.request.urlopen(r))["value"]
    except urllib.error.HTTPError as e: return json.load(e)
s = "/session/" + wd("POST", "/session", {"capabilities": {"alwaysMatch": {"tessellant:name": code}}}).get("sessionId", "none")
wd("POST", s + "/element", {"using": "css selector", "value": "#" + code})
wd("POST", s + "/tessellant/file/put", {"path": "/sdcard/" + code.replace(" ", "_"), "content": base64.b64encode(code.encode()).decode()})
wd("DELETE", s)
open("r.xml", "w").write("<testsuite><testcase name=%s><failure message=%s>%s</failure></testcase></testsuite>" % ((json.dumps(html.escape(code)),) * 2 + (html.escape(code),)))
`
	for name, files := range map[string]fstest.MapFS{
		"script":  {testpkg.Entry: {Data: []byte("name: planted-script\nkind: script\ninputs:\n  code: {secret: true}\n")}, "c.star": {Data: []byte(script)}},
		"program": {testpkg.Entry: {Data: []byte("name: planted-program\nkind: program\nrun: python3 t.py\nresults: [r.xml]\ninputs:\n  code: {secret: true}\n")}, "t.py": {Data: []byte(program)}},
	} {
		var zip bytes.Buffer
		require.NoError(t, testpkg.Pack(files, &zip))
		added, err := l.AddPackageWithBodyWithResponse(ctx, "application/zip", &zip)
		require.NoError(t, err)
		require.NotNil(t, added.JSON201, string(added.Body))
		r, err := l.StartRunWithResponse(ctx, nil, api.RunRequest{Build: "kelpline/android@newest", Package: "planted-" + name + "@newest", Secrets: &map[string]string{"code": planted}})
		require.NoError(t, err)
		require.NotNil(t, r.JSON201, string(r.Body))
		assert.Empty(t, search(t, l.dir), "while the run goes on")
		_, legs := l.over(r.JSON201.Id, 2*time.Minute)
		last := legs[0].Attempts[len(legs[0].Attempts)-1]
		require.NotEmpty(t, last.Cases, "%s: %v", name, legs[0].Message)
		assert.Equal(t, "failed", string(*last.Cases[0].Verdict), "it came to where the secret is said")
		if name == "program" {
			assert.GreaterOrEqual(t, strings.Count(string(l.file(last, "output.log")), "••••••"), 10)
		}
	}
	assert.Empty(t, search(t, l.dir), "when the runs are over")

	// A key that is changed while a run with a secret waits: the run goes on, and nothing is said of the secret.
	_, err := l.RotateSecretsWithResponse(ctx)
	require.NoError(t, err)
	resp, err := l.GetBackup(ctx)
	require.NoError(t, err)
	defer resp.Body.Close()
	backup, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	for name, form := range encodings() {
		assert.NotContains(t, string(backup), form, "the backup, %s", name)
	}
	for _, path := range []string{"/metrics", "/api/v1/runs", "/api/v1/packages", "/api/v1/legs?device=skerry-1"} {
		_, raw := l.call("GET", path, labKey, nil)
		for name, form := range encodings() {
			assert.NotContains(t, raw, form, "%s, %s", path, name)
		}
	}
	st, err := os.Stat(filepath.Join(l.dir, "service", "secrets.key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	key, err := os.ReadFile(filepath.Join(l.dir, "service", "secrets.key"))
	require.NoError(t, err)
	assert.NotContains(t, string(backup), strings.Fields(string(key))[0], "nor is the key in it")
	out, err := exec.Command("grep", "-rlF", strings.Fields(string(key))[0], l.dir).CombinedOutput()
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(l.dir, "service", "secrets.key"), strings.TrimSpace(string(out)), "the key is in its file alone")
}
