package httpd_test

// Who may do what, walked: every operation of api/openapi.yaml, by everybody, on a running service.

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/access"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

// caller is somebody who asks.
type caller struct {
	name   string
	role   access.Role // "": nobody whom the service lets in
	others bool        // of another workspace, or another host
	key    func() string
	cookie bool // the key is a browser's sign-in
}

// world is a service with something of everything in it.
type world struct {
	*door
	callers []caller
	things  map[string]string // what stands in a path: its parameter → an id of the workspace "tests"
}

func always(key string) func() string { return func() string { return key } }

// makeWorld fills a service, and gives everybody a key.
func makeWorld(t *testing.T) *world {
	t.Helper()
	d, ctx := open(t), t.Context()
	w := &world{door: d, things: map[string]string{"language": "python", "workspace": "tests"}}
	_, err := d.Service.AddWorkspace(ctx, "others")
	require.NoError(t, err)
	key := func(workspace string, role access.Role, name string, expires *time.Time) (store.Key, string) {
		k, shown, err := d.Service.AddKey(ctx, d.Who, service.NewKeyRequest{Name: name, Role: role, Workspace: workspace, Expires: expires})
		require.NoError(t, err)
		return k, shown
	}
	for _, workspace := range []string{"tests", "others"} {
		for _, role := range access.Given {
			_, shown := key(workspace, role, "of a "+string(role), nil)
			name := string(role)
			if workspace == "others" {
				name = "another's " + name
			}
			w.callers = append(w.callers, caller{name: name, role: role, others: workspace == "others", key: always(shown)})
		}
	}
	signIn := func(key string) string {
		token, err := d.Service.SignIn(ctx, key, "")
		require.NoError(t, err)
		return token
	}
	_, browsers := key("tests", access.Viewer, "of a browser", nil)
	w.callers = append(w.callers, caller{name: "a viewer's browser", role: access.Viewer, cookie: true, key: func() string { return signIn(browsers) }})
	gone, withdrawn := key("tests", access.Owner, "withdrawn", nil)
	signed := signIn(withdrawn)
	require.NoError(t, d.Service.RemoveKey(ctx, d.Who, gone.ID))
	soon := time.Now().Add(time.Second)
	_, expired := key("tests", access.Owner, "expired", &soon)
	left := signIn(expired)
	time.Sleep(time.Until(soon) + 10*time.Millisecond)
	w.callers = append(w.callers, caller{name: "withdrawn", key: always(withdrawn)}, caller{name: "expired", key: always(expired)}, caller{name: "unknown", key: always("tsl_nobody")}, caller{name: "no key", key: always("")},
		caller{name: "a withdrawn key's browser", cookie: true, key: always(signed)}, caller{name: "an expired key's browser", cookie: true, key: always(left)})

	w.things["build"], w.things["pool"] = d.addKelpline().Id, "everyday"
	p, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	w.things["package"] = p.JSON201.Id
	for _, name := range []string{"bench-1", "bench-2"} {
		key, err := d.Service.AddHost(ctx, d.Who, name)
		require.NoError(t, err)
		beside, err := d.Enter(ctx, key)
		require.NoError(t, err)
		_, err = d.Join(ctx, beside.Host, "1", hostlink.Protocol, "nats://x")
		require.NoError(t, err)
		_, err = d.HostLink().Devices(ctx, name, hostlink.About{Labs: []devices.Lab{{Name: "adb", Kind: "adb"}}}, []hostlink.Seen{{Facts: devices.Facts{Serial: "on-" + name, Platform: "android", Origin: "emulated", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"}})
		require.NoError(t, err)
		stop, err := d.HostLink().Serve(name, func(context.Context, hostlink.Order) hostlink.Result { // it can't do what it is asked
			raw, err := json.Marshal(hostlink.Unable{Why: "there is none here", Remedy: "look elsewhere"})
			return hostlink.Result{Status: http.StatusUnprocessableEntity, Size: len(raw), Piece: raw, Problem: map[bool]string{true: "", false: "?"}[err == nil]}
		})
		require.NoError(t, err)
		t.Cleanup(stop)
		w.callers = append(w.callers, caller{name: map[string]string{"bench-1": "host", "bench-2": "another host"}[name], role: access.Host, others: name == "bench-2", key: always(key)})
	}
	removed, err := d.Service.AddHost(ctx, d.Who, "bench-3")
	require.NoError(t, err)
	require.NoError(t, d.Service.RemoveHost(ctx, d.Who, "bench-3"))
	w.callers = append(w.callers, caller{name: "a removed host", key: always(removed)})
	serials := []string{"on-bench-1"}
	r, err := d.StartRunWithResponse(ctx, nil, api.RunRequest{Build: w.things["build"], Package: w.things["package"], Devices: &serials})
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	w.things["run"], w.things["leg"], w.things["serial"] = r.JSON201.Id, r.JSON201.Legs[0].Id, "on-bench-1"
	var holds []store.Hold
	housetest.Eventually(t, "the leg holds its device", func() bool {
		holds, err = d.Store.ActiveHolds(ctx, "")
		return err == nil && len(holds) == 1
	})
	w.things["hold"] = holds[0].ID
	require.NoError(t, d.HostLink().Keep(ctx, hostlink.Hold{ID: holds[0].ID}, hostlink.Artifact{Name: "device.log", Kind: "device-log", ContentType: "text/plain; charset=utf-8"}, strings.NewReader("1 2 3")))
	leg, err := d.GetLegWithResponse(ctx, w.things["leg"])
	require.NoError(t, err)
	w.things["artifact"] = leg.JSON200.Attempts[0].Artifacts[0].Id
	x := store.Session{ID: store.NewID(), WorkspaceID: d.Who.WorkspaceID, Token: make([]byte, 32), Created: time.Now().UTC().Truncate(time.Millisecond)}
	require.NoError(t, d.Store.AddSession(ctx, x, work.Spec{Content: work.Content{Kind: work.Commands}}, work.Wants{Where: []string{"serial=none"}}, d.Who.KeyID, time.Hour))
	w.things["session"] = x.ID
	x.ID, x.Token, x.ByHand = store.NewID(), bytes.Repeat([]byte{1}, 32), true
	require.NoError(t, d.Store.AddSession(ctx, x, work.Spec{Content: work.Content{Kind: work.Hands}}, work.Wants{Where: []string{"serial=none"}}, d.Who.KeyID, time.Hour))
	w.things["hand"] = x.ID
	w.things["reference"] = keptReference(t, d).ID
	w.things["bisection"] = store.NewID()
	require.NoError(t, d.Store.AddBisection(ctx, store.Bisection{ID: w.things["bisection"], WorkspaceID: d.Who.WorkspaceID, State: store.BisectFound, Created: time.Now().UTC(),
		Builds: store.JSON[[]string]{V: []string{w.things["build"], w.things["build"]}}}, nil))
	return w
}

// operation is one of the API's.
type operation struct {
	method, path string
	*openapi3.Operation
}

func operations(t *testing.T) (out []operation) {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromFile(filepath.Join(housetest.Root(), "api", "openapi.yaml"))
	require.NoError(t, err)
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			out = append(out, operation{method, path, op})
		}
	}
	rank := func(o operation) int {
		return slices.Index([]string{"GET", "PUT", "PATCH", "POST", "DELETE"}, o.method)
	} // what ends something comes last
	slices.SortFunc(out, func(a, b operation) int {
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return strings.Compare(a.path, b.path)
	})
	return out
}

// ofWorkspace says what of the workspace an operation's path names; "": nothing.
func (o operation) ofWorkspace() string {
	for prefix, thing := range map[string]string{"/builds/{ref}": "build", "/packages/{ref}": "package", "/runs/{id}": "run", "/sessions/{id}": "session", "/legs/{id}": "leg", "/artifacts/{id}": "artifact", "/holds/{id}": "hold", "/hands/{id}": "hand", "/keys/{id}": "key", "/pools/{name}": "pool", "/bisections/{id}": "bisection", "/shares/{id}": "share", "/references/{id}": "reference"} {
		if strings.HasPrefix(o.path, prefix) {
			return thing
		}
	}
	return ""
}

// keptReference keeps a reference, of nothing.
func keptReference(t *testing.T, d *door) store.Reference {
	key := d.Who.WorkspaceID + "/references/of-a-test.png"
	_, _, err := d.Service.Blobs.Put(t.Context(), key, strings.NewReader("a picture"))
	require.NoError(t, err)
	r, err := d.Store.PutReference(t.Context(), store.Reference{ID: store.NewID(), WorkspaceID: d.Who.WorkspaceID, Spot: make([]byte, 16), BlobKey: key, Nth: 1, Created: time.Now().UTC()})
	require.NoError(t, err)
	return r
}

// request makes a whole request of an operation, with what a body must have and with what it must not have alike: nothing is uploaded by it.
func (w *world) request(o operation, c caller) *http.Request {
	t, ctx := w.t, w.t.Context()
	path := o.path
	for name, thing := range map[string]string{"{ref}": o.ofWorkspace(), "{id}": o.ofWorkspace(), "{serial}": "serial", "{language}": "language"} {
		path = strings.ReplaceAll(path, name, cmp.Or(w.things[thing], "1"))
	}
	if o.ofWorkspace() == "pool" {
		path = strings.ReplaceAll(path, "{name}", w.things["pool"])
		if _, err := w.Service.AddPool(ctx, w.Who, w.things["pool"], pools.Definition{Take: pools.All}); err != nil {
			require.ErrorContains(t, err, "already") // it may have been removed by the one before
		}
	}
	path = strings.NewReplacer("{name}", "bench-1", "{lab}", "adb@bench-1", "{n}", "1", "{family}", "abcdef0123456789").Replace(path)
	switch o.OperationID {
	case "removeKey": // one of its own, each time
		k, _, err := w.Service.AddKey(ctx, w.Who, service.NewKeyRequest{Name: "for " + c.name + o.OperationID, Role: access.Viewer})
		require.NoError(t, err)
		path = "/keys/" + k.ID
	case "removeReference": // one of its own, each time
		path = "/references/" + keptReference(t, w.door).ID
	case "removeShare": // one of its own, each time
		x, _, err := w.Service.AddShare(ctx, w.Who, w.things["run"], service.ShareRequest{})
		require.NoError(t, err)
		path = "/shares/" + x.ID
	case "removeHost":
		_, err := w.Service.AddHost(ctx, w.Who, "sacrificed")
		require.NoError(t, err)
		path = "/hosts/sacrificed"
	case "getTimeline", "getLog", "getLogOverview", "getFiles", "getScreen":
		path += "?attempt=1"
	}
	query := map[string]string{"getHoldAnyBuild": "?ref=" + w.things["build"], "putHoldArtifact": "?name=device.log", "putHoldPart": "?name=device.log&offset=0", "putHoldScreen": "?at=1", "getFit": "?build=" + w.things["build"], "getReport": "?form=tap", "getStep": "?case=x&step=y", "getElsewhere": "?css=%23a", "openRoute": "?at=api.kelpline.example:80"}[o.OperationID]
	body, media := "", ""
	if o.RequestBody != nil {
		for media = range o.RequestBody.Value.Content { //nolint:revive // there is one
		}
		body = map[string]string{"stopRun": "{}", "pauseTest": "{}", "prolongHold": `{"seconds": 600}`, "doOnHeld": `{"do": "launch"}`, "runOnHeld": `{"lines": ["phone.back()"]}`, "addScript": `{"name": "by-hand", "source": "def test_a(phone):\n    phone.back()\n"}`, "labelRun": "{}", "labelBuild": "{}", "labelPackage": "{}", "nameRun": `{"name": "x"}`, "setPool": `{"take": "all"}`, "markSession": `{"verdict": "passed"}`, "markFamily": `{"kind": "known"}`, "runAgain": "{}", "addShare": "{}", "setReference": "{}", "keepReferences": `{"run": "` + w.things["run"] + `", "case": "x", "step": "y"}`, "checkAgain": "{}", "checkRun": `{"build": "` + w.things["build"] + `", "package": "` + w.things["package"] + `"}`, "startRun": `{"build": "` + w.things["build"] + `", "package": "` + w.things["package"] + `"}`}[o.OperationID]
		if body == "" {
			body = `{"wobble": 1}`
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	t.Cleanup(cancel)
	r, err := http.NewRequestWithContext(ctx, o.method, w.URL+"/api/v1"+path+query, strings.NewReader(body))
	require.NoError(t, err)
	if media != "" {
		r.Header.Set("Content-Type", media)
	}
	if key := c.key(); c.cookie {
		_, port, _ := strings.Cut(r.URL.Host, ":")
		r.AddCookie(&http.Cookie{Name: "tessellant_" + port, Value: key})
	} else if key != "" {
		r.Header.Set("Authorization", "Bearer "+key)
	}
	return r
}

// want says what must come of it: "in", or a status.
func (o operation) want(c caller) string {
	action, _ := o.Extensions["x-may"].(string)
	thing := o.ofWorkspace()
	switch {
	case access.Action(action) == access.Anyone:
		return "in"
	case c.role == "":
		return "401"
	case !access.May(c.role, access.Action(action)):
		return "403"
	case o.OperationID == "freeDevice" && c.others && c.role != access.Operator:
		return "403"
	case c.others && thing == "key" && c.role == access.Operator:
		return "in"
	case c.others && thing != "":
		return "404"
	case c.others && (o.OperationID == "checkRun" || o.OperationID == "startRun" || o.OperationID == "keepReferences" || o.OperationID == "getFit"): // which name a build of the workspace
		return "404"
	}
	return "in"
}

func TestEveryOperationIsForThoseWhomTheTableNames(t *testing.T) {
	w := makeWorld(t)
	slices.SortStableFunc(w.callers, func(a, b caller) int { // those first who are to be sent away
		return map[bool]int{true: 0, false: 1}[a.others || a.role == ""] - map[bool]int{true: 0, false: 1}[b.others || b.role == ""]
	})
	table := map[string][]string{}
	client := &http.Client{Transport: strict{t}}
	for _, o := range operations(t) {
		for _, c := range w.callers {
			resp, err := client.Do(w.request(o, c))
			require.NoError(t, err, "%s as %s", o.OperationID, c.name)
			most := int64(1 << 20)
			if o.OperationID == "getEvents" && resp.StatusCode == 200 { // which does not end
				most = 1
			}
			raw, err := io.ReadAll(io.LimitReader(resp.Body, most))
			require.NoError(t, err)
			_ = resp.Body.Close()
			got := "in"
			switch resp.StatusCode {
			case 401, 403, 404:
				got = fmt.Sprint(resp.StatusCode)
			}
			var p api.Problem
			_ = json.Unmarshal(raw, &p)
			if got == "404" && (strings.Contains(problemText(p), "no picture") || strings.Contains(problemText(p), "icon") || strings.Contains(problemText(p), "has told of none") || strings.Contains(problemText(p), "no exchange") || strings.Contains(problemText(p), "has no family") || strings.Contains(problemText(p), "came to the step")) {
				got = "in" // it was looked for where it may be
			}
			want := o.want(c)
			assert.Equal(t, want, got, "%s as %s: %d %s", o.OperationID, c.name, resp.StatusCode, raw)
			assert.Less(t, resp.StatusCode, 500, "%s as %s: %s", o.OperationID, c.name, raw)
			if got == "in" && c.others && c.role != access.Host && o.OperationID != "getBackup" { // which holds all, and is for operators
				for thing, id := range w.things {
					if len(id) == len(store.NewID()) {
						assert.NotContains(t, string(raw), id, "%s as %s shows a %s", o.OperationID, c.name, thing)
					}
				}
			}
			if got == "403" {
				assert.NotEmpty(t, p.Remedy, o.OperationID)
			}
			table[o.OperationID] = append(table[o.OperationID], got)
		}
	}
	var out strings.Builder
	for i, c := range w.callers {
		fmt.Fprintf(&out, "%2d %s\n", i+1, c.name)
	}
	for _, o := range operations(t) {
		fmt.Fprintf(&out, "%-18v %-20s %s\n", o.Extensions["x-may"], o.OperationID, strings.Join(table[o.OperationID], " "))
	}
	t.Log("\n" + out.String())
	if path := os.Getenv("TESSELLANT_TABLE"); path != "" {
		require.NoError(t, os.WriteFile(path, []byte(out.String()), 0o600))
	}
}

// ends says whether a request that goes on ends.
func ends(t *testing.T, what string, r io.Reader) {
	t.Helper()
	over := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.Discard, r)
		close(over)
	}()
	select {
	case <-over:
	case <-time.After(4 * time.Second): // which is before anybody would look for keys that ran out
		assert.Fail(t, what+" go on")
	}
}

func TestAKeyThatIsWithdrawnEndsAtOnceWithAllThatItOpened(t *testing.T) {
	o := openOutside(t, "orr-01")
	made, err := o.AddKeyWithResponse(t.Context(), api.NewKey{Name: "ci", Role: api.Engineer})
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, string(made.Body))
	key := made.JSON201.Key
	get := func(path string, cookie bool) *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, o.URL+path, nil)
		require.NoError(t, err)
		if cookie {
			token, err := o.Service.SignIn(t.Context(), key, "")
			require.NoError(t, err)
			_, port, _ := strings.Cut(r.URL.Host, ":")
			r.AddCookie(&http.Cookie{Name: "tessellant_" + port, Value: token})
		} else {
			r.Header.Set("Authorization", "Bearer "+key)
		}
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { _ = resp.Body.Close() })
		require.Equal(t, 200, resp.StatusCode)
		return resp
	}
	c := o.client()
	c.auth = "Bearer " + key
	code, message := c.open(kelpline)
	require.Empty(t, code, message)
	_, code = c.do("GET", "/title", nil)
	waits := o.client() // for the one device there is
	waits.auth = c.auth
	waited := make(chan string, 1)
	go func() {
		code, _ := waits.open(with(kelpline, "tessellant:patience", 600))
		waited <- code
	}()
	housetest.Eventually(t, "it waits", func() bool {
		l, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{})
		return err == nil && l.JSON200.Waiting == 1
	})
	byKey, byBrowser := get("/api/v1/events", false), get("/api/v1/events", true)
	// An upload of which only a part has come.
	up, rest := io.Pipe()
	uploaded := make(chan error, 1)
	go func() {
		r, _ := http.NewRequestWithContext(t.Context(), http.MethodPost, o.URL+"/api/v1/builds", up)
		r.Header.Set("Authorization", "Bearer "+key)
		resp, err := http.DefaultClient.Do(r)
		if err == nil {
			defer resp.Body.Close()
			err = fmt.Errorf("%d", resp.StatusCode)
		}
		uploaded <- err
	}()
	_, err = rest.Write([]byte("PK"))
	require.NoError(t, err)

	_, err = o.RemoveKeyWithResponse(t.Context(), made.JSON201.Made.Id)
	require.NoError(t, err)
	ends(t, "live events of the key", byKey.Body)
	ends(t, "live events of a browser that signed in with it", byBrowser.Body)
	_, err = rest.Write([]byte("more"))
	require.NoError(t, err)
	assert.ErrorContains(t, <-uploaded, "401")
	status, v, err := c.send(t.Context(), "GET", "/session/"+c.id+"/title", nil)
	require.NoError(t, err)
	assert.Equal(t, 401, status)
	assert.Contains(t, v.(m)["message"], `the key "ci" was withdrawn`)
	assert.Equal(t, "session not created", <-waited)
	housetest.Eventually(t, "its sessions are over, and the device is free", func() bool {
		l, err := o.ListSessionsWithResponse(t.Context(), &api.ListSessionsParams{})
		require.NoError(t, err)
		d, err := o.GetDeviceWithResponse(t.Context(), "orr-01")
		require.NoError(t, err)
		return l.JSON200.Waiting+l.JSON200.Open == 0 && d.JSON200.State == "free"
	})
	c.auth = "" // the id alone
	_, code = c.do("GET", "/title", nil)
	assert.Equal(t, "invalid session id", code)
	again, err := o.RemoveKeyWithResponse(t.Context(), made.JSON201.Made.Id)
	require.NoError(t, err)
	assert.Equal(t, 404, again.StatusCode(), "it is withdrawn already")
}

func TestAViewerOpensNoSession(t *testing.T) {
	o := openOutside(t, "orr-01")
	c := o.client()
	code, message := c.open(kelpline)
	require.Empty(t, code, message)
	for _, role := range []access.Role{access.Viewer, access.Engineer} {
		_, key, err := o.Service.AddKey(t.Context(), o.Who, service.NewKeyRequest{Name: "a " + string(role), Role: role})
		require.NoError(t, err)
		for method, path := range map[string]string{"POST": "/session", "GET": "/session/" + c.id + "/title"} {
			viewer := o.client()
			viewer.auth = "Bearer " + key
			status, v, err := viewer.send(t.Context(), method, path, map[string]string{"POST": "{}"}[method])
			require.NoError(t, err)
			if role == access.Viewer {
				assert.Equal(t, 403, status, "%s %v", path, v)
				assert.Contains(t, v.(m)["message"], "your key has the role viewer", path)
			} else {
				assert.NotContains(t, []int{401, 403}, status, path)
			}
		}
	}
	key, err := o.Service.AddHost(t.Context(), o.Who, "bench-1")
	require.NoError(t, err)
	c.auth = "Bearer " + key
	status, _, err := c.send(t.Context(), "GET", "/session/"+c.id+"/title", nil)
	require.NoError(t, err)
	assert.Equal(t, 403, status, "nor does a host")
}

func TestTheOtherDoorsAreForThoseWhomTheTableNames(t *testing.T) {
	w := makeWorld(t)
	wire := strings.Repeat("w", 26)
	hash := sha256.Sum256([]byte(wire))
	x := store.Session{ID: store.NewID(), WorkspaceID: w.Who.WorkspaceID, Token: hash[:], Created: time.Now().UTC().Truncate(time.Millisecond)}
	require.NoError(t, w.Store.AddSession(t.Context(), x, work.Spec{Content: work.Content{Kind: work.Commands}}, work.Wants{Where: []string{"serial=none"}}, w.Who.KeyID, time.Hour))
	var out strings.Builder
	for _, door := range []struct {
		method, path, body string
		may                access.Action
	}{
		{"GET", "/metrics", "", access.See},
		{"GET", "/healthz", "", access.Anyone},
		{"GET", "/webdriver/status", "", access.Anyone},
		{"POST", "/webdriver/session", `{"capabilities": {"alwaysMatch": {"tessellant:where": ["serial=none"]}}}`, access.Borrow},
		{"GET", "/webdriver/session/" + wire + "/title", "", access.Borrow},
		{"DELETE", "/webdriver/session/" + wire, "", access.Borrow},
	} {
		fmt.Fprintf(&out, "%-12s %-6s %-30s", door.may, door.method, door.path)
		for _, c := range w.callers {
			if c.cookie {
				continue // these doors are for programs
			}
			key := c.key()
			headers := []string{}
			if door.body != "" {
				headers = []string{"Content-Type", "application/json"}
			}
			resp, raw := w.do(door.method, door.path, key, strings.NewReader(door.body), headers...)
			got := "in"
			switch {
			case resp.StatusCode == 401 || resp.StatusCode == 403:
				got = fmt.Sprint(resp.StatusCode)
			case strings.Contains(string(raw), "there is no session"):
				got = "404"
			}
			want := "in"
			command := strings.Contains(door.path, wire)
			switch {
			case door.may == access.Anyone:
			case command && key == "": // the session's id is a secret, which will do
			case c.role == "":
				want = "401"
			case !access.May(c.role, door.may):
				want = "403"
			case command && c.others:
				want = "404"
			}
			assert.Equal(t, want, got, "%s %s as %s: %d %s", door.method, door.path, c.name, resp.StatusCode, raw)
			fmt.Fprintf(&out, " %s", got)
		}
		out.WriteString("\n")
	}
	t.Log("\n" + out.String())
}

func TestThePageAboutSafetyHasTheTable(t *testing.T) {
	page, err := os.ReadFile(filepath.Join(housetest.Root(), "docs", "security.md"))
	require.NoError(t, err)
	roles := []access.Role{access.Borrower, access.Viewer, access.Engineer, access.Owner, access.Operator, access.Host}
	for _, a := range access.Actions() {
		row := "| " + access.Words(a) + " |"
		for _, r := range roles {
			if access.May(r, a) {
				row += " yes"
			}
			row += " |"
		}
		assert.Contains(t, string(page), row+"\n", "%s", a)
	}
}

func TestWhoWithdrawsTheirOwnKeyIsAnswered(t *testing.T) {
	d := open(t)
	for range 20 {
		made, err := d.AddKeyWithResponse(t.Context(), api.NewKey{Name: "mine", Role: api.Owner})
		require.NoError(t, err)
		require.NotNil(t, made.JSON201, string(made.Body))
		resp, raw := d.do("DELETE", "/api/v1/keys/"+made.JSON201.Made.Id, made.JSON201.Key, nil)
		require.Equal(t, 204, resp.StatusCode, string(raw))
		resp, raw = d.do("GET", "/api/v1/me", made.JSON201.Key, nil)
		refused(t, resp, raw, 401, "was withdrawn")
	}
}
