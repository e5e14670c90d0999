// Package housetest starts the real parts that tests work with, each in a line:
// an adb server, simulated phones, the demo's backend, Kelpline's build.
//
// Everything listens on free ports of loopback and ends with the test. Only
// tests import it.
package housetest

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/browserbox"
	"tessellant/internal/phone"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

// Root is the folder of the project.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(file), "..", "..")
}

// Kelpline gives the path of the demo app's first build, making it where it is missing.
func Kelpline(t testing.TB) string { return kelpline(t, "1.8.0", "231") }

// Kelpline190 gives the path of its second build.
func Kelpline190(t testing.TB) string { return kelpline(t, "1.9.0", "240") }

func kelpline(t testing.TB, version, code string) string {
	t.Helper()
	apk := filepath.Join(Root(), "build", "kelpline-"+version+".apk")
	require.NoError(t, os.MkdirAll(filepath.Dir(apk), 0o755))
	lock, err := os.Create(filepath.Join(filepath.Dir(apk), "kelpline.lock")) // packages are tested at the same time
	require.NoError(t, err)
	defer lock.Close()
	require.NoError(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	if _, err := os.Stat(apk); err != nil {
		out, err := exec.Command("sh", filepath.Join(Root(), "demo", "kelpline", "build.sh"), version, code, apk).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	return apk
}

// OtherKelpline gives an app of the same label under another id, net.kelpline.app: Kelpline's first build, with its manifest's
// strings patched, as UTF-8 or UTF-16.
func OtherKelpline(t testing.TB) []byte {
	t.Helper()
	const old, with = "org.kelpline.app", "net.kelpline.app"
	in, err := zip.OpenReader(Kelpline(t))
	require.NoError(t, err)
	defer in.Close()
	wide := func(s string) []byte { return []byte(strings.Join(strings.Split(s, ""), "\x00") + "\x00") }
	var buf bytes.Buffer
	out := zip.NewWriter(&buf)
	for _, f := range in.File {
		r, err := f.Open()
		require.NoError(t, err)
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		if f.Name == "AndroidManifest.xml" {
			b = bytes.ReplaceAll(bytes.ReplaceAll(b, wide(old), wide(with)), []byte(old), []byte(with))
		}
		w, err := out.Create(f.Name)
		require.NoError(t, err)
		_, err = w.Write(b)
		require.NoError(t, err)
	}
	require.NoError(t, out.Close())
	return buf.Bytes()
}

// KelplineApp is Kelpline's build as a phone takes it.
func KelplineApp(t testing.TB) phone.App {
	t.Helper()
	path := Kelpline(t)
	st, err := os.Stat(path)
	require.NoError(t, err)
	return phone.App{ID: "org.kelpline.app", Activity: "org.kelpline.app.MainActivity", Size: st.Size(),
		Open: func() (io.ReadCloser, error) { return os.Open(path) }}
}

// ADB starts an adb server.
func ADB(t testing.TB) *adb.Process {
	t.Helper()
	dir := t.TempDir()
	p, err := adb.StartServer(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() {
		p.Close()
		if said, err := os.ReadFile(filepath.Join(dir, "adb.log")); t.Failed() && err == nil {
			for line := range strings.Lines(string(said)) {
				if strings.Contains(line, "adb F ") || strings.Contains(line, "adb E ") {
					t.Log(line)
				}
			}
			t.Logf("the adb server said last:\n%s", said[max(0, len(said)-4000):])
		}
	})
	return p
}

// Backends are the flags that tell a host where the names of a backend are found.
func Backends(b *backend.Server) (flags []string) {
	for name, to := range b.Network() {
		flags = append(flags, "--backend", name+"="+to)
	}
	return flags
}

// Fleet reads the demo's phones.
func Fleet(t testing.TB) map[string]standin.Traits {
	t.Helper()
	list, err := standin.ReadFleetFile(filepath.Join(Root(), "demo", "fleet.yaml"), false)
	require.NoError(t, err)
	out := map[string]standin.Traits{}
	for _, tr := range list {
		tr.Browser = browserbox.Browser
		out[tr.Serial] = tr
	}
	return out
}

// Phone starts a simulated phone, with a backend of its own where its network
// knows none, and connects the adb server to it.
func Phone(t testing.TB, server *adb.Process, traits standin.Traits) *standin.Phone {
	t.Helper()
	if traits.Network == nil {
		b, err := backend.Start("127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(b.Close)
		traits.Network, traits.System = b.Network(), b.Certificate
	}
	p, err := standin.Start(traits, "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(p.Close)
	// The server may die while it is new, and is started again then, without its connections.
	Eventually(t, fmt.Sprintf("the adb server lists %s as a device", traits.Serial), func() bool {
		if err := server.Connect(context.Background(), p.Address()); err != nil {
			t.Logf("connect %s: %v", traits.Serial, err)
			return false
		}
		ds, err := server.Devices(context.Background())
		if err != nil {
			t.Logf("list the devices: %v", err)
		}
		for _, d := range ds {
			if d.Serial == p.Address() && d.State == "device" {
				return true
			}
		}
		return false
	})
	return p
}

// Eventually waits for a condition.
func Eventually(t testing.TB, what string, cond func() bool) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); !cond(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			require.Fail(t, "waited in vain until "+what)
		}
	}
}
