package adb

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func said(t testing.TB, name string) string {
	t.Helper()
	raw, err := os.ReadFile("testdata/" + name)
	require.NoError(t, err)
	return string(raw)
}

func TestDevicesOfOneSerialAreListedByTheirPlugs(t *testing.T) {
	assert.Equal(t, []Listed{{"usb:1-4", "device"}, {"usb:1-5.2", "unauthorized"}, {"orr-01", "device"}, {"127.0.0.1:5555", "offline"}, {"fen-01", "no permissions (user in plugdev group?); see the docs"}},
		readListedLong("0123456789ABCDEF       device usb:1-4 product:skerry model:Skerry_5 device:skerry transport_id:3\n0123456789ABCDEF       unauthorized usb:1-5.2 transport_id:4\n"+
			"orr-01                 device usb:1-7 product:skerry model:Skerry_5 transport_id:5\n127.0.0.1:5555         offline transport_id:6\nfen-01                 no permissions (user in plugdev group?); see the docs usb:2-1 transport_id:7\n\n"))
	assert.Equal(t, []Listed{{"a", "device"}, {"a", "device"}}, readListed("a\tdevice\na\tdevice\n\n"))
	assert.Empty(t, readListedLong(""))
}

func TestTheKnownFormsAreRead(t *testing.T) {
	assert.Equal(t, []Listed{{"usb:1-4", "device"}, {"usb:1-5.2", "unauthorized"}, {"usb:2-1", "no permissions (user in plugdev group?); see the docs"}, {"emulator-5554", "offline"}}, readListedLong(said(t, "devices-l.txt")))
	assert.Equal(t, "192.168.1.23:37123", readService(said(t, "mdns.txt"), "tessellant-7KQ2MX4P"))
	assert.Empty(t, readService(said(t, "mdns.txt"), "adb-ORR01-abc123"), "that one waits for nobody")
}

// FuzzSaid reads anything at all as the server's answers.
func FuzzSaid(f *testing.F) {
	f.Add(said(f, "devices-l.txt"))
	f.Add(said(f, "mdns.txt"))
	f.Fuzz(func(t *testing.T, out string) {
		_ = readListed(out)
		for _, l := range readListedLong(out) {
			if strings.ContainsAny(l.Serial, " \n") {
				t.Fatalf("a serial is %q", l.Serial)
			}
		}
		_ = readService(out, "x")
	})
}
