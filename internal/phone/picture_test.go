package phone

import (
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPictureLargerThanAnyScreenIsNotUnpacked(t *testing.T) {
	// A PNG of a few bytes that says that it has 30000 × 30000 pixels (PNG specification, section 11.2.2).
	head := []byte("IHDR\x00\x00\x75\x30\x00\x00\x75\x30\x08\x06\x00\x00\x00")
	bomb := append([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0d"), head...)
	bomb = binary.BigEndian.AppendUint32(bomb, crc32.ChecksumIEEE(head))
	_, err := Unpacked(bomb)
	assert.ErrorContains(t, err, "30000 × 30000 pixels is larger than any screen")
}
