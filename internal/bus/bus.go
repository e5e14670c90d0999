// Package bus carries wake-ups between the parts of the service.
//
// Nothing durable depends on it: a message may be lost, and then the next tick
// does what it would have done. In process for now. In: a topic and bytes.
// Out: the bytes, to whoever listens at that moment.
package bus

import "sync"

// Bus is an in-process bus. The zero value is ready for use.
type Bus struct {
	mu     sync.Mutex
	topics map[string]map[chan []byte]bool
}

// Publish sends to all who listen. A listener that is behind misses it.
func (b *Bus) Publish(topic string, data []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.topics[topic] {
		select {
		case c <- data:
		default:
		}
	}
}

// Subscribe listens to a topic until stop is called.
func (b *Bus) Subscribe(topic string) (messages <-chan []byte, stop func()) {
	c := make(chan []byte, 16)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.topics == nil {
		b.topics = map[string]map[chan []byte]bool{}
	}
	if b.topics[topic] == nil {
		b.topics[topic] = map[chan []byte]bool{}
	}
	b.topics[topic][c] = true
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.topics[topic], c)
		if len(b.topics[topic]) == 0 {
			delete(b.topics, topic)
		}
	}
}
