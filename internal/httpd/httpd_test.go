package httpd_test

import (
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/httpd"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) { housetest.Main(m) }

type door struct {
	*housetest.Service
	t *testing.T
	*api.ClientWithResponses
}

func open(t *testing.T) *door {
	t.Helper()
	s := housetest.StartService(t, housetest.DSN(t))
	c, err := api.NewClientWithResponses(s.URL+"/api/v1", api.WithHTTPClient(&http.Client{Transport: strict{t}}), api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+s.Key)
		return nil
	}))
	require.NoError(t, err)
	return &door{s, t, c}
}

// do sends a bare request.
func (d *door) do(method, path, key string, body io.Reader, headers ...string) (*http.Response, []byte) {
	d.t.Helper()
	r, err := http.NewRequest(method, d.URL+path, body)
	require.NoError(d.t, err)
	if key != "" {
		r.Header.Set("Authorization", "Bearer "+key)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	resp, err := (&http.Client{Transport: strict{d.t}}).Do(r)
	require.NoError(d.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(d.t, err)
	return resp, raw
}

// refused checks that an answer is a problem with that status that says why.
func refused(t *testing.T, resp *http.Response, raw []byte, status int, says string) api.Problem {
	t.Helper()
	require.Equal(t, status, resp.StatusCode, string(raw))
	assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
	var p api.Problem
	require.NoError(t, json.Unmarshal(raw, &p))
	assert.Equal(t, status, p.Status)
	assert.Contains(t, problemText(p), says)
	return p
}

func problemText(p api.Problem) string {
	s := p.Title
	for _, x := range []*string{p.Detail, p.Remedy} {
		if x != nil {
			s += " | " + *x
		}
	}
	return s
}

func suite(t *testing.T, files map[string]string) []byte {
	t.Helper()
	f := fstest.MapFS{}
	for n, s := range files {
		f[n] = &fstest.MapFile{Data: []byte(s)}
	}
	var buf bytes.Buffer
	require.NoError(t, testpkg.Pack(f, &buf))
	return buf.Bytes()
}

func good(t *testing.T, name, body string) []byte {
	return suite(t, map[string]string{testpkg.Entry: "name: " + name + "\nkind: script\n", "a.star": "def test_a(phone):\n    " + body + "\n"})
}

func (d *door) addKelpline() api.Build {
	d.t.Helper()
	raw, err := os.ReadFile(housetest.Kelpline(d.t))
	require.NoError(d.t, err)
	name := "kelpline.apk"
	r, err := d.AddBuildWithBodyWithResponse(context.Background(), &api.AddBuildParams{Filename: &name}, "application/octet-stream", bytes.NewReader(raw))
	require.NoError(d.t, err)
	require.NotNil(d.t, r.JSON201, string(r.Body))
	return *r.JSON201
}

// blobs counts the files in the blob store.
func (d *door) blobs() (n int) {
	d.t.Helper()
	require.NoError(d.t, filepath.WalkDir(filepath.Join(d.Dir, "blobs"), func(_ string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			n++
		}
		return err
	}))
	return n
}

func TestOnlyWhoHasAKeyComesIn(t *testing.T) {
	d := open(t)
	for _, key := range []string{"", "tsl_wrong", "tsl_wrong' OR 1=1 -- "} {
		resp, raw := d.do("GET", "/api/v1/me", key, nil)
		refused(t, resp, raw, 401, "key")
		assert.Equal(t, "Bearer", resp.Header.Get("WWW-Authenticate"))
	}
	me, err := d.GetMeWithResponse(context.Background())
	require.NoError(t, err)
	assert.Equal(t, "tests", me.JSON200.Workspace)
	resp, raw := d.do("GET", "/api/v1/nothing", d.Key, nil)
	refused(t, resp, raw, 404, "there is no GET /api/v1/nothing here")
	resp, raw = d.do("GET", "/metrics", "", nil)
	refused(t, resp, raw, 401, "no key was given")
	for path, key := range map[string]string{"/healthz": "", "/readyz": "", "/metrics": d.Key} {
		resp, raw := d.do("GET", path, key, nil)
		assert.Equal(t, 200, resp.StatusCode, string(raw))
		assert.NotContains(t, string(raw), d.Key)
	}
}

func TestABuildIsReadAndFoundByItsReferences(t *testing.T) {
	ctx, d := context.Background(), open(t)
	b := d.addKelpline()
	assert.Equal(t, "kelpline/android@231", b.Ref)
	assert.Equal(t, []string{"android.permission.INTERNET", "android.permission.ACCESS_FINE_LOCATION", "android.permission.CAMERA", "android.permission.POST_NOTIFICATIONS"}, b.Permissions)
	assert.True(t, b.HasIcon)
	for _, ref := range []string{b.Id, "kelpline/android@231", "kelpline/android@v1.8.0", "kelpline/android@newest", "org.kelpline.app/android@newest"} {
		r, err := d.GetBuildWithResponse(ctx, ref)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, "%s: %s", ref, r.Body)
		assert.Equal(t, b.Id, r.JSON200.Id)
	}
	icon, err := d.GetBuildIconWithResponse(ctx, b.Ref)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(icon.Body, []byte("\x89PNG")))

	before := d.blobs()
	raw, err := os.ReadFile(housetest.Kelpline(t))
	require.NoError(t, err)
	again, err := d.AddBuildWithBodyWithResponse(ctx, nil, "application/octet-stream", bytes.NewReader(raw))
	require.NoError(t, err)
	require.NotNil(t, again.JSON200, "the same file is the same build")
	assert.Equal(t, b.Id, again.JSON200.Id)
	assert.Equal(t, before, d.blobs(), "and is kept once")

	for ref, says := range map[string]string{"kelpline/android@7": "no build", "kelpline/android@x": `"x" is no version`, "nobody/android@newest": "no build", "01ABC": "a reference looks like"} {
		r, err := d.GetBuildWithResponse(ctx, ref)
		require.NoError(t, err)
		refused(t, r.HTTPResponse, r.Body, map[bool]int{true: 400, false: 404}[ref == "kelpline/android@x"], says)
	}
}

func TestWhatIsNoBuildIsRefusedAndNothingIsKept(t *testing.T) {
	d := open(t)
	apk, err := os.ReadFile(housetest.Kelpline(t))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		body    []byte
		headers []string
		status  int
		says    string
	}{
		"empty":          {nil, nil, 422, "the file is empty"},
		"no APK":         {[]byte("hello hello hello"), nil, 422, "neither an APK nor an IPA"},
		"truncated":      {apk[:9000], nil, 422, "cut off"},
		"another digest": {apk, []string{"Content-Digest", "sha-256=:AAAA:"}, 400, "do not match the Content-Digest"},
	} {
		t.Run(name, func(t *testing.T) {
			resp, raw := d.do("POST", "/api/v1/builds?filename=x.apk", d.Key, bytes.NewReader(c.body), append(c.headers, "Content-Type", "application/octet-stream")...)
			p := refused(t, resp, raw, c.status, c.says)
			assert.NotNil(t, p.Remedy)
			assert.Zero(t, d.blobs())
		})
	}
	r, err := d.ListBuildsWithResponse(context.Background(), nil)
	require.NoError(t, err)
	assert.Empty(t, r.JSON200.Items)
}

func TestAnUploadThatIsCutOffLeavesNothing(t *testing.T) {
	d := open(t)
	c, err := net.Dial("tcp", strings.TrimPrefix(d.URL, "http://"))
	require.NoError(t, err)
	fmt.Fprintf(c, "POST /api/v1/builds HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/octet-stream\r\nContent-Length: 1000000\r\n\r\n", d.Key)
	_, err = c.Write(bytes.Repeat([]byte("PK"), 100_000))
	require.NoError(t, err)
	housetest.Eventually(t, "the upload has begun", func() bool { return d.blobs() > 0 })
	require.NoError(t, c.Close())
	housetest.Eventually(t, "nothing is left of it", func() bool { return d.blobs() == 0 })
}

func TestTooLargeAnUploadIsRefused(t *testing.T) {
	d := open(t)
	d.MaxBuild = 1000
	for _, known := range []bool{true, false} {
		body := io.Reader(bytes.NewReader(make([]byte, 5000)))
		if !known {
			body = io.MultiReader(body) // its length is not announced
		}
		resp, raw := d.do("POST", "/api/v1/builds", d.Key, body, "Content-Type", "application/octet-stream")
		refused(t, resp, raw, 413, "1000")
		assert.Zero(t, d.blobs())
	}
}

func TestPackagesAreNumberedByRevision(t *testing.T) {
	ctx, d := context.Background(), open(t)
	one, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	require.NotNil(t, one.JSON201, string(one.Body))
	assert.Equal(t, "suite@1", one.JSON201.Ref)
	assert.Equal(t, []api.Case{{Name: "a.test_a", File: "a.star", Line: 1}}, one.JSON201.Cases)
	same, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	require.NotNil(t, same.JSON200)
	two, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "phone.launch()")))
	require.NoError(t, err)
	assert.Equal(t, "suite@2", two.JSON201.Ref)
	for ref, want := range map[string]int{"suite@1": 1, "suite@2": 2, "suite@newest": 2, one.JSON201.Id: 1} {
		r, err := d.GetPackageWithResponse(ctx, ref)
		require.NoError(t, err)
		assert.Equal(t, want, r.JSON200.Revision, ref)
	}
	bad, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "phone.tpa('#x')")))
	require.NoError(t, err)
	p := refused(t, bad.HTTPResponse, bad.Body, 422, "one finding keeps it from running")
	assert.Equal(t, "a.star", *(*p.Findings)[0].File)
	assert.Equal(t, 2, *(*p.Findings)[0].Line)
	none, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", strings.NewReader("no zip"))
	require.NoError(t, err)
	refused(t, none.HTTPResponse, none.Body, 422, "not a zip file")
}

// device makes the service know a device, as a host would.
func (d *door) device(serial, maker string, api int) {
	d.t.Helper()
	f := devices.Facts{Serial: serial, Platform: "android", OS: "14", API: api, Maker: maker, Model: "M", Origin: "real", ABIs: []string{"arm64-v8a"}}
	id, err := d.Store.SeeHost(context.Background(), "a host that never works")
	require.NoError(d.t, err)
	_, err = d.Store.SeeDevice(context.Background(), store.Sighting{HostID: id, Host: "beside", Lab: "adb", Facts: f, State: "ready"})
	require.NoError(d.t, err)
}

func TestARunIsPlannedOnceAndSaysWhyItCannotStart(t *testing.T) {
	ctx, d := context.Background(), open(t)
	b := d.addKelpline()
	_, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	for i, maker := range []string{"Orrery", "Orrery", "Fennel"} {
		d.device(fmt.Sprintf("d-%d", i), maker, 30)
	}
	d.device("d-old", "Orrery", 10)
	q := api.RunRequest{Build: b.Ref, Package: "suite@newest", Where: &[]string{"maker=Orrery"}}
	key := "one and the same"
	first, err := d.StartRunWithResponse(ctx, &api.StartRunParams{IdempotencyKey: &key}, q)
	require.NoError(t, err)
	require.NotNil(t, first.JSON201, string(first.Body))
	run := first.JSON201
	assert.Len(t, run.Legs, 2)
	assert.Equal(t, "suite@1", run.Package, "the reference is resolved")
	require.Len(t, run.Findings, 1)
	assert.Equal(t, "d-old", *run.Findings[0].Device)
	assert.Equal(t, "0 of 2 devices passed; 2 still going.", run.Sentence)
	second, err := d.StartRunWithResponse(ctx, &api.StartRunParams{IdempotencyKey: &key}, q)
	require.NoError(t, err)
	require.NotNil(t, second.JSON200)
	assert.Equal(t, run.Id, second.JSON200.Id)
	housetest.Eventually(t, "both legs hold their devices", func() bool {
		r, err := d.GetRunWithResponse(ctx, run.Id)
		return err == nil && r.JSON200 != nil && r.JSON200.Legs[0].Stage == "held" && r.JSON200.Legs[1].Stage == "held"
	})
	leg, err := d.GetLegWithResponse(ctx, run.Legs[0].Id)
	require.NoError(t, err)
	assert.Equal(t, api.DeviceState("held"), leg.JSON200.Device.State)

	zero := 0
	for says, q := range map[string]api.RunRequest{
		"no device matches maker=Nobody": {Build: b.Ref, Package: "suite@1", Where: &[]string{"maker=Nobody"}},
		"an operator is missing":         {Build: b.Ref, Package: "suite@1", Where: &[]string{"android"}},
		`no device with the serial`:      {Build: b.Ref, Package: "suite@1", Devices: &[]string{"x"}},
		"no build":                       {Build: "x/android@newest", Package: "suite@1"},
		"no package":                     {Build: b.Ref, Package: "suite@99"},
		"out of range":                   {Build: b.Ref, Package: "suite@1", LimitSeconds: &zero},
	} {
		r, err := d.StartRunWithResponse(ctx, nil, q)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, r.StatusCode(), 400, says)
		refused(t, r.HTTPResponse, r.Body, r.StatusCode(), says)
	}
	resp, raw := d.do("POST", "/api/v1/runs", d.Key, strings.NewReader("{"), "Content-Type", "application/json")
	refused(t, resp, raw, 400, "")
	resp, raw = d.do("POST", "/api/v1/runs", d.Key, strings.NewReader(`{"build":"`+strings.Repeat("x", 2<<20)+`"}`), "Content-Type", "application/json")
	refused(t, resp, raw, 413, "longer than")
}

func TestFaultsOfTheServiceAreTold(t *testing.T) {
	d := open(t)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	_, noSpace := full.Write([]byte("x"))
	for says, err := range map[string]error{"disk is full": noSpace, "database does not answer": driver.ErrBadConn, "under incident": errors.New("a secret detail")} {
		w := httptest.NewRecorder()
		httpd.AnswerError(echo.New().NewContext(httptest.NewRequest("POST", "/api/v1/builds", nil), w), d.Log, fmt.Errorf("keep it: %w", err))
		raw := w.Body.Bytes()
		refused(t, w.Result(), raw, w.Code, says)
		assert.GreaterOrEqual(t, w.Code, 500)
		assert.NotContains(t, string(raw), "secret", "what is inside stays in the log")
	}
	require.NoError(t, d.Store.Close())
	resp, raw := d.do("GET", "/readyz", "", nil)
	assert.Equal(t, 503, resp.StatusCode, string(raw))
	resp, raw = d.do("GET", "/healthz", "", nil)
	assert.Equal(t, 200, resp.StatusCode, string(raw))
}

func TestListsArePagedByKey(t *testing.T) {
	ctx, d := context.Background(), open(t)
	for i := range 5 {
		_, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", fmt.Sprintf("log(%d)", i))))
		require.NoError(t, err)
		d.device(fmt.Sprintf("d-%d", i), []string{"Orrery", "Fennel"}[i%2], 30)
	}
	limit := 2
	var got []int
	for after := (*string)(nil); ; {
		r, err := d.ListPackagesWithResponse(ctx, &api.ListPackagesParams{Limit: &limit, After: after})
		require.NoError(t, err)
		for _, p := range r.JSON200.Items {
			got = append(got, p.Revision)
		}
		if after = r.JSON200.Next; after == nil {
			break
		}
	}
	assert.Equal(t, []int{5, 4, 3, 2, 1}, got)
	where := []string{"maker=Orrery"}
	r, err := d.ListDevicesWithResponse(ctx, &api.ListDevicesParams{Limit: &limit, Where: &where})
	require.NoError(t, err)
	require.Len(t, r.JSON200.Items, 2)
	r, err = d.ListDevicesWithResponse(ctx, &api.ListDevicesParams{Limit: &limit, Where: &where, After: r.JSON200.Next})
	require.NoError(t, err)
	require.Len(t, r.JSON200.Items, 1)
	assert.Equal(t, "d-4", r.JSON200.Items[0].Serial)
	assert.Nil(t, r.JSON200.Next)
	resp, raw := d.do("GET", "/api/v1/packages?limit=500", d.Key, nil)
	refused(t, resp, raw, 400, "1 to 200")
	resp, raw = d.do("GET", "/api/v1/packages?limit=many", d.Key, nil)
	refused(t, resp, raw, 400, "")
}

func TestAnotherWorkspaceSeesNothingOfThisOne(t *testing.T) {
	ctx, d := context.Background(), open(t)
	b := d.addKelpline()
	other := service.New(service.Config{Store: d.Store})
	key, err := other.FirstKey(ctx, "others", "tsl_the_key_of_somebody_else")
	require.NoError(t, err)
	resp, raw := d.do("GET", "/api/v1/builds/"+b.Id, key, nil)
	refused(t, resp, raw, 404, "no build")
	resp, raw = d.do("GET", "/api/v1/builds", key, nil)
	assert.Equal(t, 200, resp.StatusCode)
	assert.JSONEq(t, `{"items":[]}`, string(raw))
}

func TestArtifactsComeWholeAndInRanges(t *testing.T) {
	ctx, d := context.Background(), open(t)
	b := d.addKelpline()
	_, err := d.AddPackageWithBodyWithResponse(ctx, "application/zip", bytes.NewReader(good(t, "suite", "pass")))
	require.NoError(t, err)
	d.device("d-1", "Orrery", 30)
	r, err := d.StartRunWithResponse(ctx, nil, api.RunRequest{Build: b.Ref, Package: "suite@1"})
	require.NoError(t, err)
	var holds []store.Hold
	housetest.Eventually(t, "the leg holds its device", func() bool {
		holds, err = d.Store.ActiveHolds(ctx, "")
		return err == nil && len(holds) == 1
	})
	data := bytes.Repeat([]byte("0123456789"), 1000)
	h := hostlink.Hold{ID: holds[0].ID}
	require.NoError(t, d.HostLink().Keep(ctx, h, hostlink.Artifact{Name: "device.log", Kind: "device-log", ContentType: "text/plain; charset=utf-8"}, bytes.NewReader(data)))
	leg, err := d.GetLegWithResponse(ctx, r.JSON201.Legs[0].Id)
	require.NoError(t, err)
	f := leg.JSON200.Attempts[0].Artifacts[0]
	assert.Equal(t, int64(len(data)), f.Size)
	resp, raw := d.do("GET", "/api/v1/artifacts/"+f.Id, d.Key, nil)
	assert.Equal(t, data, raw)
	assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
	resp, raw = d.do("GET", "/api/v1/artifacts/"+f.Id, d.Key, nil, "Range", "bytes=9995-")
	assert.Equal(t, 206, resp.StatusCode)
	assert.Equal(t, "56789", string(raw))
	resp, raw = d.do("GET", "/api/v1/artifacts/01NONE", d.Key, nil)
	refused(t, resp, raw, 404, "no artifact")
}
