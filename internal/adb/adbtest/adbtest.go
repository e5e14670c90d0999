// Package adbtest plays an adb server made of answers, for what no real server here and no stand-in can do.
package adbtest

import (
	"fmt"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// Serve listens on loopback and gives its address. Answer is called with each request of a connection, until it says that there
// are no more to be read; then the connection is closed.
func Serve(t testing.TB, answer func(c net.Conn, request string) (more bool)) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for {
					head := make([]byte, 4)
					if _, err := io.ReadFull(c, head); err != nil {
						return
					}
					n := 0
					_, _ = fmt.Sscanf(string(head), "%x", &n)
					body := make([]byte, n)
					if _, err := io.ReadFull(c, body); err != nil || !answer(c, string(body)) {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// Text answers a request with a text.
func Text(c net.Conn, text string) { fmt.Fprintf(c, "OKAY%04x%s", len(text), text) }

// Fail refuses a request.
func Fail(c net.Conn, why string) { fmt.Fprintf(c, "FAIL%04x%s", len(why), why) }
