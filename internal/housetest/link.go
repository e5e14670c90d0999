package housetest

// A service with something to do, for the suite of links between it and hosts.

import (
	"bytes"
	"context"
	"io"
	"net"
	"os"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"tessellant/internal/bus"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/hostlink/hostlinktest"
	"tessellant/internal/hostlink/remote"
	"tessellant/internal/service"
)

// LinkSubject is a link to a fresh service: the one in its own process, or that of a host elsewhere.
func LinkSubject(t *testing.T, elsewhere bool) hostlinktest.Subject {
	t.Helper()
	ctx := context.Background()
	x := hostlinktest.Subject{Host: HostName}
	s := StartService(t, DSN(t))
	if !elsewhere {
		x.Link = s.HostLink()
	} else {
		key, err := s.AddHost(ctx, s.Who, "bench-1")
		require.NoError(t, err)
		link := &remote.Link{URL: s.URL, Key: key, Version: "test", Log: Log()}
		x.Host, err = link.Join(ctx)
		require.NoError(t, err)
		t.Cleanup(link.Leave)
		x.Link = link
	}
	apk, err := os.Open(Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	build, _, err := s.AddBuild(ctx, s.Who, service.Upload{Body: apk, Size: -1})
	require.NoError(t, err)
	x.Build, x.BuildSHA = build.Ref(), build.SHA256
	var pkg bytes.Buffer
	require.NoError(t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: suite\nkind: script\n")}, "a.star": {Data: []byte("def test_a(p):\n    pass\n")}}, &pkg))
	_, _, err = s.AddPackage(ctx, s.Who, service.Upload{Body: &pkg, Size: -1})
	require.NoError(t, err)
	x.Offer = func(serial string) {
		_, _, err := s.StartRun(ctx, s.Who, service.RunRequest{Build: x.Build, Package: "suite@1", Devices: []string{serial}})
		require.NoError(t, err)
	}
	x.Stop = func(h hostlink.Hold) {
		_, err := s.StopRun(ctx, s.Who, h.RunID, "")
		require.NoError(t, err)
	}
	x.Order = func(ctx context.Context, o hostlink.Order) (hostlink.Result, error) {
		return s.Sessions.Orders.Send(ctx, x.Host, o)
	}
	x.Open = func(id string) (net.Conn, error) {
		b := s.Sessions.Orders.Bus
		return bus.NewStream(b, bus.Up(x.Host, id), bus.Down(x.Host, id))
	}
	x.Cases = func(h hostlink.Hold) map[string]verdict.Verdict {
		cases, err := s.Store.Cases(ctx, h.AttemptID)
		require.NoError(t, err)
		out := map[string]verdict.Verdict{}
		for _, c := range cases {
			out[c.Name] = c.Verdict
		}
		return out
	}
	x.Kept = func(h hostlink.Hold, name string) ([]byte, bool) {
		all, err := s.Store.Artifacts(ctx, h.AttemptID)
		require.NoError(t, err)
		for _, a := range all {
			if a.Name == name {
				r, err := s.Blobs.Read(ctx, a.BlobKey, 0, -1)
				require.NoError(t, err)
				defer r.Close()
				data, err := io.ReadAll(r)
				require.NoError(t, err)
				return data, true
			}
		}
		return nil, false
	}
	x.Quarantined = func(serial string) string {
		d, err := s.Device(ctx, s.Who, serial)
		require.NoError(t, err)
		return d.QuarantineWhy
	}
	x.Watched = func(h hostlink.Hold) []timeline.Event {
		events, _, _ := s.Feed.Now(h.AttemptID)
		return events
	}
	return x
}
