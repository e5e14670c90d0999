package devicelog

import (
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const little = `--------- beginning of main
     1900000000.500   100   101 I Tides   : the tide table is here
     1900000001.000   100   101 D Tides   : Ebb at GULL ledge
     1900000001.250   200   201 W Clock   : drift
     1900000002.000   100   100 E AndroidRuntime: FATAL EXCEPTION: main
     1900000002.000   100   100 E AndroidRuntime: Process: org.kelpline.app, PID: 100
     1900000002.001   100   100 E AndroidRuntime: java.lang.NoSuchMethodError: paint
     1900000004.000   300   301 F Örtlich : Größe
`

func index(t *testing.T, text string, zero time.Time) *Index {
	t.Helper()
	var place Place
	if !zero.IsZero() {
		place = func(_ int, at time.Time) int64 { return at.Sub(zero).Milliseconds() }
	}
	x, err := Scan(strings.NewReader(text), place, 2030)
	require.NoError(t, err)
	return x
}

func TestAnIndexKnowsWhereEachLineIsAndWhen(t *testing.T) {
	x := index(t, little, time.Unix(1900000000, 0))
	require.Equal(t, 8, x.Lines())
	assert.Equal(t, int64(len(little)), x.Size)
	from, to := x.Span(2)
	assert.Equal(t, "     1900000001.000   100   101 D Tides   : Ebb at GULL ledge\n", little[from:to])
	assert.Equal(t, int64(1000), x.At(2))
	assert.Equal(t, int64(0), x.At(0), "a divider before the first line")
	assert.Equal(t, []int{6}, x.Crashes, "known by the line that names the exception")
	assert.Equal(t, TagCount{"AndroidRuntime", 3}, x.Common(1)[0])
	slice, lines, warnings := x.Density(5)
	assert.Equal(t, int64(801), slice)
	assert.Equal(t, []int{2, 2, 3, 0, 1}, lines)
	assert.Equal(t, []int{0, 1, 3, 0, 1}, warnings)
	assert.Equal(t, int64(0), index(t, little, time.Time{}).At(1), "without a clock the first line stands at zero")
}

func TestLinesAreChosenByLevelTagAndText(t *testing.T) {
	x := index(t, little, time.Unix(1900000000, 0))
	for _, c := range []struct {
		name string
		Choice
		want []uint32
	}{
		{"all", Choice{}, []uint32{0, 1, 2, 3, 4, 5, 6, 7}},
		{"a level and graver", Choice{Level: 'W'}, []uint32{3, 4, 5, 6, 7}},
		{"a tag", Choice{Tag: "Tides"}, []uint32{1, 2}},
		{"no such tag", Choice{Tag: "Moon"}, nil},
		{"a text in small letters for capitals", Choice{Text: "gull"}, []uint32{2}},
		{"a text outside of ASCII", Choice{Text: "GRÖSSE"}, nil},
		{"a text outside of ASCII, as it is folded", Choice{Text: "größe"}, []uint32{7}},
		{"all three", Choice{Level: 'D', Tag: "AndroidRuntime", Text: "kelpline"}, []uint32{5}},
	} {
		got, err := x.Choose(c.Choice, strings.NewReader(little))
		require.NoError(t, err)
		assert.Equal(t, c.want, got, c.name)
	}
}

func TestTheRowNearAMoment(t *testing.T) {
	x := index(t, little, time.Unix(1900000000, 0))
	assert.Equal(t, 3, x.Near(1999, nil))
	assert.Equal(t, 6, x.Near(3999, nil))
	assert.Equal(t, 7, x.Near(1<<40, nil))
	assert.Equal(t, -1, x.Near(999, []uint32{3, 4}))
	assert.Equal(t, 0, x.Near(1500, []uint32{3, 4}))
}

func TestALogThatIsNoneIsStillIndexed(t *testing.T) {
	x := index(t, strings.Repeat("x", 3<<20)+"\nrest without an end", time.Time{})
	assert.Equal(t, 2, x.Lines())
	from, to := x.Span(1)
	assert.Equal(t, int64(19), to-from)
	assert.Equal(t, 0, index(t, "", time.Time{}).Lines())
}

func BenchmarkScan(b *testing.B) {
	var s strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&s, "%15d.%03d %5d %5d %c %-16s: %s\n", 1900000000+i/100, i%1000, 1000+i%7, 2000+i%11, Levels[i%5], fmt.Sprintf("Tag%d", i%60), strings.Repeat("the tide comes and goes ", 4))
	}
	b.SetBytes(int64(s.Len()))
	for b.Loop() {
		_, _ = Scan(strings.NewReader(s.String()), nil, 2030)
	}
}

// newlines is a reader of so many empty lines.
type newlines struct{ left int }

func (n *newlines) Read(b []byte) (int, error) {
	if n.left == 0 {
		return 0, io.EOF
	}
	k := min(len(b), n.left)
	for i := range k {
		b[i] = '\n'
	}
	n.left -= k
	return k, nil
}

func TestALogOfEmptyLinesTakesNoMemory(t *testing.T) {
	const many = 50 << 20
	log := func() io.Reader {
		return io.MultiReader(strings.NewReader("1700000001.000  1  1 I A: one\n"), &newlines{many}, strings.NewReader("1700000002.000  1  1 I A: two\n"))
	}
	x, err := Scan(log(), nil, 2023)
	require.NoError(t, err)
	assert.Equal(t, 3, x.Lines(), "empty lines one after the other are one")
	assert.Less(t, x.Bytes(), int64(1<<10))
	from, to := x.Span(2)
	assert.EqualValues(t, 30+many, from)
	assert.EqualValues(t, 60+many, to)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	rows, err := x.Choose(Choice{Text: "two"}, log())
	require.NoError(t, err)
	assert.Equal(t, []uint32{2}, rows)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20))
}
