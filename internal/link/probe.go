package link

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/dialect"
)

// certificate is how a certificate is written where a host key would stand.
func certificate(raw []byte) string {
	sum := sha256.Sum256(raw)
	return tlsPrefix + "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

const tlsPrefix = "tls "

// Probe connects just far enough to learn which key or certificate a device
// shows over a transport; both are empty where it shows none. No user name and
// no password is sent.
func Probe(ctx context.Context, t Target, timeout time.Duration) (key, fingerprint string, err error) {
	switch t.Transport {
	case dialect.HTTPS:
		conn, stop, err := dialThrough(ctx, t, timeout)
		if err != nil {
			return "", "", err
		}
		defer stop()
		defer conn.Close()
		leaf, err := certificateOver(ctx, conn, t)
		if err != nil {
			return "", "", err
		}
		key = certificate(leaf.Raw)
		return key, Fingerprint(key), nil
	case dialect.Telnet, dialect.HTTP:
		conn, stop, err := dialThrough(ctx, t, timeout)
		if err != nil {
			return "", "", err
		}
		stop()
		conn.Close()
		return "", "", nil
	}
	return hostKey(ctx, t, timeout)
}

// certificateOver learns the certificate that is shown over a connection; nothing is sent over it.
func certificateOver(ctx context.Context, conn net.Conn, t Target) (*x509.Certificate, error) {
	c := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: t.Address})
	if err := c.HandshakeContext(ctx); err != nil {
		return nil, fmt.Errorf("%w: %s answers, but not with TLS: %v", ErrUnreachable, net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), err)
	}
	return c.ConnectionState().PeerCertificates[0], nil
}

// Shows tells whether a device shows a key or certificate over a transport.
func Shows(transport string) bool { return transport != dialect.Telnet && transport != dialect.HTTP }

// Fingerprint returns the SHA-256 fingerprint of a key in authorized_keys form,
// or of a certificate as Probe gives it.
func Fingerprint(key string) string {
	if print, ok := strings.CutPrefix(key, tlsPrefix); ok {
		return print
	}
	k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(k)
}

// Listens tells whether anything takes a connection there.
func Listens(ctx context.Context, t Target) bool {
	conn, stop, err := dialThrough(ctx, t, time.Second)
	if err != nil {
		return false
	}
	stop()
	conn.Close()
	return true
}
