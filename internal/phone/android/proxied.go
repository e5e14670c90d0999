package android

// The way of a device's apps to the network through a proxy of this machine.
//
// A port of the device leads over the adb connection to the proxy (SERVICES.TXT, reverse:forward), and the system's proxy setting names that port. Apps mind
// the setting where their HTTP library does. Both are undone by Unsettle; ports that an earlier process left are closed before another is opened.

import (
	"bytes"
	"context"
	"crypto/md5" //nolint:gosec // the names of the system's files are made with it
	"crypto/x509"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"

	"tessellant/internal/phone"
)

var _ phone.Proxied = (*Device)(nil)

const (
	firstPort = 17480 // of those on the device that lead to us
	ports     = 400
	portTries = 8
	noProxy   = ":0"
)

// reverse sends a command about ports of the device that lead to this machine.
func (d *Device) reverse(ctx context.Context, doing, request string) (string, error) {
	ctx, cancel := d.with(ctx, quick)
	defer cancel()
	c, err := d.server.Open(ctx, d.transport, "reverse:"+request)
	if err != nil {
		return "", d.failed(ctx, doing, err)
	}
	defer c.Close()
	status := make([]byte, 4)
	if _, err := io.ReadFull(c, status); err != nil {
		return "", d.failed(ctx, doing, errCut)
	}
	rest, err := io.ReadAll(io.LimitReader(c, 64<<10))
	if err != nil && ctx.Err() != nil {
		return "", d.failed(ctx, doing, err)
	}
	text := string(rest)
	if len(text) >= 4 { // four hex digits of length
		text = text[4:]
	}
	if string(status) != "OKAY" {
		return "", &phone.Refused{Doing: doing, Why: clip(text), Remedy: "restart it, or leave the network log out (network:off)"}
	}
	return text, nil
}

// Proxy implements phone.Proxied.
func (d *Device) Proxy(ctx context.Context, to int) error {
	const doing = "lead its apps through the host's proxy"
	host, _, _ := net.SplitHostPort(d.server.Address)
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return &phone.Refused{Doing: doing, Why: "the adb server at " + d.server.Address + " runs on another machine, and ports of the device lead there", Remedy: "run the host beside the adb server"}
	}
	a, err := d.shell(ctx, doing, "settings get global http_proxy", quick)
	if err != nil {
		return err
	}
	before := value(string(a.out))
	if at, own := ownPort(before); own { // an earlier process left it
		_ = d.closePort(ctx, at)
	} else if before != "null" && before != "" && before != noProxy {
		return &phone.Refused{Doing: doing, Why: "it has a proxy of its own already, " + clip(before), Remedy: "take it away: adb shell settings put global http_proxy :0"}
	}
	if err := d.closeLeft(ctx); err != nil {
		return err
	}
	at := 0
	for try := range portTries {
		at = firstPort + (to+try*37)%ports
		if _, err = d.reverse(ctx, doing, fmt.Sprintf("forward:tcp:%d;tcp:%d", at, to)); err == nil || !strings.Contains(err.Error(), "in use") {
			break
		}
	}
	if err != nil {
		return err
	}
	d.mu.Lock()
	d.port = at
	d.mu.Unlock()
	// Port 0 takes the proxy away at once; that the setting is gone, systems see only when they start again. What is undone last stands first.
	back := []setting{{restore: "settings put global http_proxy " + quote(noProxy)}}
	if before != noProxy {
		back = append([]setting{{restore: "settings delete global http_proxy"}}, back...)
	}
	set := "localhost:" + strconv.Itoa(at)
	if err := d.changing(ctx, doing, back, "settings put global http_proxy "+set); err != nil {
		return err
	}
	d.mu.Lock()
	d.settled = append(d.settled, back...)
	d.mu.Unlock()
	if a, err = d.shell(ctx, doing, "settings get global http_proxy", quick); err == nil && value(string(a.out)) != set {
		err = &phone.Refused{Doing: doing, Why: fmt.Sprintf("it says %q as its proxy afterwards", clip(value(string(a.out)))), Remedy: "allow changing settings over USB in the developer options, or leave the network log out (network:off)"}
	}
	return err
}

// ownPort reads a proxy setting that one of us made.
func ownPort(proxy string) (port int, own bool) {
	text, ok := strings.CutPrefix(proxy, "localhost:")
	port, err := strconv.Atoi(text)
	return port, ok && err == nil && port >= firstPort && port < firstPort+ports
}

// closeLeft closes the ports that an earlier process left open.
func (d *Device) closeLeft(ctx context.Context) error {
	text, err := d.reverse(ctx, "say which of its ports lead here", "list-forward")
	if err != nil {
		return err
	}
	for line := range strings.Lines(text) {
		f := strings.Fields(line) // a name of the connection, the device's port, ours
		if len(f) != 3 {
			continue
		}
		if at, own := ownPort(strings.Replace(f[1], "tcp:", "localhost:", 1)); own {
			_ = d.closePort(ctx, at)
		}
	}
	return nil
}

func (d *Device) closePort(ctx context.Context, at int) error {
	_, err := d.reverse(ctx, "close a port that leads here", fmt.Sprintf("killforward:tcp:%d", at))
	return err
}

// unproxy closes the port of this process, where there is one. A device that has closed it by itself is none the worse.
func (d *Device) unproxy(ctx context.Context) {
	d.mu.Lock()
	at := d.port
	d.port = 0
	d.mu.Unlock()
	if at != 0 {
		_ = d.closePort(ctx, at)
	}
}

// Trusts implements phone.Proxied: the certificate is among those that a person has added, or those of the system.
func (d *Device) Trusts(ctx context.Context, c *x509.Certificate) (bool, error) {
	name := systemName(c)
	line := "cat /data/misc/user/0/cacerts-added/* /data/misc/keychain/cacerts-added/* 2>/dev/null; echo; ls /system/etc/security/cacerts/" + name + " /apex/com.android.conscrypt/cacerts/" + name + " 2>/dev/null"
	a, err := d.shell(ctx, "say which certificates it trusts", line, quick)
	if err != nil {
		return false, err
	}
	if bytes.Contains(a.out, c.Raw) {
		return true, nil
	}
	lines := strings.Split(strings.TrimSpace(string(a.out)), "\n")
	return strings.HasSuffix(strings.TrimSpace(lines[len(lines)-1]), "/cacerts/"+name), nil
}

// systemName is the name under which the system keeps a certificate: OpenSSL's old hash of its subject.
func systemName(c *x509.Certificate) string {
	sum := md5.Sum(c.RawSubject) //nolint:gosec // see above
	return fmt.Sprintf("%08x.0", binary.LittleEndian.Uint32(sum[:]))
}
