package bus

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhoListensHearsAndWhoIsBehindHoldsNobodyUp(t *testing.T) {
	var b Bus
	b.Publish("tide", []byte("nobody listens"))
	one, stop := b.Subscribe("tide")
	other, stopOther := b.Subscribe("moon")
	defer stopOther()
	for range 100 {
		b.Publish("tide", []byte("high"))
	}
	assert.Equal(t, "high", string(<-one))
	assert.Empty(t, other)
	stop()
	for len(one) > 0 {
		<-one
	}
	b.Publish("tide", []byte("low"))
	assert.Empty(t, one)
	assert.Len(t, b.topics, 1, "a topic without listeners is forgotten")
}
