package labels

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLabels(t *testing.T) {
	got, err := Parse([]string{"branch=main", "commit=a=b", "Desk.1=Größe 3"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"branch": "main", "commit": "a=b", "Desk.1": "Größe 3"}, got)
	for text, why := range map[string]string{"branch": "is no label", "=x": "can't be named", "a b=x": "can't be named", "a=": "needs a value", "a=x\ny": "in one line", "a=" + strings.Repeat("x", 201): "needs a value", strings.Repeat("n", 64) + "=1": "can't be named"} {
		_, err := Parse([]string{text})
		assert.ErrorContains(t, err, why, text)
	}
	_, err = Parse([]string{"a=1", "a=2"})
	assert.ErrorContains(t, err, "twice")
	many := map[string]string{}
	for i := range Most + 1 {
		many[strings.Repeat("x", i+1)] = "1"
	}
	assert.ErrorContains(t, Check(many), "too many")
	old := map[string]string{"a": "1", "b": "2"}
	now, err := Changed(old, map[string]string{"a": "3", "c": "4"}, []string{"b", "none"})
	assert.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "3", "c": "4"}, now)
	assert.Equal(t, map[string]string{"a": "1", "b": "2"}, old)
	now, err = Changed(nil, nil, nil)
	assert.NoError(t, err)
	assert.NotNil(t, now)
	_, err = Changed(old, map[string]string{"no name": "1"}, nil)
	assert.ErrorContains(t, err, "can't be named")
}
