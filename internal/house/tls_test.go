package house_test

// The service behind TLS: its certificate is renewed while it runs.

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/house"
	"tessellant/internal/housetest"
)

func TestACertificateThatIsRenewedIsServedAndOneThatIsBrokenIsNot(t *testing.T) {
	dir := t.TempDir()
	cert, key, err := housetest.Certificate(dir)
	require.NoError(t, err)
	var said bytes.Buffer
	h, err := house.Start(t.Context(), house.Config{Listen: "127.0.0.1:0", Data: t.TempDir(), Database: housetest.DSN(t), NoHost: true, Workspace: "main", TLSCert: cert, TLSKey: key, Log: slog.New(slog.NewTextHandler(&said, nil))})
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(h.URL, "https://"))
	ask := func() (number string) {
		pem, err := os.ReadFile(cert)
		require.NoError(t, err)
		known := x509.NewCertPool()
		known.AppendCertsFromPEM(pem)
		way := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: known, InsecureSkipVerify: len(pem) < 100}, ForceAttemptHTTP2: true} //nolint:gosec // of the file that the test broke
		defer way.CloseIdleConnections()
		resp, err := (&http.Client{Transport: way}).Get(h.URL + "/healthz")
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		assert.Equal(t, "alive\n", string(raw))
		return resp.TLS.PeerCertificates[0].SerialNumber.String()
	}
	first := ask()
	assert.Equal(t, first, ask())
	_, err = tls.Dial("tcp", strings.TrimPrefix(h.URL, "https://"), &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11}) //nolint:gosec // it is to be refused
	require.ErrorContains(t, err, "protocol version")
	_, _, err = housetest.Certificate(dir)
	require.NoError(t, err)
	later := time.Now().Add(time.Second)
	require.NoError(t, os.Chtimes(cert, later, later))
	second := ask()
	assert.NotEqual(t, first, second)
	require.NoError(t, os.WriteFile(cert, []byte("half"), 0o600))
	assert.Equal(t, second, ask(), "the last good one stays")
	require.NoError(t, os.Remove(key))
	require.NoError(t, os.WriteFile(cert, []byte("half"), 0o600))
	assert.Equal(t, second, ask())
	h.Close()
	assert.Contains(t, said.String(), "the certificate was renewed")
	assert.Contains(t, said.String(), "the certificate in use stays")
}

func TestAServiceThatOthersCanReachWithoutEncryptionSaysSo(t *testing.T) {
	for listen, loud := range map[string]bool{"0.0.0.0:0": true, "127.0.0.1:0": false} {
		var said bytes.Buffer
		h, err := house.Start(t.Context(), house.Config{Listen: listen, Data: t.TempDir(), Database: housetest.DSN(t), NoHost: true, Workspace: "main", Log: slog.New(slog.NewTextHandler(&said, nil))})
		require.NoError(t, err)
		h.Close()
		assert.Equal(t, loud, strings.Contains(said.String(), "NOT ENCRYPTED"), listen)
	}
	for address, beyond := range map[string]bool{"127.0.0.1:80": false, "[::1]:80": false, "localhost:80": false, "localhost": false, ":80": true, "0.0.0.0:80": true, "10.0.0.8:80": true, "tessellant.example:80": true, "tessellant.example": true} {
		assert.Equal(t, beyond, house.Beyond(address), address)
	}
	_, err := house.Start(t.Context(), house.Config{Listen: "127.0.0.1:0", Data: t.TempDir(), TLSCert: "cert.pem", Log: housetest.Log()})
	assert.ErrorContains(t, err, "give both")
	_, err = house.Start(t.Context(), house.Config{Listen: "127.0.0.1:0", Data: t.TempDir(), TLSCert: "cert.pem", TLSKey: "key.pem", Log: housetest.Log()})
	assert.ErrorContains(t, err, "the certificate in cert.pem and key.pem can't be read")
}
