package httpd_test

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/har"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
)

// tracks are gauges of 1,000 s with one spike, and a network log of three exchanges.
func tracks(t *testing.T) (readings, network string) {
	t.Helper()
	var b strings.Builder
	b.WriteString(gauges.Head())
	for i := range 1000 {
		v := map[string]float64{"memory": 64, "battery": 87}
		if i == 501 {
			v["memory"] = 400
		}
		if i%2 == 1 {
			delete(v, "battery")
		}
		b.WriteString(gauges.Sample{At: int64(i) * 1000, Values: v}.Row())
	}
	readings = b.String()
	b.Reset()
	b.WriteString(har.Head("test"))
	for i, e := range []har.Entry{
		{At: 100, Time: 12, Kind: har.HTTP, Request: har.Request{Method: "GET", URL: "http://tides.example/shores"}, Response: har.Response{Status: 200, Content: har.Content{Size: 7, MimeType: "application/json", Text: `{"a":1}`}}},
		{At: 900, Time: 700, Kind: har.HTTP, Request: har.Request{Method: "POST", URL: "http://tides.example/surveys"}, Response: har.Response{Status: 503}},
		{At: 400, Time: 3000, Kind: har.Connection, Received: 5000, Request: har.Request{Method: "CONNECT", URL: "https://accounts.example"}},
	} {
		line, err := e.Line(i == 0)
		require.NoError(t, err)
		b.Write(line)
	}
	return readings, b.String() + har.Tail
}

func TestGaugesAndNetworkAreReadInWindows(t *testing.T) {
	ctx, d := context.Background(), open(t)
	_, h := d.leg("d-1")
	link := d.HostLink()
	g, err := d.GetGaugesWithResponse(ctx, h.WorkID, nil)
	require.NoError(t, err)
	require.NotNil(t, g.JSON200, string(g.Body))
	assert.True(t, g.JSON200.Live)
	assert.Empty(t, g.JSON200.Series)
	n, err := d.GetNetworkWithResponse(ctx, h.WorkID, nil)
	require.NoError(t, err)
	assert.Equal(t, []any{true, 0}, []any{n.JSON200.Live, n.JSON200.Rows})

	// While the leg runs, what has come is there.
	readings, network := tracks(t)
	half := strings.Index(readings, "500000,")
	require.NoError(t, link.Append(ctx, h, hostlink.Artifact{Name: "gauges.csv", Kind: "gauges", ContentType: "text/csv"}, 0, []byte(readings[:half])))
	first := strings.Index(network, "\n,") + 1
	require.NoError(t, link.Append(ctx, h, hostlink.Artifact{Name: "network.har", Kind: "network", ContentType: "application/json"}, 0, []byte(network[:first])))
	g, err = d.GetGaugesWithResponse(ctx, h.WorkID, nil)
	require.NoError(t, err)
	assert.Len(t, g.JSON200.At, 500)
	housetest.Eventually(t, "what has come by now is shown", func() bool {
		n, err = d.GetNetworkWithResponse(ctx, h.WorkID, nil)
		return err == nil && n.JSON200.Rows == 1
	})

	require.NoError(t, link.Keep(ctx, h, hostlink.Artifact{Name: "gauges.csv", Kind: "gauges", ContentType: "text/csv"}, strings.NewReader(readings)))
	require.NoError(t, link.Keep(ctx, h, hostlink.Artifact{Name: "network.har", Kind: "network", ContentType: "application/json"}, strings.NewReader(network)))
	require.NoError(t, link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	points := 20
	g, err = d.GetGaugesWithResponse(ctx, h.WorkID, &api.GetGaugesParams{Points: &points})
	require.NoError(t, err)
	assert.LessOrEqual(t, len(g.JSON200.At), 22)
	s := g.JSON200.Series[0]
	assert.Equal(t, []any{"memory", "MB", false, 1000, 64.0, 64.0, 400.0}, []any{s.Name, s.Unit, s.Device, s.Count, s.Min, s.Median, s.Max})
	spike := false
	for _, v := range s.Values {
		spike = spike || v != nil && *v == 400
	}
	assert.True(t, spike, "however few points there are")
	from, to := int64(500_000), int64(502_000)
	g, err = d.GetGaugesWithResponse(ctx, h.WorkID, &api.GetGaugesParams{From: &from, To: &to})
	require.NoError(t, err)
	assert.Equal(t, []int64{500_000, 501_000, 502_000}, g.JSON200.At)
	assert.Nil(t, g.JSON200.Series[1].Values[1], "the battery was not read then")

	order, failed, text := api.GetNetworkParamsOrder("worst"), true, "ACCOUNTS"
	n, err = d.GetNetworkWithResponse(ctx, h.WorkID, &api.GetNetworkParams{Order: &order})
	require.NoError(t, err)
	assert.Equal(t, []int{2, 3, 1}, []int{n.JSON200.Items[0].N, n.JSON200.Items[1].N, n.JSON200.Items[2].N})
	n, err = d.GetNetworkWithResponse(ctx, h.WorkID, &api.GetNetworkParams{Failed: &failed})
	require.NoError(t, err)
	assert.Equal(t, 1, n.JSON200.Rows)
	n, err = d.GetNetworkWithResponse(ctx, h.WorkID, &api.GetNetworkParams{Text: &text})
	require.NoError(t, err)
	assert.Equal(t, "https://accounts.example", n.JSON200.Items[0].Url)
	o, err := d.GetNetworkOverviewWithResponse(ctx, h.WorkID, nil)
	require.NoError(t, err)
	assert.Equal(t, []any{3, 1, "tides.example"}, []any{o.JSON200.Count, o.JSON200.Failed, o.JSON200.Hosts[0].Name})
	e, err := d.GetExchangeWithResponse(ctx, h.WorkID, 1, nil)
	require.NoError(t, err)
	assert.Equal(t, `{"a":1}`, e.JSON200.Response.Content.Text)

	for query, says := range map[string]string{"gauges?points=5": "10 to 10000", "gauges?from=9&to=3": "from 9 to 3", "gauges?from=-1": "from", "network?order=loud": "no order", "network?limit=0": "1 to 1000", "network?from=-1": "counted from 0",
		"network/9": "no exchange 9", "network/0": "no exchange 0", "network/x": "parameter n", "network?attempt=7": "no attempt 7"} {
		resp, raw := d.do("GET", "/api/v1/legs/"+h.WorkID+"/"+query, d.Key, nil)
		assert.Contains(t, []int{400, 404, 422}, resp.StatusCode, query)
		assert.Contains(t, string(raw), says, query)
	}
}

func TestAllFilesOfARunComeAsOneZip(t *testing.T) {
	ctx, d := context.Background(), open(t)
	run, h := d.leg("d-1")
	link := d.HostLink()
	require.NoError(t, link.Keep(ctx, h, hostlink.Artifact{Name: "device.log", Kind: "device-log", ContentType: "text/plain"}, strings.NewReader(littleLog)))
	require.NoError(t, link.Close(ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
	resp, raw := d.do("GET", "/api/v1/runs/"+run.Id+"/files", d.Key, nil)
	require.Equal(t, 200, resp.StatusCode)
	assert.Equal(t, fmt.Sprintf(`attachment; filename="run-%d.zip"`, run.Number), resp.Header.Get("Content-Disposition"))
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	files := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		files[f.Name], err = io.ReadAll(r)
		require.NoError(t, err)
	}
	assert.Equal(t, littleLog, string(files["d-1/device.log"]))
	assert.Contains(t, string(files["run.json"]), run.Id)
	assert.Contains(t, string(files["junit.xml"]), "<testsuites")
	sums := 0
	for line := range strings.Lines(string(files["SHA256SUMS"])) {
		sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
		got := sha256.Sum256(files[name])
		assert.Equal(t, sum, hex.EncodeToString(got[:]), name)
		sums++
	}
	assert.Equal(t, len(files)-1, sums)
}
