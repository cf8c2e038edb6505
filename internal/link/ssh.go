package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/dialect"
)

// HostKey connects just far enough to learn which key the device shows. No
// user name and no password is sent.
func HostKey(ctx context.Context, t Target, timeout time.Duration) (key, fingerprint string, err error) {
	conn, stop, err := dial(ctx, t, timeout)
	if err != nil {
		return "", "", err
	}
	defer stop()
	defer conn.Close()
	seen := errors.New("seen")
	_, _, _, err = ssh.NewClientConn(conn, t.Address, &ssh.ClientConfig{
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			key, fingerprint = line(k), ssh.FingerprintSHA256(k)
			return seen
		},
	})
	if key == "" {
		return "", "", fmt.Errorf("%w: %s:%d answers, but not as an SSH server: %v", ErrUnreachable, t.Address, t.Port, err)
	}
	return key, fingerprint, nil
}

// Fingerprint returns the SHA-256 fingerprint of a key in authorized_keys form.
func Fingerprint(key string) string {
	k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(k)
}

func line(k ssh.PublicKey) string { return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))) }

// dial connects, with a deadline for everything up to the end of sign-in. The
// connection is closed when ctx ends, unless stop was called.
func dial(ctx context.Context, t Target, timeout time.Duration) (conn net.Conn, stop func() bool, err error) {
	dialer := net.Dialer{Timeout: timeout}
	conn, err = dialer.DialContext(ctx, "tcp", net.JoinHostPort(t.Address, strconv.Itoa(t.Port)))
	if err != nil {
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		var op *net.OpError
		if errors.As(err, &op) {
			err = op.Err
		}
		var call *os.SyscallError
		if errors.As(err, &call) {
			err = call.Err
		}
		return nil, nil, fmt.Errorf("%w: no connection to %s port %d: %v", ErrUnreachable, t.Address, t.Port, err)
	}
	_ = conn.SetDeadline(time.Now().Add(timeout))
	return conn, context.AfterFunc(ctx, func() { conn.Close() }), nil
}

// signIn opens an SSH connection (RFC 4252, 4253) with one attempt at
// authentication.
func signIn(ctx context.Context, d *dialect.Dialect, t Target, c Credential) (*ssh.Client, func() bool, error) {
	method, auth := "password", ssh.Password(c.Password)
	if len(c.Key) > 0 {
		signer, err := ssh.ParsePrivateKey(c.Key)
		if err != nil {
			return nil, nil, fmt.Errorf("the private key kept for it cannot be read: %w", err)
		}
		method, auth = "publickey", ssh.PublicKeys(signer)
	}
	conn, stop, err := dial(ctx, t, d.Connect)
	if err != nil {
		return nil, nil, err
	}
	var wrongKey *HostKeyError
	client, chans, reqs, err := ssh.NewClientConn(conn, t.Address, &ssh.ClientConfig{
		User: c.User,
		Auth: []ssh.AuthMethod{auth},
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			if line(k) != t.HostKey {
				wrongKey = &HostKeyError{Accepted: Fingerprint(t.HostKey), Shown: ssh.FingerprintSHA256(k), Key: line(k)}
				return wrongKey
			}
			return nil
		},
	})
	if err == nil {
		_ = conn.SetDeadline(time.Time{})
		return ssh.NewClient(client, chans, reqs), stop, nil
	}
	stop()
	conn.Close()
	switch {
	case wrongKey != nil:
		return nil, nil, wrongKey
	case ctx.Err() != nil:
		return nil, nil, ctx.Err()
	case strings.Contains(err.Error(), "unable to authenticate") && strings.Contains(err.Error(), method):
		return nil, nil, fmt.Errorf("%w for user %s by %s", ErrLoginRefused, c.User, method)
	case strings.Contains(err.Error(), "unable to authenticate"):
		return nil, nil, fmt.Errorf("%w: the device does not offer sign-in by %s", ErrLoginRefused, method)
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		return nil, nil, &TimeoutError{What: "signing in over SSH", Took: d.Connect}
	}
	if errors.Is(err, io.EOF) {
		err = ErrCut
	}
	return nil, nil, fmt.Errorf("%w: signing in over SSH: %v", ErrUnreachable, err)
}
