package house_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/bus"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/house"
	"tessellant/internal/housetest"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

func TestMain(m *testing.M) { housetest.Main(m) }

const key = "tsl_a_key_for_two_processes"

// process is one process of a service, as its clients see it.
type process struct {
	*house.House
	*api.ClientWithResponses
	t *testing.T
}

func begin(t *testing.T, c house.Config) *process {
	t.Helper()
	c.Listen, c.Data, c.Workspace, c.FirstKey, c.Version, c.Log = "127.0.0.1:0", t.TempDir(), "main", key, "test", housetest.Log()
	h, err := house.Start(t.Context(), c)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	client, err := api.NewClientWithResponses(h.URL+api.Prefix, api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+key)
		return nil
	}))
	require.NoError(t, err)
	return &process{h, client, t}
}

// events gathers the kinds of events that a watcher of this process gets.
func (p *process) events(query string) (seen func(kind string) bool) {
	p.t.Helper()
	req, err := http.NewRequestWithContext(p.t.Context(), http.MethodGet, p.URL+api.Prefix+"/events"+query, nil)
	require.NoError(p.t, err)
	req.Header.Set("Authorization", "Bearer "+key)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	require.Equal(p.t, http.StatusOK, resp.StatusCode)
	p.t.Cleanup(func() { _ = resp.Body.Close() })
	var mu sync.Mutex
	kinds := map[string]bool{}
	go func() {
		for lines := bufio.NewScanner(resp.Body); lines.Scan(); {
			if kind, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				mu.Lock()
				kinds[kind] = true
				mu.Unlock()
			}
		}
	}()
	return func(kind string) bool {
		mu.Lock()
		defer mu.Unlock()
		return kinds[kind]
	}
}

// command sends a WebDriver command, and answers its value.
func (p *process) command(method, path string, body any) (value any, status int) {
	p.t.Helper()
	raw, err := json.Marshal(body)
	require.NoError(p.t, err)
	req, err := http.NewRequestWithContext(p.t.Context(), method, p.URL+"/webdriver"+path, bytes.NewReader(raw))
	require.NoError(p.t, err)
	req.Header.Set("Authorization", "Bearer "+key)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	defer resp.Body.Close()
	var out struct{ Value any }
	require.NoError(p.t, json.NewDecoder(resp.Body).Decode(&out))
	return out.Value, resp.StatusCode
}

func TestTwoProcessesOnOneDatabaseAreOneService(t *testing.T) {
	server, dsn, blobs := housetest.ADB(t), housetest.DSN(t), filepath.Join(t.TempDir(), "blobs")
	nats, err := bus.Embed("127.0.0.1:0", nil, nil)
	require.NoError(t, err)
	t.Cleanup(nats.Close)
	shared := house.Config{SecretsKey: "MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE=", Database: dsn, Blobs: blobs, Bus: fmt.Sprintf("nats://%s:%s@%s", nats.Secret.User, nats.Secret.Password, nats.Address)}
	tr := housetest.Fleet(t)["orr-01"]
	tr.Temper = standin.Instant
	tides, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(tides.Close)
	tr.Network, tr.System = tides.Network(), tides.Certificate
	phone := housetest.Phone(t, server, tr)
	near := shared
	near.Names = tides.Network()
	near.ADB, near.Connect, near.HostName = server.Address, []string{phone.Address()}, "bench-a"
	far := shared
	far.NoHost = true
	a, b := begin(t, near), begin(t, far)

	devices := func(p *process) []api.Device {
		r, err := p.ListDevicesWithResponse(t.Context(), nil)
		require.NoError(t, err)
		return r.JSON200.Items
	}
	housetest.Eventually(t, "the far process shows the near one's device", func() bool {
		all := devices(b)
		return len(all) == 1 && all[0].State == "free" && all[0].Host == "bench-a"
	})
	seen := b.events("")
	apk, err := os.Open(housetest.Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	_, err = a.AddBuildWithBodyWithResponse(t.Context(), nil, "application/octet-stream", apk)
	require.NoError(t, err)
	housetest.Eventually(t, "a build that came to the near process is told by the far one", func() bool { return seen("build") })
	var pkg bytes.Buffer
	source := "def test_a(phone):\n    phone.launch()\n    for i in range(3):\n        phone.step('look')\n        phone.background(1)\n"
	require.NoError(t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: suite\nkind: script\n")}, "c.star": {Data: []byte(source)}}, &pkg))
	_, err = b.AddPackageWithBodyWithResponse(t.Context(), "application/zip", &pkg)
	require.NoError(t, err)

	// The run is started at the far process, done at the near one, and seen at both, while it goes on.
	run, err := b.StartRunWithResponse(t.Context(), nil, api.RunRequest{Build: "kelpline/android@newest", Package: "suite@newest"})
	require.NoError(t, err)
	require.NotNil(t, run.JSON201, string(run.Body))
	leg := run.JSON201.Legs[0].Id
	live := b.events("?leg=" + leg)
	housetest.Eventually(t, "what happens is seen at the far process", func() bool { return live("timeline") && live("screen") && live("run") })
	housetest.Eventually(t, "so is the screen", func() bool {
		r, err := b.GetScreenWithResponse(t.Context(), leg)
		return err == nil && r.StatusCode() == http.StatusOK && len(r.Body) > 1000
	})
	tl, err := b.GetTimelineWithResponse(t.Context(), leg, nil)
	require.NoError(t, err)
	assert.True(t, tl.JSON200.Live)
	assert.NotEmpty(t, tl.JSON200.Events)
	for _, p := range []*process{a, b} {
		housetest.Eventually(t, "both say that it is over", func() bool {
			r, err := p.GetRunWithResponse(t.Context(), run.JSON201.Id)
			return err == nil && r.JSON200 != nil && r.JSON200.Done && *r.JSON200.Verdict == api.Passed
		})
	}

	// A session at the far process commands the near one's device; its host is asked for a check.
	wanted := map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"tessellant:build": "kelpline/android@newest"}}}
	got, status := b.command(http.MethodPost, "/session", wanted)
	require.Equal(t, http.StatusOK, status, got)
	id, _ := got.(map[string]any)["sessionId"].(string)
	text, status := b.command(http.MethodGet, "/session/"+id+"/source", nil)
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, "Gull Ledge")
	text, status = a.command(http.MethodGet, "/session/"+id+"/source", nil)
	require.Equal(t, http.StatusOK, status, "whichever process a client comes to: %v", text)
	_, status = b.command(http.MethodDelete, "/session/"+id, nil)
	require.Equal(t, http.StatusOK, status)
	housetest.Eventually(t, "the device is checked", func() bool {
		r, err := b.StartDeviceCheckWithResponse(t.Context(), "orr-01")
		return err == nil && r.JSON202 != nil
	})
	housetest.Eventually(t, "and fit", func() bool {
		r, err := b.GetDeviceCheckWithResponse(t.Context(), "orr-01")
		return err == nil && r.JSON200 != nil && r.JSON200.Done && r.JSON200.Fit
	})

	// The far process goes away while a run goes on that was started there.
	second, err := b.StartRunWithResponse(t.Context(), nil, api.RunRequest{Build: "kelpline/android@newest", Package: "suite@newest"})
	require.NoError(t, err)
	require.NotNil(t, second.JSON201, string(second.Body))
	b.Close()
	housetest.Eventually(t, "it ends all the same", func() bool {
		r, err := a.GetRunWithResponse(t.Context(), second.JSON201.Id)
		return err == nil && r.JSON200 != nil && r.JSON200.Done && *r.JSON200.Verdict == api.Passed
	})
}
