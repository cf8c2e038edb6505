package link_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/dialects"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/curlew"
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

// TestWrongPrompt: where another prompt comes than the dialect says, the error shows it.
func TestWrongPrompt(t *testing.T) {
	m, err := curlew.New("quay-c1", "02-5e", []string{"call quay-c1", "keeper magpie word w"})
	if err != nil {
		t.Fatal(err)
	}
	address := stand(t, m)
	src, err := dialects.Files.ReadFile("curlew.yaml")
	if err != nil {
		t.Fatal(err)
	}
	wrong := strings.Replace(string(src), `{host}(/[a-z]+)?\+ `, `{host}(/[a-z]+)?\* `, 1)
	d, err := dialect.Load("curlew.yaml", []byte(wrong))
	if err != nil || wrong == string(src) {
		t.Fatal(err)
	}
	d.Answer, d.Idle, d.Connect = time.Second, time.Second, 5*time.Second
	key, _, err := link.Probe(t.Context(), link.Target{Address: address, Port: box.SSH, Transport: "ssh"}, 5*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	s, err := open(t, link.Call{Dialect: d, Credential: link.Credential{User: "magpie", Password: "w"}, Target: link.Target{Address: address, Port: box.SSH, Transport: "ssh", HostKey: key}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Begin(); err == nil || !strings.Contains(err.Error(), `but "quay-c1+ "`) {
		t.Errorf("%v", err)
	}
}
