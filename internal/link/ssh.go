package link

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// hostKey learns which key the device shows over SSH.
func hostKey(ctx context.Context, t Target, timeout time.Duration) (key, fingerprint string, err error) {
	conn, stop, err := dialThrough(ctx, t, timeout)
	if err != nil {
		return "", "", err
	}
	defer stop()
	defer conn.Close()
	return keyOver(conn, t)
}

// keyOver learns the host key that is shown over a connection.
func keyOver(conn net.Conn, t Target) (key, fingerprint string, err error) {
	seen := errors.New("seen")
	config := &ssh.ClientConfig{HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		key, fingerprint = line(k), ssh.FingerprintSHA256(k)
		return seen
	}}
	allow(config, nil, ssh.InsecureAlgorithms().HostKeys, ssh.InsecureAlgorithms().KeyExchanges, ssh.InsecureAlgorithms().Ciphers, ssh.InsecureAlgorithms().MACs)
	_, _, _, err = ssh.NewClientConn(conn, t.Address, config)
	if key == "" {
		return "", "", fmt.Errorf("%w: %s:%d answers, but not as an SSH server: %v", ErrUnreachable, t.Address, t.Port, err)
	}
	return key, fingerprint, nil
}

// allow adds old algorithms to what is offered, behind today's, and puts those
// for a known host key first.
func allow(c *ssh.ClientConfig, known ssh.PublicKey, legacy ...[]string) {
	now, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	c.SetDefaults()
	add := func(base, insecure []string) []string {
		out := slices.Clone(base)
		for _, l := range legacy {
			for _, name := range l {
				if slices.Contains(insecure, name) && !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
		return out
	}
	c.KeyExchanges, c.Ciphers, c.MACs = add(now.KeyExchanges, old.KeyExchanges), add(now.Ciphers, old.Ciphers), add(now.MACs, old.MACs)
	c.HostKeyAlgorithms = add(now.HostKeys, old.HostKeys)
	if known != nil {
		first := func(name string) bool {
			return name == known.Type() || known.Type() == ssh.KeyAlgoRSA && (name == ssh.KeyAlgoRSASHA256 || name == ssh.KeyAlgoRSASHA512)
		}
		slices.SortStableFunc(c.HostKeyAlgorithms, func(a, b string) int {
			switch {
			case first(a) == first(b):
				return 0
			case first(a):
				return -1
			}
			return 1
		})
	}
}

func line(k ssh.PublicKey) string { return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))) }

// dial connects, with a deadline for everything up to the end of sign-in. The
// connection is closed when ctx ends, unless stop was called.
func dial(ctx context.Context, t Target, timeout time.Duration) (conn net.Conn, stop func() bool, err error) {
	dialer := net.Dialer{Timeout: timeout}
	address := net.JoinHostPort(t.Address, strconv.Itoa(t.Port))
	if t.Dial != nil {
		within, cancel := context.WithTimeout(ctx, timeout)
		if conn, err = t.Dial(within, address); err == nil {
			through := conn
			conn = &hopConn{conn, nil, time.AfterFunc(timeout, func() { through.Close() })}
		}
		cancel()
	} else {
		conn, err = dialer.DialContext(ctx, "tcp", address)
	}
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

// dialThrough connects as dial does, through the target's jump hosts.
func dialThrough(ctx context.Context, t Target, timeout time.Duration) (net.Conn, func() bool, error) {
	if len(t.Through) == 0 {
		return dial(ctx, t, timeout)
	}
	hop := t.Through[len(t.Through)-1]
	before := hop.Target
	before.Through = t.Through[:len(t.Through)-1]
	client, stop, err := signIn(ctx, nil, timeout, before, hop.Credential, nil)
	if err != nil {
		return nil, nil, &HopError{hop.Address, err}
	}
	within, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	conn, err := client.DialContext(within, "tcp", net.JoinHostPort(t.Address, strconv.Itoa(t.Port)))
	if err != nil {
		stop()
		client.Close()
		return nil, nil, fmt.Errorf("%w: no connection to %s port %d from jump host %s: %v", ErrUnreachable, t.Address, t.Port, hop.Address, err)
	}
	deadline := time.AfterFunc(timeout, func() { conn.Close() }) // a channel has no deadlines of its own
	return &hopConn{conn, client, deadline}, stop, nil
}

// HopError is returned when a jump host on the way does not let us through.
type HopError struct {
	Address string
	Err     error
}

func (e *HopError) Error() string { return fmt.Sprintf("jump host %s: %v", e.Address, e.Err) }

// Unwrap returns what went wrong there. A login that a jump host refused is not
// the device's refusal, so errors.Is does not find ErrLoginRefused in it.
func (e *HopError) Unwrap() error {
	if errors.Is(e.Err, ErrLoginRefused) {
		return ErrUnreachable
	}
	return e.Err
}

// hopConn is a connection through somewhere else, where connections have no
// deadlines of their own. hop, if not nil, is closed with it.
type hopConn struct {
	net.Conn
	hop      io.Closer
	deadline *time.Timer
}

func (c *hopConn) SetDeadline(t time.Time) error {
	if t.IsZero() {
		c.deadline.Stop()
	} else {
		c.deadline.Reset(time.Until(t))
	}
	return nil
}

func (c *hopConn) Close() error {
	c.deadline.Stop()
	err := c.Conn.Close()
	if c.hop != nil {
		return c.hop.Close()
	}
	return err
}

// signIn opens an SSH connection (RFC 4252, 4253) with one attempt at
// authentication: by the agent, by key, or by password, which also answers the
// question of keyboard-interactive where a device offers only that. warn is
// told of old algorithms in use.
func signIn(ctx context.Context, legacy []string, timeout time.Duration, t Target, c Credential, warn func(string)) (*ssh.Client, func() bool, error) {
	method, auth, done, err := authentication(c)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	conn, stop, err := dialThrough(ctx, t, timeout)
	if err != nil {
		return nil, nil, err
	}
	var wrongKey *HostKeyError
	config := &ssh.ClientConfig{
		User: c.User,
		Auth: auth,
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			if line(k) != t.HostKey {
				wrongKey = &HostKeyError{Accepted: Fingerprint(t.HostKey), Shown: ssh.FingerprintSHA256(k), Key: line(k)}
				return wrongKey
			}
			return nil
		},
	}
	known, _, _, _, _ := ssh.ParseAuthorizedKey([]byte(t.HostKey))
	allow(config, known, legacy)
	client, chans, reqs, err := ssh.NewClientConn(conn, t.Address, config)
	if err == nil {
		_ = conn.SetDeadline(time.Time{})
		if meta, ok := client.(ssh.AlgorithmsConnMetadata); ok && warn != nil {
			if old := insecure(meta.Algorithms()); len(old) > 0 {
				warn("the device only speaks old, weak SSH algorithms, which its dialect allows: " + strings.Join(old, ", "))
			}
		}
		return ssh.NewClient(client, chans, reqs), stop, nil
	}
	stop()
	conn.Close()
	var negotiation *ssh.AlgorithmNegotiationError
	switch {
	case wrongKey != nil:
		return nil, nil, wrongKey
	case ctx.Err() != nil:
		return nil, nil, context.Cause(ctx)
	case strings.Contains(err.Error(), "unable to authenticate") && strings.Contains(err.Error(), method),
		strings.Contains(err.Error(), "unable to authenticate") && method == "password" && strings.Contains(err.Error(), "keyboard-interactive"):
		return nil, nil, fmt.Errorf("%w for user %s by %s", ErrLoginRefused, c.User, method)
	case strings.Contains(err.Error(), "unable to authenticate"):
		return nil, nil, fmt.Errorf("%w: the device does not offer sign-in by %s", ErrLoginRefused, method)
	case errors.Is(err, errSecondChance):
		return nil, nil, fmt.Errorf("%w for user %s by %s", ErrLoginRefused, c.User, method)
	case errors.Is(err, errOtherQuestion):
		return nil, nil, fmt.Errorf("%w: %v", ErrLoginRefused, errOtherQuestion)
	case errors.As(err, &negotiation):
		return nil, nil, fmt.Errorf("%w: no SSH algorithm in common for %s: the device offers %s; if it can do no better, allow one under reach.legacy in its dialect",
			ErrUnreachable, negotiation.What, strings.Join(negotiation.RequestedAlgorithms, ", "))
	}
	var late net.Error
	if errors.As(err, &late) && late.Timeout() {
		return nil, nil, &TimeoutError{What: "signing in over SSH", Took: timeout}
	}
	if errors.Is(err, io.EOF) {
		err = ErrCut
	}
	return nil, nil, fmt.Errorf("%w: signing in over SSH: %v", ErrUnreachable, err)
}

var errSecondChance = errors.New("the password was refused once and is not sent again")
var errOtherQuestion = errors.New("the device asks for more than a password, which no machine can answer")

// authentication makes the one attempt. done must be called when it is over.
func authentication(c Credential) (method string, auth []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	switch {
	case c.Agent != "":
		want, _, _, _, err := ssh.ParseAuthorizedKey([]byte(c.Agent))
		if err != nil {
			return "", nil, nil, fmt.Errorf("the public key that the SSH agent should sign with cannot be read: %w", err)
		}
		conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
		if err != nil {
			return "", nil, nil, fmt.Errorf("the SSH agent does not answer at SSH_AUTH_SOCK: %w", err)
		}
		signers, err := agent.NewClient(conn).Signers()
		for _, s := range signers {
			if err == nil && bytes.Equal(s.PublicKey().Marshal(), want.Marshal()) {
				return "publickey", []ssh.AuthMethod{ssh.PublicKeys(s)}, func() { conn.Close() }, nil
			}
		}
		conn.Close()
		return "", nil, nil, errors.Join(fmt.Errorf("the SSH agent does not hold the key %s", ssh.FingerprintSHA256(want)), err)
	case len(c.Key) > 0:
		signer, err := ssh.ParsePrivateKey(c.Key)
		if err != nil {
			return "", nil, nil, fmt.Errorf("the private key kept for it cannot be read: %w", err)
		}
		return "publickey", []ssh.AuthMethod{ssh.PublicKeys(signer)}, done, nil
	}
	used := false
	once := func() error {
		if used {
			return errSecondChance
		}
		used = true
		return nil
	}
	auth = []ssh.AuthMethod{
		ssh.PasswordCallback(func() (string, error) {
			// Beginning keyboard-interactive after this would be a second try to a device that
			// offers both: no key takes its place, of which nothing is sent.
			auth[1] = ssh.PublicKeys()
			return c.Password, once()
		}),
		// RFC 4256: a device may ask nothing, and may ask in several rounds.
		ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
			if len(questions) == 0 {
				return nil, nil
			}
			if used {
				return nil, errSecondChance
			}
			if len(questions) > 1 || echos[0] {
				return nil, errOtherQuestion
			}
			return []string{c.Password}, once()
		}),
	}
	return "password", auth, done, nil
}

// insecure lists which of the algorithms agreed on are old.
func insecure(n ssh.NegotiatedAlgorithms) (out []string) {
	old := ssh.InsecureAlgorithms()
	for _, x := range []struct {
		name string
		in   []string
	}{{n.KeyExchange, old.KeyExchanges}, {n.HostKey, old.HostKeys}, {n.Read.Cipher, old.Ciphers}, {n.Read.MAC, old.MACs}} {
		if slices.Contains(x.in, x.name) && !slices.Contains(out, x.name) {
			out = append(out, x.name)
		}
	}
	return out
}

// channel opens a channel for a command, a shell or a subsystem (RFC 4254 §6).
func channel(client *ssh.Client) (ch *ssh.Session, in io.WriteCloser, out io.Reader, err error) {
	if ch, err = client.NewSession(); err != nil {
		return nil, nil, nil, err
	}
	if in, err = ch.StdinPipe(); err == nil {
		out, err = ch.StdoutPipe()
	}
	return ch, in, out, err
}

// shell opens a shell on a terminal wide enough that lines do not wrap (RFC
// 4254 §6.2, §8).
func shell(client *ssh.Client) (*stream, error) {
	ch, in, out, err := channel(client)
	if err != nil {
		return nil, err
	}
	if err := ch.RequestPty("dumb", 100, 512, ssh.TerminalModes{ssh.ECHO: 0}); err != nil {
		return nil, err
	}
	return &stream{out, in, func() { ch.Close() }}, ch.Shell()
}
