package phone

// Connections from the phone to the host (SERVICES.TXT: reverse:): a port on the phone that leads to a socket of the machine on which the adb server runs.

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sort"
	"strconv"
	"strings"
	"time"
)

// reversed answers reverse:forward:, reverse:killforward: and reverse:list-forward.
func (p *Phone) reversed(c *conn, s *stream, request string) {
	text, err := p.reverseCommand(c, request)
	if err != nil {
		text = fmt.Sprintf("FAIL%04x%s", len(err.Error()), err.Error())
	}
	_, _ = s.Write([]byte(text))
}

func (p *Phone) reverseCommand(c *conn, request string) (string, error) {
	verb, rest, _ := strings.Cut(request, ":")
	p.connMu.Lock()
	defer p.connMu.Unlock()
	switch verb {
	case "forward":
		from, to, ok := strings.Cut(strings.TrimPrefix(rest, "norebind:"), ";")
		port, err := strconv.Atoi(strings.TrimPrefix(from, "tcp:"))
		_, taken := p.reverses[port]
		switch {
		case !ok || err != nil || !strings.HasPrefix(to, "tcp:"):
			return "", errors.New("cannot parse " + rest)
		case p.traits.NoReverse:
			return "", errors.New("cannot bind listener: Operation not permitted")
		case taken && strings.HasPrefix(rest, "norebind:"):
			return "", errors.New("cannot rebind existing socket")
		case p.traits.PortTaken > 0 && p.traits.PortTaken <= port:
			return "", errors.New("cannot bind listener: Address already in use")
		}
		p.reverses[port] = reverse{to, c}
		return "OKAY", nil
	case "killforward":
		port, _ := strconv.Atoi(strings.TrimPrefix(rest, "tcp:"))
		if _, ok := p.reverses[port]; !ok {
			return "", errors.New("listener '" + rest + "' not found")
		}
		delete(p.reverses, port)
		return "OKAY", nil
	case "list-forward":
		var lines []string
		for port, r := range p.reverses {
			lines = append(lines, fmt.Sprintf("host-1 tcp:%d %s\n", port, r.to))
		}
		sort.Strings(lines)
		text := strings.Join(lines, "")
		return fmt.Sprintf("OKAY%04x%s", len(text), text), nil
	}
	return "", errors.New("unknown reverse command")
}

// reverse is where a port of the phone leads.
type reverse struct {
	to string
	c  *conn
}

// Reverses are the ports that lead to the host now.
func (p *Phone) Reverses() (ports []int) {
	p.connMu.Lock()
	defer p.connMu.Unlock()
	for port := range p.reverses {
		ports = append(ports, port)
	}
	return ports
}

const openLimit = 10 * time.Second

// dialReverse opens a connection from a port of the phone to the host.
func (p *Phone) dialReverse(ctx context.Context, port int) (net.Conn, error) {
	p.connMu.Lock()
	r, ok := p.reverses[port]
	p.connMu.Unlock()
	if !ok {
		return nil, fmt.Errorf("java.net.ConnectException: Failed to connect to localhost/127.0.0.1:%d: ECONNREFUSED (Connection refused)", port)
	}
	s := r.c.call(r.to)
	t := time.NewTimer(openLimit)
	defer t.Stop()
	select {
	case <-s.answered:
		return hostConn{s}, nil
	case <-s.gone:
		return nil, errors.New("java.net.SocketException: Connection reset")
	case <-ctx.Done():
	case <-t.C:
	}
	s.shut()
	return nil, errors.New("java.net.SocketTimeoutException: failed to connect")
}

// call opens a stream to the host. Answered is closed when the host has taken it.
func (c *conn) call(service string) *stream {
	c.mu.Lock()
	c.last++
	s := &stream{c: c, local: c.last, in: make(chan []byte, 1), acks: make(chan struct{}, 1), gone: make(chan struct{}), answered: make(chan struct{})}
	c.streams[s.local] = s
	c.mu.Unlock()
	c.send(cmdOPEN, s.local, 0, append([]byte(service), 0))
	return s
}

// hostConn is a stream to the host as a connection.
type hostConn struct{ *stream }

type hostAddr struct{}

func (hostAddr) Network() string { return "tcp" }
func (hostAddr) String() string  { return "127.0.0.1:0" }

func (hostConn) LocalAddr() net.Addr              { return hostAddr{} }
func (hostConn) RemoteAddr() net.Addr             { return hostAddr{} }
func (hostConn) SetDeadline(time.Time) error      { return nil }
func (hostConn) SetReadDeadline(time.Time) error  { return nil }
func (hostConn) SetWriteDeadline(time.Time) error { return nil }
