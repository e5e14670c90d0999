package httpd_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
)

func TestALinkShowsItsRunAndNothingElse(t *testing.T) {
	w := makeWorld(t) // with a run that has a leg and an artifact, and with another workspace
	ctx := t.Context()
	run, leg, file := w.things["run"], w.things["leg"], w.things["artifact"]
	look := func(path string) (int, string, http.Header) {
		t.Helper()
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, w.URL+path, nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(r) // without a key
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(raw), resp.Header
	}
	share := func(q api.ShareRequest) *api.NewShare {
		t.Helper()
		r, err := w.AddShareWithResponse(ctx, run, q)
		require.NoError(t, err)
		require.NotNil(t, r.JSON201, string(r.Body))
		return r.JSON201
	}
	whole := share(api.ShareRequest{})
	status, page, h := look(whole.Path)
	require.Equal(t, 200, status, page)
	assert.Contains(t, page, `href="legs/`+leg+`"`)
	assert.Equal(t, "noindex, nofollow", h.Get("X-Robots-Tag"))
	assert.Contains(t, h.Get("Content-Security-Policy"), "default-src 'none'")
	assert.NotContains(t, page, w.Who.KeyName, "nobody's name is told")
	status, page, _ = look(strings.TrimSuffix(whole.Path, "/"))
	assert.Equal(t, 200, status, "without the slash it leads there")
	assert.Contains(t, page, "Shared from Tessellant")
	status, page, _ = look(whole.Path + "legs/" + leg)
	require.Equal(t, 200, status, page)
	x, err := w.GetArtifactWithResponse(ctx, file)
	require.NoError(t, err)
	kind := ""
	l, err := w.GetLegWithResponse(ctx, leg)
	require.NoError(t, err)
	for _, f := range l.JSON200.Attempts[0].Artifacts {
		if f.Id == file {
			kind = string(f.Kind)
		}
	}
	status, body, _ := look(whole.Path + "files/" + file)
	t.Logf("the world's artifact is a %s", kind)
	switch kind {
	case "video", "screenshot", "gauges", "device-log", "network":
		assert.Equal(t, 200, status)
		assert.Equal(t, string(x.Body), body)
	default:
		assert.Equal(t, 404, status)
	}
	bare := share(api.ShareRequest{Leg: &leg, Without: &[]api.ShareWithout{api.ShareWithoutLogs, api.ShareWithoutNetwork}})
	assert.True(t, strings.HasSuffix(bare.Path, "/legs/"+leg))
	status, _, _ = look(bare.Path)
	assert.Equal(t, 200, status)
	if kind == "device-log" {
		status, _, _ = look(strings.Split(bare.Path, "legs/")[0] + "files/" + file)
		assert.Equal(t, 404, status, "logs are left out")
	}
	status, _, _ = look(strings.Split(bare.Path, "legs/")[0])
	assert.Equal(t, 404, status, "a share of a leg does not show its run")

	// What is not of the share, was never, or has ended, is not known, all in one wording.
	others := "01ARZ3NDEKTSV4RRFFQ69G5FAV"
	for _, path := range []string{"/share/AAAAAAAAAAAAAAAAAAAAAAAAAA/", "/share/x/", "/share/" + strings.Repeat("A", 5000) + "/", whole.Path + "legs/" + others, whole.Path + "files/" + others, whole.Path + "files/" + w.things["session"], whole.Path + "legs/" + w.things["session"]} {
		status, body, _ := look(path)
		assert.Equal(t, 404, status, path)
		assert.Contains(t, body, "This link is not known, has run out, or was withdrawn.", path)
	}
	status, body, _ = look("/share/https:elsewhere.example")
	assert.Equal(t, 404, status, "it does not lead away: %s", body)
	for want, q := range map[string]api.ShareRequest{"can't last": {LastsSeconds: ptr(1)}, "can't last 2222h": {LastsSeconds: ptr(8000000)}, "there is no leg": {Leg: &others}} {
		r, err := w.AddShareWithResponse(ctx, run, q)
		require.NoError(t, err)
		assert.Contains(t, string(r.Body), want)
	}
	list, err := w.ListSharesWithResponse(ctx, run)
	require.NoError(t, err)
	require.NotNil(t, list.JSON200, string(list.Body))
	require.Len(t, list.JSON200.Items, 2)
	assert.Equal(t, []int{1, 2}, []int{list.JSON200.Items[0].Views, list.JSON200.Items[1].Views})
	assert.NotContains(t, string(list.Body), strings.Split(whole.Path, "/")[2], "a link is told only once")
	gone, err := w.RemoveShareWithResponse(ctx, whole.Share.Id)
	require.NoError(t, err)
	assert.Equal(t, 204, gone.StatusCode())
	status, _, _ = look(whole.Path)
	assert.Equal(t, 404, status)

	// Too much at once is told so, and passes.
	too := 0
	for range 400 {
		if status, _, _ := look("/share/AAAAAAAAAAAAAAAAAAAAAAAAAA/"); status == 429 {
			too++
		}
	}
	assert.Positive(t, too)
	deadline := time.Now().Add(20 * time.Second)
	for status = 429; status == 429 && time.Now().Before(deadline); {
		status, _, _ = look(bare.Path)
	}
	assert.Equal(t, 200, status)
}
