// Package adb speaks to the adb server: what it sees, connecting, pairing, and services opened on devices.
//
// The protocol is the server's own (system/core/adb/SERVICES.TXT and OVERVIEW.TXT of the Android Open Source Project).
// Server is the server, wherever it runs; Process is one that we started.
package adb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"
)

// Server is a running adb server.
type Server struct {
	Address string // host:port
}

// Listed is a device as the server lists it.
type Listed struct {
	Serial string // of the connection: a USB serial, or address:port
	State  string // "device" when it can be used
}

// Remedy says what to do about a device in a state other than "device".
func Remedy(state string) string {
	switch {
	case state == "device":
		return ""
	case state == "offline":
		return "it does not answer: unplug it and plug it in again, or restart it"
	case state == "unauthorized", state == "authorizing":
		return "unlock its screen and allow debugging from this computer"
	case state == "connecting":
		return "wait a moment; if it stays so, plug it in again"
	case strings.HasPrefix(state, "no permissions"):
		return "this user may not open the USB device: add a udev rule for it, or join the plugdev group"
	case state == "recovery", state == "sideload", state == "bootloader":
		return "it is not running Android: restart it"
	}
	return "restart it"
}

// DialLimit is how long the server may take to answer what it answers itself.
const DialLimit = 10 * time.Second

// say opens a connection to the server, and sends it a request that it must
// agree to. The connection closes when ctx ends.
func (s *Server) say(ctx context.Context, request string) (*Conn, error) {
	d := net.Dialer{Timeout: DialLimit, KeepAlive: -1} // every wait has a deadline of its own, and mostly this is one short command
	raw, err := d.DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return nil, fmt.Errorf("the adb server at %s can't be reached: %w", s.Address, err)
	}
	c := &Conn{Conn: raw}
	c.stop = context.AfterFunc(ctx, func() { _ = raw.Close() })
	if err := c.request(request); err != nil {
		_ = c.Close()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return nil, err
	}
	return c, nil
}

// Conn is a connection to the server, or through it to a service on a device. It closes when the context ends that it was opened for, unless it is kept.
type Conn struct {
	net.Conn
	stop func() bool
}

// Keep makes the connection live longer than the context that it was opened for.
func (c *Conn) Keep() { c.stop() }

// Close implements net.Conn.
func (c *Conn) Close() error {
	c.stop()
	return c.Conn.Close()
}

// serverError is a refusal in the server's own words.
type serverError struct{ request, why string }

func (e *serverError) Error() string { return fmt.Sprintf("adb %s: %s", e.request, e.why) }

// request sends four hex digits of length and the request, and reads OKAY, or
// FAIL with the reason.
func (c *Conn) request(r string) error {
	if _, err := fmt.Fprintf(c, "%04x%s", len(r), r); err != nil {
		return fmt.Errorf("adb %s: %w", r, err)
	}
	status := make([]byte, 4)
	if _, err := io.ReadFull(c, status); err != nil {
		return fmt.Errorf("adb %s: no answer: %w", r, err)
	}
	if string(status) == "OKAY" {
		return nil
	}
	why, err := c.text()
	if err != nil {
		why = "it failed without a reason"
	}
	return &serverError{r, why}
}

// text reads four hex digits of length, and so many bytes.
func (c *Conn) text() (string, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c, head); err != nil {
		return "", err
	}
	n, err := strconv.ParseUint(string(head), 16, 32)
	if err != nil {
		return "", fmt.Errorf("adb: %q is no length", head)
	}
	body := make([]byte, n)
	_, err = io.ReadFull(c, body)
	return string(body), err
}

// ask makes a request whose answer is one text.
func (s *Server) ask(ctx context.Context, request string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, DialLimit)
	defer cancel()
	c, err := s.say(ctx, request)
	if err != nil {
		return "", err
	}
	defer c.Close()
	return c.text()
}

// Version asks for the server's version, as a hex number.
func (s *Server) Version(ctx context.Context) (string, error) { return s.ask(ctx, "host:version") }

// Devices lists what the server sees. Devices on cables that have one serial are listed by where they are plugged in, such as usb:1-4.
func (s *Server) Devices(ctx context.Context) ([]Listed, error) {
	text, err := s.ask(ctx, "host:devices")
	if err != nil {
		return nil, err
	}
	out := readListed(text)
	seen := map[string]bool{}
	for _, l := range out {
		if seen[l.Serial] {
			if text, err = s.ask(ctx, "host:devices-l"); err != nil {
				return nil, err
			}
			return readListedLong(text), nil
		}
		seen[l.Serial] = true
	}
	return out, nil
}

// readListedLong reads what `host:devices-l` answers: serial, state, and what else is known, as name:value.
func readListedLong(text string) []Listed {
	var out []Listed
	count := map[string]int{}
	var plugs []string
	for _, line := range strings.Split(text, "\n") {
		serial, rest, ok := strings.Cut(strings.TrimSpace(line), " ")
		if unnamed, none := strings.CutPrefix(line, "(no serial number)"); none {
			serial, rest, ok = "", unnamed, true
		}
		if !ok {
			continue
		}
		plug := ""
		state := strings.TrimSpace(rest)
		for _, name := range []string{" usb:", " product:", " model:", " device:", " transport_id:"} {
			if i := strings.Index(state, name); i >= 0 {
				if name == " usb:" {
					plug, _, _ = strings.Cut(state[i+1:], " ")
				}
				state = state[:i]
			}
		}
		out, plugs = append(out, Listed{serial, strings.TrimSpace(state)}), append(plugs, plug)
		count[serial]++
	}
	for i := range out {
		if (out[i].Serial == "" || count[out[i].Serial] > 1) && plugs[i] != "" {
			out[i].Serial = plugs[i]
		}
	}
	return out
}

// readListed reads what `host:devices` answers.
func readListed(text string) []Listed {
	var out []Listed
	for _, line := range strings.Split(text, "\n") {
		if serial, state, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
			out = append(out, Listed{serial, state})
		}
	}
	return out
}

// Connect makes the server connect to a device at address:port. The server
// reports a failure as text and calls it success; this does not.
func (s *Server) Connect(ctx context.Context, address string) error {
	text, err := s.ask(ctx, "host:connect:"+address)
	if err != nil {
		return err
	}
	if strings.HasPrefix(text, "connected to") || strings.HasPrefix(text, "already connected to") {
		return nil
	}
	return fmt.Errorf("adb can't connect to %s: %s", address, text)
}

// Disconnect makes the server forget a device at address:port.
func (s *Server) Disconnect(ctx context.Context, address string) error {
	_, err := s.ask(ctx, "host:disconnect:"+address)
	var se *serverError
	if errors.As(err, &se) && strings.Contains(se.why, "no such device") {
		return nil
	}
	return err
}

// Features asks what a device's adbd can do.
func (s *Server) Features(ctx context.Context, serial string) (map[string]bool, error) {
	text, err := s.ask(ctx, "host-serial:"+serial+":features")
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, f := range strings.Split(text, ",") {
		out[strings.TrimSpace(f)] = true
	}
	return out, nil
}

// Open opens a service on a device.
func (s *Server) Open(ctx context.Context, serial, service string) (*Conn, error) {
	c, err := s.say(ctx, "host:transport:"+serial)
	if err != nil {
		return nil, err
	}
	if err := c.request(service); err != nil {
		_ = c.Close()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return nil, err
	}
	return c, nil
}
