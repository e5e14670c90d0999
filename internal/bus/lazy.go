package bus

import (
	"context"
	"errors"
	"sync"
)

// Lazy is a bus inside one process that opens to others when the first wants to join: a NATS server takes time and memory that a service
// without hosts elsewhere has no use for.
type Lazy struct {
	// Listen is where it listens once it is open: host:port, for those whom the gate lets in.
	Listen string
	Gate   Gate

	local   Local
	mu      sync.Mutex
	open    *NATS
	answers map[string]*answering
	hears   map[string]*hearing
}

// hearing is who hears a topic, and how that is ended.
type hearing struct {
	take func([]byte)
	stop func()
}

// answering is what answers on a topic, and how that is ended.
type answering struct {
	answer func(context.Context, []byte) []byte
	stop   func()
}

var _ Bus = (*Lazy)(nil)

// Open opens the bus, once, and answers where.
func (b *Lazy) Open() (address string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.open == nil {
		n, err := Embed(b.Listen, b.Gate, nil)
		if err != nil {
			return "", err
		}
		for topic, a := range b.answers {
			if a.stop, err = n.Answer(topic, a.answer); err != nil {
				n.Close()
				return "", err
			}
		}
		for topic, h := range b.hears { // what was waited for before anybody could come
			if h.stop, err = n.Hear(topic, h.take); err != nil {
				n.Close()
				return "", err
			}
		}
		b.open = n
	}
	return b.open.Address, nil
}

// others is the way to other processes; nil: there is none.
func (b *Lazy) others() *NATS {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.open
}

// Close ends it.
func (b *Lazy) Close() {
	if n := b.others(); n != nil {
		n.Close()
	}
}

// Publish implements Bus.
func (b *Lazy) Publish(topic string, data []byte) {
	if b.local.heard(topic, data) {
		return
	}
	if n := b.others(); n != nil {
		n.Publish(topic, data)
	}
}

// Subscribe implements Bus. Only this process publishes: those who join listen and call.
func (b *Lazy) Subscribe(topic string) (messages <-chan []byte, stop func()) {
	return b.local.Subscribe(topic)
}

// Hear implements Bus.
func (b *Lazy) Hear(topic string, take func([]byte)) (stop func(), err error) {
	stopLocal, err := b.local.Hear(topic, take)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	h := &hearing{take: take, stop: func() {}}
	if b.open != nil {
		if h.stop, err = b.open.Hear(topic, take); err != nil {
			stopLocal()
			return nil, err
		}
	}
	if b.hears == nil {
		b.hears = map[string]*hearing{}
	}
	b.hears[topic] = h
	return func() {
		stopLocal()
		b.mu.Lock()
		delete(b.hears, topic)
		stop := h.stop
		b.mu.Unlock()
		stop()
	}, nil
}

// Call implements Bus.
func (b *Lazy) Call(ctx context.Context, topic string, data []byte) ([]byte, error) {
	out, err := b.local.Call(ctx, topic, data)
	if n := b.others(); n != nil && errors.Is(err, ErrNobody) {
		return n.Call(ctx, topic, data)
	}
	return out, err
}

// Answer implements Bus.
func (b *Lazy) Answer(topic string, answer func(context.Context, []byte) []byte) (stop func(), err error) {
	stopLocal, err := b.local.Answer(topic, answer)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	a := &answering{answer: answer, stop: func() {}}
	if b.open != nil {
		if a.stop, err = b.open.Answer(topic, answer); err != nil {
			stopLocal()
			return nil, err
		}
	}
	if b.answers == nil {
		b.answers = map[string]*answering{}
	}
	b.answers[topic] = a
	return func() {
		stopLocal()
		b.mu.Lock()
		delete(b.answers, topic)
		stop := a.stop
		b.mu.Unlock()
		stop()
	}, nil
}
