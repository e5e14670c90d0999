package house_test

// Hosts on one bus are kept apart: tried with a plain client of NATS, at our own server and at somebody's with the users that docs/9-hosts.md gives.

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/bus"
	"tessellant/internal/hostlink"
	"tessellant/internal/hostlink/remote"
	"tessellant/internal/house"
	"tessellant/internal/housetest"
)

// somebodys is a NATS server as docs/9-hosts.md says one is to be set up.
func somebodys(t *testing.T) (address string) {
	t.Helper()
	page, err := os.ReadFile(filepath.Join(housetest.Root(), "docs", "9-hosts.md"))
	require.NoError(t, err)
	block := regexp.MustCompile("(?s)```nats\n(.*?)```").FindSubmatch(page)
	require.NotNil(t, block)
	file := filepath.Join(t.TempDir(), "nats.conf")
	require.NoError(t, os.WriteFile(file, block[1], 0o600))
	o, err := server.ProcessConfigFile(file)
	require.NoError(t, err)
	o.Host, o.Port, o.NoLog, o.NoSigs = "127.0.0.1", server.RANDOM_PORT, true, true
	s, err := server.NewServer(o)
	require.NoError(t, err)
	s.Start()
	t.Cleanup(s.Shutdown)
	require.True(t, s.ReadyForConnections(10*time.Second))
	return s.Addr().String()
}

// joined is a host that has joined, with its way to the bus.
type joined struct {
	*remote.Link
	name, key string
	welcome   hostlink.Welcome // of a joining of its own
	bus       string           // where it reaches the bus, with what it shows
}

func (p *process) join(name, own string) *joined {
	p.t.Helper()
	made, err := p.AddHostWithResponse(p.t.Context(), api.AddHostJSONRequestBody{Name: name})
	require.NoError(p.t, err)
	j := &joined{name: name, key: made.JSON201.Key, bus: own}
	j.Link = &remote.Link{URL: p.URL, Key: j.key, Version: "test", Log: housetest.Log(), Bus: own}
	_, err = j.Join(p.t.Context())
	require.NoError(p.t, err)
	p.t.Cleanup(j.Leave)
	j.welcome = j.Welcome()
	if own == "" {
		j.bus = strings.Replace(j.welcome.BusURL, "://", "://"+j.welcome.BusUser+":"+j.welcome.BusPassword+"@", 1)
	}
	return j
}

// plain connects a plain client; it says which of its topics were refused.
func plain(t *testing.T, url string) (c *nats.Conn, refused chan string) {
	t.Helper()
	refused = make(chan string, 1000)
	c, err := nats.Connect(url, nats.MaxReconnects(0), nats.CustomInboxPrefix("tessellant.inbox.bench-1"), nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { refused <- err.Error() }))
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, refused
}

func TestTwoHostsOnOneBusNeitherHearNorAnswerForEachOther(t *testing.T) {
	for _, c := range []struct {
		name     string
		config   func(t *testing.T) house.Config
		own      func(c house.Config, name, password string) string
		somebody bool
	}{
		{"our own server", func(*testing.T) house.Config { return house.Config{BusListen: "127.0.0.1:0"} }, func(house.Config, string, string) string { return "" }, false},
		{"somebody's", func(t *testing.T) house.Config {
			return house.Config{Bus: "nats://service:the-service@" + somebodys(t)}
		}, func(c house.Config, name, password string) string {
			return strings.Replace(c.Bus, "service:the-service", name+":"+password, 1)
		}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			config := c.config(t)
			config.Database, config.NoHost = housetest.DSN(t), true
			p := begin(t, config)
			first, second := p.join("bench-1", c.own(config, "bench-1", "the-first-host")), p.join("bench-2", c.own(config, "bench-2", "the-second-host"))
			assert.NotContains(t, first.welcome.BusURL, "the-service", "what the service shows at the bus is not told")
			got := make(chan hostlink.Order, 10)
			_, err := second.Serve("bench-2", func(_ context.Context, o hostlink.Order) hostlink.Result {
				got <- o
				return hostlink.Result{Status: 200, Size: 2, Piece: []byte("ok")}
			})
			require.NoError(t, err)
			spy, refused := plain(t, first.bus)
			heard := make(chan *nats.Msg, 1000)
			foreign := []string{">", "tessellant.>", "*.*.*", "tessellant.hosts", "tessellant.work", "tessellant.changes", "tessellant.access", "tessellant.session.*", "tessellant.host.bench-2", "tessellant.host.*", "tessellant.commands.bench-2", "tessellant.commands.*", "tessellant.up.bench-2.*", "tessellant.up.>", "tessellant.down.bench-1.*", "tessellant.down.bench-2.x",
				"tessellant.inbox.bench-2.>", "tessellant.inbox.>", "tessellant.inbox.Service.>", "_INBOX.>", "$SYS.>", "tessellant.host.bench-11"}
			for _, topic := range foreign {
				_, err := spy.ChanSubscribe(topic, heard)
				require.NoError(t, err)
				_, err = spy.QueueSubscribe(topic, "answer", func(m *nats.Msg) { heard <- m })
				require.NoError(t, err)
			}
			require.NoError(t, spy.Flush())
			housetest.Eventually(t, "each of them is refused", func() bool { return len(refused) >= 2*len(foreign) })

			// The other host works: it calls, is woken, and carries out orders.
			_, err = second.Devices(t.Context(), "bench-2", hostlink.About{}, nil)
			require.NoError(t, err)
			r, err := p.Sessions.Orders.Send(t.Context(), "bench-2", hostlink.Order{Hold: "h", ID: "1", Method: "GET", Path: "/"})
			require.NoError(t, err)
			assert.Equal(t, "ok", string(r.Piece), "it is the host that answers")
			assert.Equal(t, "h", (<-got).Hold)
			woken, deaf := second.Wake("bench-2")
			defer deaf()
			p.Sessions.Orders.Wake("bench-2")
			<-woken

			// A stream to it carries both ways.
			ours, err := bus.NewStream(p.Bus, bus.Up("bench-2", "x"), bus.Down("bench-2", "x"))
			require.NoError(t, err)
			defer ours.Close()
			theirs, err := second.Stream("bench-2", "x")
			require.NoError(t, err)
			defer theirs.Close()
			for from, to := range map[net.Conn]net.Conn{ours: theirs, theirs: ours} {
				_, err = from.Write([]byte("tide"))
				require.NoError(t, err)
				got := make([]byte, 4)
				require.NoError(t, to.SetReadDeadline(time.Now().Add(10*time.Second)))
				_, err = io.ReadFull(to, got)
				require.NoError(t, err)
				assert.Equal(t, "tide", string(got))
			}

			// What the spy says in others' names does not come to them.
			changes, enough := p.Bus.Subscribe(bus.Changes)
			defer enough()
			for _, topic := range []string{"tessellant.commands.bench-2", "tessellant.host.bench-2", "tessellant.changes", "tessellant.work", "tessellant.access", "tessellant.inbox.bench-2.x", "tessellant.inbox.Service.x", bus.Up("bench-2", "x"), bus.Down("bench-2", "x")} {
				require.NoError(t, spy.PublishRequest(topic, "tessellant.inbox.bench-1.x", []byte(`{"Hold": "spied", "ID": "2", "Method": "GET", "Path": "/"}`)))
			}
			call, err := json.Marshal(hostlink.Call{Protocol: hostlink.Protocol, Token: "tshs_guessed", Kind: "holds"})
			require.NoError(t, err)
			// An answer that goes to the other one's topic.
			require.NoError(t, spy.PublishRequest("tessellant.hosts", "tessellant.commands.bench-2", call))
			require.NoError(t, spy.PublishRequest("tessellant.hosts", "tessellant.changes", call))
			// It may call, and learns nothing with a token that is not good.
			back, err := spy.Request("tessellant.hosts", call, 5*time.Second)
			require.NoError(t, err)
			assert.Contains(t, string(back.Data), hostlink.KindStranger)
			assert.NotEqual(t, first.welcome.Token, second.welcome.Token)
			require.NoError(t, spy.Flush())
			select {
			case o := <-got:
				assert.Fail(t, "the other host was given an order by the first", "%v", o)
			case m := <-changes:
				assert.Fail(t, "the service was told of a change by a host", "%s", m)
			case <-woken:
				assert.Fail(t, "the other host was woken by the first")
			case <-time.After(500 * time.Millisecond): // nothing is to come: so long it is waited for
			}
			assert.Empty(t, heard)
			require.NoError(t, ours.SetReadDeadline(time.Now().Add(50*time.Millisecond)))
			_, err = ours.Read(make([]byte, 1))
			assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "nor into another one's stream")

			// Over HTTP, too, a host speaks for itself alone.
			raw, err := json.Marshal(hostlink.Call{Protocol: hostlink.Protocol, Token: second.welcome.Token, Kind: "holds"})
			require.NoError(t, err)
			req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, p.URL+"/api/v1/hosts/call", strings.NewReader(string(raw)))
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+first.key)
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			defer resp.Body.Close()
			var a hostlink.Answer
			require.NoError(t, json.NewDecoder(resp.Body).Decode(&a))
			assert.Equal(t, hostlink.KindStranger, a.Kind, "the token of another host")

			if c.somebody {
				return
			}
			// Nobody comes in with another's name, or without a token that is good; and a host that is removed is out.
			host := strings.TrimPrefix(first.welcome.BusURL, "nats://")
			for _, url := range []string{"nats://" + host, "nats://bench-2:" + first.welcome.BusPassword + "@" + host, "nats://Service:" + first.welcome.BusPassword + "@" + host, "nats://:" + first.welcome.BusPassword + "@" + host, "nats://bench-1:@" + host} {
				_, err := nats.Connect(url, nats.MaxReconnects(0))
				assert.Error(t, err, url)
			}
			removed, err := p.RemoveHostWithResponse(t.Context(), "bench-1")
			require.NoError(t, err)
			require.Equal(t, 204, removed.StatusCode())
			housetest.Eventually(t, "the spy is out", func() bool { return spy.IsClosed() })
			_, err = nats.Connect(first.bus, nats.MaxReconnects(0))
			assert.Error(t, err)
			_, err = second.Devices(t.Context(), "bench-2", hostlink.About{}, nil)
			require.NoError(t, err, "the other stays")
		})
	}
}

func TestAHostThatJoinsAnewSendsItsOlderProcessAway(t *testing.T) {
	p := begin(t, house.Config{BusListen: "127.0.0.1:0", Database: housetest.DSN(t), NoHost: true})
	first := p.join("bench-1", "")
	c, _ := plain(t, first.bus)
	again := &remote.Link{URL: p.URL, Key: first.key, Version: "test", Log: housetest.Log()}
	_, err := again.Join(t.Context())
	require.NoError(t, err)
	defer again.Leave()
	housetest.Eventually(t, "the connection of the older process has ended", func() bool { return c.IsClosed() })
	_, err = again.Devices(t.Context(), "bench-1", hostlink.About{}, nil)
	require.NoError(t, err)
}

func TestAHostOfTheVersionBeforeIsHeard(t *testing.T) {
	p := begin(t, house.Config{BusListen: "127.0.0.1:0", Database: housetest.DSN(t), NoHost: true})
	made, err := p.AddHostWithResponse(t.Context(), api.AddHostJSONRequestBody{Name: "bench-1"})
	require.NoError(t, err)
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, p.URL+"/api/v1/hosts/join", strings.NewReader(fmt.Sprintf(`{"protocol": %d, "version": "0.0"}`, hostlink.Protocol-1)))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+made.JSON201.Key)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	var w hostlink.Welcome
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&w))
	c, err := nats.Connect(w.BusURL, nats.UserInfo(w.BusUser, w.BusPassword)) // as that version did: with inboxes as NATS has them
	require.NoError(t, err)
	defer c.Close()
	call, err := json.Marshal(hostlink.Call{Protocol: hostlink.Protocol - 1, Token: w.Token, Kind: "holds"})
	require.NoError(t, err)
	back, err := c.Request("tessellant.hosts", call, 5*time.Second)
	require.NoError(t, err)
	assert.NotContains(t, string(back.Data), "Problem")
}
