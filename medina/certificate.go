package medina

import (
	"kasbah/transport"
	"time"
)

// certificate makes a certificate for names (RFC 5280), which signs itself, in PEM.
// Nobody keeps its key.
func certificate(names []string, from, until time.Time) ([]byte, error) {
	cert, _, err := transport.SelfSigned("Medina", names, from, until)
	return cert, err
}
