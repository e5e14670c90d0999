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

	"tessellant/internal/standin/adbd"
)

// reversed answers reverse:forward:, reverse:killforward: and reverse:list-forward.
func (p *Phone) reversed(c *adbd.Conn, s *adbd.Stream, request string) {
	text, err := p.reverseCommand(c, request)
	if err != nil {
		text = fmt.Sprintf("FAIL%04x%s", len(err.Error()), err.Error())
	}
	_, _ = s.Write([]byte(text))
}

func (p *Phone) reverseCommand(c *adbd.Conn, request string) (string, error) {
	verb, rest, _ := strings.Cut(request, ":")
	p.reverseMu.Lock()
	defer p.reverseMu.Unlock()
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
	c  *adbd.Conn
}

// Reverses are the ports that lead to the host now.
func (p *Phone) Reverses() (ports []int) {
	p.reverseMu.Lock()
	defer p.reverseMu.Unlock()
	for port := range p.reverses {
		ports = append(ports, port)
	}
	return ports
}

// dialReverse opens a connection from a port of the phone to the host.
func (p *Phone) dialReverse(ctx context.Context, port int) (net.Conn, error) {
	p.reverseMu.Lock()
	r, ok := p.reverses[port]
	p.reverseMu.Unlock()
	if !ok {
		return nil, fmt.Errorf("java.net.ConnectException: Failed to connect to localhost/127.0.0.1:%d: ECONNREFUSED (Connection refused)", port)
	}
	s, err := r.c.Call(ctx, r.to)
	switch {
	case errors.Is(err, adbd.ErrRefused):
		return nil, errors.New("java.net.SocketException: Connection reset")
	case err != nil:
		return nil, errors.New("java.net.SocketTimeoutException: failed to connect")
	}
	return hostConn{s}, nil
}

// unreversed forgets the ports that led through a connection: they go with it.
func (p *Phone) unreversed(c *adbd.Conn) {
	p.reverseMu.Lock()
	defer p.reverseMu.Unlock()
	for port, r := range p.reverses {
		if r.c == c {
			delete(p.reverses, port)
		}
	}
}

// hostConn is a stream to the host as a connection.
type hostConn struct{ *adbd.Stream }

type hostAddr struct{}

func (hostAddr) Network() string { return "tcp" }
func (hostAddr) String() string  { return "127.0.0.1:0" }

func (hostConn) LocalAddr() net.Addr              { return hostAddr{} }
func (hostConn) RemoteAddr() net.Addr             { return hostAddr{} }
func (hostConn) SetDeadline(time.Time) error      { return nil }
func (hostConn) SetReadDeadline(time.Time) error  { return nil }
func (hostConn) SetWriteDeadline(time.Time) error { return nil }
