package proxy

// The certificate by which HTTPS is opened where a device trusts it.

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Authority makes certificates of servers, signed by one that devices can be told to trust.
type Authority struct {
	Certificate *x509.Certificate
	key         crypto.Signer

	mu     sync.Mutex
	leaf   crypto.Signer // all of its certificates have one key
	leaves *simplelru.LRU[string, *tls.Certificate]
}

const (
	keyFile  = "proxy-key.pem"
	certFile = "proxy-certificate.pem"
	// Devices accept no certificate of a server that is valid for longer than 398 days.
	leafDays  = 90
	rootYears = 10
	maxLeaves = 1000
)

// OpenAuthority reads the certificate that lies in dir, and makes it where there is none.
func OpenAuthority(dir string) (*Authority, error) {
	certPEM, err1 := os.ReadFile(filepath.Join(dir, certFile))
	keyPEM, err2 := os.ReadFile(filepath.Join(dir, keyFile))
	if errors.Is(err1, os.ErrNotExist) || errors.Is(err2, os.ErrNotExist) {
		return newAuthority(dir)
	}
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("the certificate of the network log can't be read: %w", err)
	}
	a, err := readAuthority(certPEM, keyPEM)
	if err != nil {
		return nil, fmt.Errorf("the certificate of the network log in %s is damaged: %w; remove %s and %s there, and a new one is made, which devices must be told to trust anew", dir, err, certFile, keyFile)
	}
	return a, nil
}

func readAuthority(certPEM, keyPEM []byte) (*Authority, error) {
	pair, err := tls.X509KeyPair(certPEM, keyPEM)
	if err != nil {
		return nil, err
	}
	key, ok := pair.PrivateKey.(crypto.Signer)
	if !ok {
		return nil, errors.New("its key can't sign")
	}
	return authority(pair.Leaf, key)
}

func authority(cert *x509.Certificate, key crypto.Signer) (*Authority, error) {
	leaf, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	leaves, err := simplelru.NewLRU[string, *tls.Certificate](maxLeaves, nil)
	return &Authority{Certificate: cert, key: key, leaf: leaf, leaves: leaves}, err
}

func serial() (*big.Int, error) { return rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) }

func newAuthority(dir string) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	n, err := serial()
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: n, Subject: pkix.Name{CommonName: "Tessellant network log " + n.Text(36)[:6], Organization: []string{"Tessellant, for tests only"}},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().AddDate(rootYears, 0, 0),
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign, BasicConstraintsValid: true, IsCA: true, MaxPathLenZero: true}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	for name, block := range map[string]*pem.Block{keyFile: {Type: "PRIVATE KEY", Bytes: raw}, certFile: {Type: "CERTIFICATE", Bytes: der}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			return nil, fmt.Errorf("the certificate of the network log can't be kept: %w", err)
		}
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return authority(cert, key)
}

// PEM is the certificate, for those who want to trust it.
func (a *Authority) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.Certificate.Raw})
}

// of makes the certificate of a server, once.
func (a *Authority) of(host string) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if c, ok := a.leaves.Get(host); ok && time.Until(c.Leaf.NotAfter) > 24*time.Hour {
		return c, nil
	}
	n, err := serial()
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: n, Subject: pkix.Name{CommonName: fmt.Sprintf("%.60s", host)}, NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().AddDate(0, 0, leafDays),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(host); ip != nil {
		t.IPAddresses = []net.IP{ip}
	} else {
		t.DNSNames = []string{host}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Certificate, a.leaf.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	c := &tls.Certificate{Certificate: [][]byte{der, a.Certificate.Raw}, PrivateKey: a.leaf, Leaf: leaf}
	a.leaves.Add(host, c)
	return c, nil
}
