package guard

import (
	"bytes"
	"errors"
	"log/slog"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAPanicEndsItsWorkAlone(t *testing.T) {
	var out bytes.Buffer
	log := slog.New(slog.NewTextHandler(&out, nil))
	before := testutil.ToFloat64(Panics.WithLabelValues(Hold))
	err := Do(log, Hold, func() error {
		var m map[string]int
		m[strings.Repeat("x", 10)] = 1
		return nil
	})
	var p *Panicked
	require.True(t, errors.As(err, &p))
	assert.Equal(t, Hold, p.Work)
	assert.Contains(t, err.Error(), "nil map")
	assert.Contains(t, out.String(), "guard_test.go", "the stack says where")
	assert.Equal(t, before+1, testutil.ToFloat64(Panics.WithLabelValues(Hold)))

	want := errors.New("no")
	assert.Equal(t, want, Do(log, Hold, func() error { return want }))
	assert.NoError(t, Do(log, Hold, func() error { return nil }))
}
