package zipdir

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func packed(t *testing.T, files int, comment string) []byte {
	t.Helper()
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	require.NoError(t, z.SetComment(comment))
	for i := range files {
		_, err := z.Create(fmt.Sprintf("%06d", i))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return buf.Bytes()
}

func sizeOf(raw []byte) (int64, error) {
	d, err := Find(bytes.NewReader(raw), int64(len(raw)))
	return d.Size, err
}

func TestTheDirectorysSizeIsFound(t *testing.T) {
	one, err := sizeOf(packed(t, 1, ""))
	require.NoError(t, err)
	for files, comment := range map[int]string{2: "", 3: "by hand", 4: strings.Repeat("long ", 13000), 70_000: "more than 16 bits count: zip64"} {
		got, err := sizeOf(packed(t, files, comment))
		require.NoError(t, err)
		assert.EqualValues(t, one*int64(files), got, files)
	}
}

func TestASizeThatTheZip64RecordTellsCounts(t *testing.T) {
	raw := packed(t, 70_000, "")
	end := bytes.LastIndex(raw, []byte("PK\x05\x06"))
	binary.LittleEndian.PutUint32(raw[end+12:], 46) // a lie: whoever reads the file goes by the other record
	got, err := sizeOf(raw)
	require.NoError(t, err)
	assert.Greater(t, got, int64(3<<20))
	at := bytes.LastIndex(raw, []byte("PK\x06\x07"))
	for _, wrong := range []uint64{1 << 63, uint64(len(raw)), 0} {
		binary.LittleEndian.PutUint64(raw[at+8:], wrong)
		_, err = sizeOf(raw)
		assert.ErrorIs(t, err, ErrNone, "the record is not there: %d", wrong)
	}
}

func TestWhatIsNoZipFileHasNone(t *testing.T) {
	whole := packed(t, 3, "")
	for _, raw := range [][]byte{nil, []byte("PK"), []byte(strings.Repeat("no zip", 40000)), whole[:len(whole)-23]} {
		_, err := sizeOf(raw)
		assert.ErrorIs(t, err, ErrNone)
	}
	_, err := Find(broken{}, 1<<20)
	assert.ErrorContains(t, err, "the disk is gone")
}

type broken struct{}

func (broken) ReadAt([]byte, int64) (int, error) { return 0, errors.New("the disk is gone") }

var _ io.ReaderAt = broken{}
