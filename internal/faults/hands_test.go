package faults

// A held device on a host elsewhere: watched and touched, while the service is killed, and the host.

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/housetest"
)

// page watches a held device.
type page struct {
	ws *websocket.Conn

	mu    sync.Mutex
	kinds string // of the pictures that came
	texts string
	end   error
}

func (l *lab) watch(hold string) *page {
	l.t.Helper()
	p := &page{}
	housetest.Eventually(l.t, "the device can be watched", func() bool {
		ws, resp, err := websocket.Dial(ctx, strings.Replace(l.url, "http", "ws", 1)+"/api/v1/hands/"+hold+"/watch", &websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + labKey}}})
		if resp != nil && resp.Body != nil {
			_ = resp.Body.Close()
		}
		p.ws = ws
		return err == nil
	})
	l.t.Cleanup(func() { _ = p.ws.CloseNow() })
	p.ws.SetReadLimit(16 << 20)
	go func() {
		for {
			kind, data, err := p.ws.Read(context.Background())
			p.mu.Lock()
			switch {
			case err != nil:
				p.end = err
				p.mu.Unlock()
				return
			case kind == websocket.MessageText:
				p.texts += string(data) + "\n"
			default:
				p.kinds += string(data[0])
			}
			p.mu.Unlock()
		}
	}()
	return p
}

func (p *page) until(t *testing.T, what string, is func() bool) {
	t.Helper()
	housetest.Eventually(t, what, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return is()
	})
}

func TestAHeldDeviceOnAHostElsewhereIsWatchedAlsoWhenTheServiceWasAway(t *testing.T) {
	t.Parallel()
	l := newLab(t, 1)
	build, seconds := "kelpline/android@newest", 1200
	h, err := l.HoldDeviceWithResponse(ctx, &api.HoldDeviceParams{}, api.HoldRequest{Where: &[]string{"platform=android"}, Build: &build, Seconds: &seconds})
	require.NoError(t, err)
	require.NotNil(t, h.JSON201, string(h.Body))
	id := h.JSON201.Id
	stage := func() (s api.HoldStage) {
		r, err := l.GetHoldWithResponse(ctx, id)
		if err != nil || r.JSON200 == nil {
			return ""
		}
		return r.JSON200.Stage
	}
	housetest.Eventually(t, "the device is held", func() bool { return stage() == api.HoldStageRunning })
	works := func(p *page) {
		defer func() {
			if t.Failed() {
				t.Log(p.kinds, p.texts, p.end)
			}
		}()
		t.Helper()
		p.until(t, "the film comes, and it is in hand", func() bool {
			return strings.Contains(p.kinds, "rk") && strings.Contains(p.texts, `"mine":true`)
		})
		require.NoError(t, p.ws.Write(ctx, websocket.MessageText, []byte(`{"keys": ["back"]}`)))
		p.mu.Lock()
		before := len(p.kinds)
		p.mu.Unlock()
		require.NoError(t, p.ws.Write(ctx, websocket.MessageText, []byte(`{"keys": ["home"]}`)))
		p.until(t, "what changes is shown", func() bool { return len(p.kinds) > before })
	}
	// A terminal holds a route open meanwhile.
	route := &process{t: t, args: []string{"route", "open", "3000", "--hold", id}, env: []string{"TESSELLANT_URL=" + l.url, "TESSELLANT_KEY=" + labKey}, log: filepath.Join(l.dir, "route.log")}
	route.start()
	defer route.end()
	routed := func() bool {
		r, err := l.ListRoutesWithResponse(ctx, id)
		return err == nil && r.JSON200 != nil && len(r.JSON200.Items) == 1
	}
	housetest.Eventually(t, "the route is open", routed)
	p := l.watch(id)
	works(p)
	l.service.kill()
	p.until(t, "the way is cut", func() bool { return p.end != nil })
	l.service.start()
	l.up()
	p = l.watch(id)
	works(p)
	assert.Equal(t, api.HoldStageRunning, stage(), "the hold went on meanwhile")
	housetest.Eventually(t, "the route is opened again", func() bool {
		said, _ := os.ReadFile(route.log)
		return routed() && strings.Contains(string(said), "The routes are open again.")
	})

	l.host.kill()
	begun := time.Now()
	p.until(t, "the page is told that the host says nothing any more", func() bool { return p.end != nil })
	assert.Less(t, time.Since(begun), 40*time.Second)
	housetest.Eventually(t, "the hold is lost", func() bool { return stage() == api.HoldStageDone })
	r, err := l.GetHoldWithResponse(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "lost", *r.JSON200.How)
	select {
	case <-route.done:
		assert.Equal(t, 0, route.cmd.ProcessState.ExitCode(), "the route ends with its hold")
	case <-time.After(time.Minute):
		t.Error("the route's terminal waits for ever")
	}
}
