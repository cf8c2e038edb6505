// Package trust reads the certificates that are to vouch for whoever one talks to.
package trust

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
)

// ErrNoPEM is returned for certificates that are not in PEM (RFC 7468).
var ErrNoPEM = errors.New("the certificates that are to vouch for it are no PEM")

// Authorities are the certificates of a PEM text; nil, the system's, for an empty one.
func Authorities(pem string) (*x509.CertPool, error) {
	if pem == "" {
		return nil, nil
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(pem)) {
		return nil, ErrNoPEM
	}
	return pool, nil
}

// Client is how a connection is secured whose other side these vouch for.
func Client(pem string) (*tls.Config, error) {
	pool, err := Authorities(pem)
	return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}, err
}
