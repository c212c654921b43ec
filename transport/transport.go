// Package transport makes HTTP transports for stores and drivers: which
// authorities are trusted, and which certificate a client shows.
package transport

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"time"
)

// Options are the PEM files of a connection. What is empty is the system's.
type Options struct {
	CA        string // authorities that are trusted instead of the system's
	Cert, Key string // a client certificate and its key
}

// TLS is what a connection is secured with.
func TLS(o Options) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12}
	if o.CA != "" {
		pem, err := os.ReadFile(o.CA)
		if err != nil {
			return nil, fmt.Errorf("its ca: %w", err)
		}
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("its ca: %s holds no certificate in PEM form", o.CA)
		}
	}
	if (o.Cert == "") != (o.Key == "") {
		return nil, errors.New("cert and key go together")
	}
	if o.Cert != "" {
		pair, err := tls.LoadX509KeyPair(o.Cert, o.Key)
		if err != nil {
			return nil, fmt.Errorf("its cert and key: %w", err)
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// New makes a transport that heeds the proxy variables of the environment.
func New(o Options) (*http.Transport, error) {
	c, err := TLS(o)
	if err != nil {
		return nil, err
	}
	dial := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}
	return &http.Transport{
		Proxy: http.ProxyFromEnvironment, DialContext: dial.DialContext, TLSClientConfig: c, ForceAttemptHTTP2: true,
		MaxIdleConnsPerHost: 16, IdleConnTimeout: 90 * time.Second, TLSHandshakeTimeout: 10 * time.Second,
		ExpectContinueTimeout: time.Second,
	}, nil
}
