package adb

import (
	"context"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb/adbtest"
)

// newer is an adb server that can do what Debian's can't yet: it answers requests with texts, the first that is left of each.
func newer(t *testing.T, answers map[string][]string) *Server {
	t.Helper()
	var mu sync.Mutex
	return &Server{adbtest.Serve(t, func(c net.Conn, request string) bool {
		mu.Lock()
		defer mu.Unlock()
		left := answers[request]
		if len(left) == 0 {
			adbtest.Fail(c, "unknown host service")
			return false
		}
		if len(left) > 1 {
			answers[request] = left[1:]
		}
		adbtest.Text(c, left[0])
		return false
	})}
}

func TestPairingByCodeAndByPicture(t *testing.T) {
	const done = "Successfully paired to 192.168.1.23:37123 [guid=adb-1]"
	s := newer(t, map[string][]string{
		"host:pair:482910:192.168.1.23:37123": {done}, "host:pair:000000:192.168.1.23:37123": {"Failed: Wrong password or connection was dropped."},
		"host:mdns:services":                  {"", "adb-x\t_adb-tls-connect._tcp\t192.168.1.9:5\n", "tessellant-A\t_adb-tls-pairing._tcp\t192.168.1.23:37123\n"},
		"host:pair:secret:192.168.1.23:37123": {done},
	})
	require.NoError(t, s.Pair(t.Context(), "192.168.1.23:37123", "482910"))
	assert.ErrorContains(t, s.Pair(t.Context(), "192.168.1.23:37123", "000000"), "Wrong password")
	assert.Error(t, s.Pair(t.Context(), "192.168.1.23:37123", "1:2"), "a code that would be another request")
	require.NoError(t, s.PairByName(t.Context(), "tessellant-A", "secret"))
	short, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	assert.ErrorContains(t, s.PairByName(short, "nobody", "x"), "in time")

	old := newer(t, map[string][]string{"host:version": {"0029"}})
	var tooOld *TooOld
	require.ErrorAs(t, old.Pair(t.Context(), "192.168.1.23:37123", "482910"), &tooOld)
	assert.Contains(t, tooOld.Error(), "protocol version 0029")
	require.ErrorAs(t, old.PairByName(t.Context(), "tessellant-A", "secret"), &tooOld)
	assert.Contains(t, tooOld.Remedy(), "31")
}
