package adb

// Pairing with phones that debug over the network, since Android 11: with the code that the phone shows, or by a picture
// that it scans, after which it calls out by multicast DNS (system/core/adb: SERVICES.TXT host:pair, host:mdns:services).

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/core/foreign"
)

// TooOld says that the adb server does not know how to do something.
type TooOld struct{ Address, Version, Doing, Needs string }

func (e *TooOld) Error() string {
	return fmt.Sprintf("the adb server at %s (protocol version %s) does not know how to %s", e.Address, e.Version, e.Doing)
}

// Remedy says what to do about it.
func (e *TooOld) Remedy() string {
	return "install the platform tools " + e.Needs + " or later, start their adb server, and use it with --adb-server; or connect the phone by cable"
}

// tooOld tells a server that does not know a request from one that failed at it.
func (s *Server) tooOld(ctx context.Context, err error, doing, needs string) error {
	var refused *serverError
	if !errors.As(err, &refused) || !strings.Contains(refused.why, "unknown host service") {
		return err
	}
	version, verr := s.Version(ctx)
	if verr != nil {
		version = "unknown"
	}
	return &TooOld{s.Address, version, doing, needs}
}

// Pair makes the server known to a phone at address:port by the code that it shows.
func (s *Server) Pair(ctx context.Context, address, code string) error {
	if strings.ContainsAny(code, ":\n") || strings.ContainsAny(address, "\n") || len(code) > 64 || len(address) > 256 {
		return errors.New("a code is some digits, an address is host:port")
	}
	c, err := s.say(ctx, "host:pair:"+code+":"+address)
	if err != nil {
		return s.tooOld(ctx, err, "pair", "30")
	}
	defer c.Close()
	text, err := c.text()
	if err != nil {
		return fmt.Errorf("the adb server did not say how the pairing came out: %w", err)
	}
	if !strings.HasPrefix(text, "Successfully paired") {
		return fmt.Errorf("the pairing with %s failed: %s", address, foreign.Name(text, 300))
	}
	return nil
}

// PairByName waits until a phone calls out under a name that it has scanned, and pairs with it.
func (s *Server) PairByName(ctx context.Context, name, password string) error {
	for {
		text, err := s.ask(ctx, "host:mdns:services")
		if err != nil && ctx.Err() == nil {
			return s.tooOld(ctx, err, "find phones by a picture", "31")
		}
		if address := readService(text, name); address != "" {
			return s.Pair(ctx, address, password)
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return errors.New("no phone has scanned the picture in time")
		}
	}
}

// readService finds the address of a phone that waits to be paired, in lines of name, type and address.
func readService(text, name string) string {
	for _, line := range strings.Split(text, "\n") {
		f := strings.Fields(line)
		if len(f) == 3 && f[0] == name && strings.HasPrefix(f[1], "_adb-tls-pairing.") {
			return f[2]
		}
	}
	return ""
}

// Emulator tells the server of an emulator at a port of this machine, as emulators do with the server at the usual port when they start
// (SERVICES.TXT: host:emulator).
func (s *Server) Emulator(ctx context.Context, port int) error {
	c, err := s.say(ctx, fmt.Sprintf("host:emulator:%d", port))
	if err != nil {
		return err
	}
	return c.Close()
}
