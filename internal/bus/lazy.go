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

	local  Local
	mu     sync.Mutex
	open   *NATS
	stands map[*standing]bool
}

// standing is who hears a topic or answers on it: here, and once the bus is open for others, too.
type standing struct {
	put  func(*NATS) (stop func(), err error)
	stop func()
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
		for s := range b.stands {
			if s.stop, err = s.put(n); err != nil {
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
	return b.stand(stopLocal, func(n *NATS) (func(), error) { return n.Hear(topic, take) })
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
	return b.stand(stopLocal, func(n *NATS) (func(), error) { return n.Answer(topic, answer) })
}

// stand has what stands here stand for others, too: now where the bus is open, else when it opens.
func (b *Lazy) stand(stopLocal func(), put func(*NATS) (func(), error)) (stop func(), err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := &standing{put: put, stop: func() {}}
	if b.open != nil {
		if s.stop, err = put(b.open); err != nil {
			stopLocal()
			return nil, err
		}
	}
	if b.stands == nil {
		b.stands = map[*standing]bool{}
	}
	b.stands[s] = true
	return func() {
		stopLocal()
		b.mu.Lock()
		delete(b.stands, s)
		stop := s.stop
		b.mu.Unlock()
		stop()
	}, nil
}
