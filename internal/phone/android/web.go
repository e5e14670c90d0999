package android

// Web views and the browser: each listens on a socket of the device's own (unix(7), "abstract"), which /proc/net/unix lists and the adb server connects to
// (SERVICES.TXT, localabstract:).

import (
	"context"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"

	"tessellant/internal/phone"
)

var _ phone.Webbed = (*Device)(nil)

// webSocket is how such a socket is called: the web views of an app by the number of its process, a browser by its own name.
var webSocket = regexp.MustCompile(`@((?:webview|[\w.-]*chrome|[\w.-]+)_devtools_remote(?:_(\d{1,9}))?)\s*$`)

const maxWebViews = 50

// WebViews implements phone.Webbed.
func (d *Device) WebViews(ctx context.Context) ([]phone.WebView, error) {
	const doing = "list its web views"
	a, err := d.shell(ctx, doing, "cat /proc/net/unix | grep devtools_remote", quick)
	if err != nil {
		return nil, err
	}
	out, pids := parseWebSockets(string(a.out))
	var ask []string
	for _, pid := range pids {
		if pid != "" {
			ask = append(ask, "echo "+pid+" $(cat /proc/"+pid+"/cmdline)")
		}
	}
	if len(ask) == 0 {
		return out, nil
	}
	if a, err = d.shell(ctx, doing, strings.Join(ask, "; "), quick); err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(a.out)) {
		pid, name, _ := strings.Cut(strings.TrimSpace(strings.ReplaceAll(line, "\x00", "")), " ")
		name, _, _ = strings.Cut(name, ":") // a process of an app may have a name of its own behind it
		for i := range out {
			if pids[i] == pid && packageName.MatchString(name) {
				out[i].App = name
			}
		}
	}
	return out, nil
}

var packageName = regexp.MustCompile(`^[A-Za-z][\w.]{0,200}$`)

// parseWebSockets reads /proc/net/unix: the sockets, and the number of the process of each, where its name has it.
func parseWebSockets(text string) (out []phone.WebView, pids []string) {
	for line := range strings.Lines(text) {
		m := webSocket.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if m == nil || len(out) >= maxWebViews || slices.ContainsFunc(out, func(v phone.WebView) bool { return v.Socket == m[1] }) {
			continue
		}
		out, pids = append(out, phone.WebView{Socket: m[1]}), append(pids, m[2])
	}
	return out, pids
}

// DialWeb implements phone.Webbed.
func (d *Device) DialWeb(ctx context.Context, socket string) (net.Conn, error) {
	if !webSocket.MatchString("@" + socket) {
		return nil, fmt.Errorf("%.100q is no socket of a web view", socket)
	}
	c, err := d.server.Open(ctx, d.transport, "localabstract:"+socket)
	if err != nil {
		return nil, d.failed(ctx, "connect to the web view", err)
	}
	return c, nil
}
