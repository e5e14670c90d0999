package housetest

// Pages of a real Chromium: as the web views of a phone, and as chromedriver has them.

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tessellant/internal/child"
	"tessellant/internal/phone"
)

// ChromiumArgs are those by which two Chromiums show a page alike.
var ChromiumArgs = []string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--disable-background-networking", "--no-first-run", "--disable-component-update", "--disable-sync", "--window-size=800,700", "--hide-scrollbars"}

// WebPhone is a phone of which there are only web views: a Chromium.
type WebPhone struct {
	phone.Phone
	Chromium *child.Process
	port     string
}

// WebViews implements phone.Webbed: one that answers, and one that does not.
func (w *WebPhone) WebViews(context.Context) ([]phone.WebView, error) {
	return []phone.WebView{{Socket: "webview_devtools_remote_1", App: "org.kelpline.app"}, {Socket: "webview_devtools_remote_2", App: "gone"}}, nil
}

// DialWeb implements phone.Webbed.
func (w *WebPhone) DialWeb(ctx context.Context, socket string) (net.Conn, error) {
	if socket != "webview_devtools_remote_1" {
		return nil, fmt.Errorf("nobody listens at %s", socket)
	}
	var d net.Dialer
	return d.DialContext(ctx, "tcp", "127.0.0.1:"+w.port)
}

// WebView starts one that shows a page, with arguments of its own.
func WebView(t testing.TB, url string, args ...string) *WebPhone {
	t.Helper()
	dir, err := os.MkdirTemp("", "tsl-web-")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(dir)) })
	cmd := exec.Command("/usr/bin/chromium", append(slices.Concat(ChromiumArgs, args), "--remote-debugging-port=0", "--user-data-dir="+dir, url)...)
	cmd.Env = append(os.Environ(), "HOME="+dir)
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = io.Discard, io.Discard, 5*time.Second // its children, which write into its folder, have these, too, and are waited for
	w := &WebPhone{}
	w.Chromium, err = child.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { w.Chromium.Stop(5 * time.Second) })
	Eventually(t, "Chromium listens", func() bool {
		raw, err := os.ReadFile(filepath.Join(dir, "DevToolsActivePort"))
		w.port, _, _ = strings.Cut(string(raw), "\n")
		return err == nil && w.port != ""
	})
	return w
}

// Open opens one more page.
func (w *WebPhone) Open(t testing.TB, url string) {
	t.Helper()
	r, err := http.NewRequest(http.MethodPut, "http://127.0.0.1:"+w.port+"/json/new?"+url, nil)
	require.NoError(t, err)
	a, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	_ = a.Body.Close()
	require.Equal(t, http.StatusOK, a.StatusCode)
}

// Chromedriver starts one, and gives its address.
func Chromedriver(t testing.TB) string {
	t.Helper()
	port, err := child.FreePort()
	require.NoError(t, err)
	cmd := exec.Command("chromedriver", fmt.Sprintf("--port=%d", port), "--allowed-ips=127.0.0.1")
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir())
	p, err := child.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err, "install Debian's chromium-driver")
	t.Cleanup(func() { p.Stop(5 * time.Second) })
	base := fmt.Sprintf("http://127.0.0.1:%d", port)
	Eventually(t, "chromedriver listens", func() bool {
		r, err := http.Get(base + "/status")
		if err == nil {
			_ = r.Body.Close()
		}
		return err == nil
	})
	return base
}
