package adb

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDevicesOfOneSerialAreListedByTheirPlugs(t *testing.T) {
	assert.Equal(t, []Listed{{"usb:1-4", "device"}, {"usb:1-5.2", "unauthorized"}, {"orr-01", "device"}, {"127.0.0.1:5555", "offline"}, {"fen-01", "no permissions (user in plugdev group?); see the docs"}},
		readListedLong("0123456789ABCDEF       device usb:1-4 product:skerry model:Skerry_5 device:skerry transport_id:3\n0123456789ABCDEF       unauthorized usb:1-5.2 transport_id:4\n"+
			"orr-01                 device usb:1-7 product:skerry model:Skerry_5 transport_id:5\n127.0.0.1:5555         offline transport_id:6\nfen-01                 no permissions (user in plugdev group?); see the docs usb:2-1 transport_id:7\n\n"))
	assert.Equal(t, []Listed{{"a", "device"}, {"a", "device"}}, readListed("a\tdevice\na\tdevice\n\n"))
	assert.Empty(t, readListedLong(""))
}
