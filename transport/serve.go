package transport

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"kasbah/core/disk"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// NewServer is a server that waits for no slow client. bodyTime is for a request with its body.
func NewServer(h http.Handler, bodyTime time.Duration) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: bodyTime, IdleTimeout: 2 * time.Minute,
		ErrorLog: log.New(io.Discard, "", 0)}
}

// Shutdown lets running requests end for a moment, and stops a server.
func Shutdown(s *http.Server) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	err := s.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = s.Close()
	}
	return err
}

// LeadsHere reports whether a request's Host is this server: an address, this machine, or one of the names
// at which it listens. Any other name may have been pointed here by a page that a browser shows.
func LeadsHere(host string, names []string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = strings.Trim(host, "[]")
	}
	if _, err := netip.ParseAddr(name); err == nil {
		return true
	}
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	return name == "localhost" || slices.Contains(names, name)
}

// OwnCertificate reads the certificate that is called as a file with .crt behind it, or makes one for the host of
// an address, which signs itself. It returns its place as well.
func OwnCertificate(address, path string) (tls.Certificate, string, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	names := []string{"localhost", "127.0.0.1", "::1"}
	if host != "" && !slices.Contains(names, host) {
		names = append(names, host)
	}
	certPath, keyPath := path+".crt", path+".key"
	cert, err := tls.LoadX509KeyPair(certPath, keyPath)
	if err == nil && time.Now().Before(cert.Leaf.NotAfter.AddDate(0, 0, -7)) &&
		cert.Leaf.VerifyHostname(names[len(names)-1]) == nil {
		return cert, certPath, nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return cert, "", err
	}
	now := time.Now()
	public, private, err := SelfSigned("Kasbah", names, now.Add(-time.Hour), now.AddDate(1, 0, 0))
	if err != nil {
		return cert, "", err
	}
	if err := errors.Join(disk.ReplacePrivate(keyPath, private), os.WriteFile(certPath, public, 0o644)); err != nil {
		return cert, "", err
	}
	cert, err = tls.X509KeyPair(public, private)
	return cert, certPath, err
}

// SelfSigned makes a certificate of an organisation for names and addresses (RFC 5280) that signs itself, and
// its key, both in PEM.
func SelfSigned(organisation string, names []string, from, until time.Time) (cert, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: names[0], Organization: []string{organisation}},
		NotBefore: from, NotAfter: until,
		KeyUsage:              x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, IsCA: true,
	}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	raw, err := x509.CreateCertificate(rand.Reader, t, t, &private.PublicKey, private)
	if err != nil {
		return nil, nil, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), nil
}
