package link_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"golang.org/x/crypto/ssh"

	"magpie/internal/link"
)

// TestOneAttemptOfAll: a refused login is one attempt in all, whatever ways of signing in a
// device offers, and is told as refused.
func TestOneAttemptOfAll(t *testing.T) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name               string
		password, question bool
	}{{"a password", true, false}, {"a question", false, true}, {"either", true, true}} {
		t.Run(c.name, func(t *testing.T) {
			var passwords, asked atomic.Int32
			config := &ssh.ServerConfig{MaxAuthTries: 20}
			if c.password {
				config.PasswordCallback = func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
					passwords.Add(1)
					return nil, errors.New("no")
				}
			}
			if c.question {
				config.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
					asked.Add(1)
					_, _ = ask("", "", []string{"Word: "}, []bool{false})
					return nil, errors.New("no")
				}
			}
			config.AddHostKey(signer)
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			go func() {
				for {
					conn, err := l.Accept()
					if err != nil {
						return
					}
					_, _, _, _ = ssh.NewServerConn(conn, config)
					conn.Close()
				}
			}()
			at := l.Addr().(*net.TCPAddr)
			_, err = open(t, link.Call{Dialect: shipped(t, "fulmar"), Credential: link.Credential{User: "okonkwo", Password: "wrong"},
				Target: link.Target{Address: at.IP.String(), Port: at.Port, Transport: "ssh", HostKey: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))}})
			if !errors.Is(err, link.ErrLoginRefused) {
				t.Errorf("told as %v", err)
			}
			if n := passwords.Load() + asked.Load(); n != 1 {
				t.Errorf("%d attempts by password and %d by question", passwords.Load(), asked.Load())
			}
		})
	}
}
