// Package bus carries small messages between the processes of Tessellant.
//
// Four verbs: publish to whoever listens, subscribe, hear, and call, which one of
// those who answer answers. Nothing durable depends on it: a message may be lost, and then the
// next tick does what it would have done. Local carries them inside one process, NATS between many; files
// go over HTTP. A Stream (stream.go) is a connection made of messages. In: a topic and bytes. Out: the bytes.
package bus

import (
	"context"
	"errors"
	"fmt"
	"sync"
)

// Bus is what both kinds can do.
type Bus interface {
	// Publish sends to all who listen. A listener that is behind misses it.
	Publish(topic string, data []byte)
	// Subscribe listens to a topic until stop is called.
	Subscribe(topic string) (messages <-chan []byte, stop func())
	// Hear has every message of a topic taken, in order, until stop is called. Take must not block. One hears a topic at a time; what is
	// published there reaches nobody else.
	Hear(topic string, take func(data []byte)) (stop func(), err error)
	// Call asks who answers on a topic. ErrNobody: nobody does.
	Call(ctx context.Context, topic string, data []byte) ([]byte, error)
	// Answer answers calls, each in a goroutine of its own, until stop is called.
	Answer(topic string, answer func(ctx context.Context, data []byte) []byte) (stop func(), err error)
}

// ErrNobody says that nobody answers on a topic at present.
var ErrNobody = errors.New("nobody answers on the bus")

// Topics under which the service is found.
const (
	// Work is published when there may be something to dispatch.
	Work = "tessellant.work"
	// Changes is where the processes of one service tell each other what changed.
	Changes = "tessellant.changes"
	// Hosts is called by hosts.
	Hosts = "tessellant.hosts"
)

// Access is published when a key, or a sign-in, ends.
const Access = "tessellant.access"

// Host is the topic on which a host is woken.
func Host(name string) string { return "tessellant.host." + name }

// Commands is the topic on which a host is called to carry out a session's commands.
func Commands(name string) string { return "tessellant.commands." + name }

// Up and Down are the two ways of a stream between the service and a host: up from the service to the host.
func Up(host, stream string) string   { return "tessellant.up." + host + "." + stream }
func Down(host, stream string) string { return "tessellant.down." + host + "." + stream }

// Session is published when a session has changed.
func Session(id string) string { return "tessellant.session." + id }

const waiting = 16 // messages that wait for a listener

// Local is a bus inside one process. The zero value is ready for use.
type Local struct {
	mu      sync.Mutex
	topics  map[string]map[chan []byte]bool
	hears   map[string]func([]byte)
	answers map[string]func(context.Context, []byte) []byte
}

// Publish implements Bus.
func (b *Local) Publish(topic string, data []byte) { b.heard(topic, data) }

// heard publishes, and says whether somebody hears it here.
func (b *Local) heard(topic string, data []byte) bool {
	b.mu.Lock()
	if take := b.hears[topic]; take != nil {
		b.mu.Unlock()
		take(data)
		return true
	}
	defer b.mu.Unlock()
	for c := range b.topics[topic] {
		select {
		case c <- data:
		default:
		}
	}
	return false
}

// Hear implements Bus.
func (b *Local) Hear(topic string, take func([]byte)) (stop func(), err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.hears == nil {
		b.hears = map[string]func([]byte){}
	}
	if b.hears[topic] != nil {
		return nil, fmt.Errorf("somebody hears %s already", topic)
	}
	b.hears[topic] = take
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.hears, topic)
	}, nil
}

// Subscribe implements Bus.
func (b *Local) Subscribe(topic string) (messages <-chan []byte, stop func()) {
	c := make(chan []byte, waiting)
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

// Call implements Bus.
func (b *Local) Call(ctx context.Context, topic string, data []byte) ([]byte, error) {
	b.mu.Lock()
	f := b.answers[topic]
	b.mu.Unlock()
	if f == nil {
		return nil, fmt.Errorf("call %s: %w", topic, ErrNobody)
	}
	return f(ctx, data), nil
}

// Answer implements Bus; of several who answer, the last is called.
func (b *Local) Answer(topic string, answer func(context.Context, []byte) []byte) (stop func(), err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.answers == nil {
		b.answers = map[string]func(context.Context, []byte) []byte{}
	}
	b.answers[topic] = answer
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.answers, topic)
	}, nil
}
