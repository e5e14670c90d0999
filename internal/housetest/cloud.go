package housetest

// The simulated cloud, and the lab file that leads to it.

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tessellant/internal/browserbox"
	"tessellant/internal/core/labfile"
	"tessellant/internal/lab/wdlab"
	"tessellant/internal/phone"
	"tessellant/internal/standin/backend"
	"tessellant/internal/standin/cloudlab"
	"tessellant/internal/standin/ipa"
)

// CloudKey is what users of the tests' cloud show.
const CloudKey = "key-of-heron-1f0c"

// Cloud starts a simulated cloud that answers at once, with the demo's phones and a backend; change may have it otherwise.
func Cloud(t testing.TB, change ...func(*cloudlab.Config)) *cloudlab.Cloud {
	t.Helper()
	back, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(back.Close)
	f, err := cloudlab.ReadFile(filepath.Join(Root(), "demo", "cloud.yaml"))
	require.NoError(t, err)
	c := cloudlab.Config{File: f, Key: CloudKey, Instant: true, Network: back.Network(), System: back.Certificate, Browser: browserbox.Browser}
	for _, g := range change {
		g(&c)
	}
	s, err := cloudlab.Start(c)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// LabFile is the demo's lab file, leading to a cloud, changed by pairs of texts: an old one and a new one.
func LabFile(t testing.TB, cloud *cloudlab.Cloud, change ...string) *labfile.Lab {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(Root(), "demo", "labs.yaml"))
	require.NoError(t, err)
	text := strings.ReplaceAll(string(raw), "http://127.0.0.1:7492", cloud.URL())
	for i := 0; i+1 < len(change); i += 2 {
		require.Contains(t, text, change[i])
		text = strings.ReplaceAll(text, change[i], change[i+1])
	}
	f, mistakes := labfile.Parse([]byte(text))
	require.Empty(t, mistakes)
	return f.Labs[1]
}

// CloudLab is the lab of a cloud, with its catalogue taken. Log takes what is logged; nil: nobody does.
func CloudLab(t testing.TB, l *labfile.Lab, log io.Writer) *wdlab.Lab {
	t.Helper()
	t.Setenv("HERON_KEY", CloudKey)
	if log == nil {
		log = io.Discard
	}
	made, err := wdlab.New(wdlab.Config{Lab: l, Dir: t.TempDir(), Log: slog.New(slog.NewTextHandler(log, nil))})
	require.NoError(t, err)
	return made
}

var ipas = sync.OnceValues(func() ([]byte, error) {
	f, err := cloudlab.ReadFile(filepath.Join(Root(), "demo", "cloud.yaml"))
	if err != nil {
		return nil, err
	}
	a, err := ipa.Kelpline(filepath.Join(Root(), "demo", "kelpline"), "1.8.0", "231", f.UDIDs())
	if err != nil {
		return nil, err
	}
	return ipa.Build(a)
})

// KelplineIOS is Kelpline's first build for iOS, whose profile lists the cloud's phones.
func KelplineIOS(t testing.TB) []byte {
	t.Helper()
	raw, err := ipas()
	require.NoError(t, err)
	return raw
}

// KelplineIOSApp is that build as a phone takes it, and the SHA-256 of its file.
func KelplineIOSApp(t testing.TB) (phone.App, string) {
	t.Helper()
	raw := KelplineIOS(t)
	sum := sha256.Sum256(raw)
	return phone.App{ID: "org.kelpline.app", Size: int64(len(raw)), Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil }}, hex.EncodeToString(sum[:])
}
