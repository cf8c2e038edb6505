package client

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// How a relay asks the service to turn its connection around (RFC 9110 §7.8).
const (
	RelayProtocol    = "magpie-relay"
	RelayKeyHeader   = "Magpie-Relay-Key"
	RelayReachHeader = "Magpie-Relay-Reach"
)

// NewRelay is what a relay lends to whom.
type NewRelay struct {
	Device string
	At     string        // where the unit is, HOST or HOST:PORT; empty: at the device's own address
	For    time.Duration // how long at most

	// Opened is told the relay's id and the addresses it connects to, and Used each
	// connection: its address, and nil or what went wrong.
	Opened func(id string, reaches []string)
	Used   func(address string, err error)

	Dial func(ctx context.Context, address string) (net.Conn, error) // how a connection is opened; nil: from this machine, by TCP
}

// Relays lists the relays that are open.
func (c *Client) Relays(ctx context.Context) ([]Relay, error) {
	return all[Relay](c, ctx, "/relays", nil)
}

// Relay lends this machine's network reach to the pushes of one device, over the
// API's own connection: to the addresses that the service named at the
// beginning, and to no other. It returns when its time is over, when the
// connection is lost, or when ctx ends.
func (c *Client) Relay(ctx context.Context, n NewRelay) error {
	if n.Opened == nil {
		n.Opened = func(string, []string) {}
	}
	if n.Used == nil {
		n.Used = func(string, error) {}
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	turned := *c
	turned.HTTP = &http.Client{Transport: upgradable(c.HTTP)}
	res, err := turned.send(ctx, "GET", "/relay", url.Values{"device": {n.Device}, "at": {n.At}, "for": {n.For.String()}}, nil,
		"Connection", "Upgrade", "Upgrade", RelayProtocol, RelayKeyHeader, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey()))))
	if err != nil {
		return err
	}
	pipe, ok := res.Body.(io.ReadWriteCloser)
	if res.StatusCode != http.StatusSwitchingProtocols || !ok {
		res.Body.Close()
		return fmt.Errorf("the service at %s did not turn the connection around, but answered %s; what stands between has to pass HTTP/1.1 upgrades on", c.URL, res.Status)
	}
	defer pipe.Close()
	defer context.AfterFunc(ctx, func() { pipe.Close() })()
	reaches := strings.Fields(res.Header.Get(RelayReachHeader))
	config := &ssh.ServerConfig{NoClientAuth: true} // who asks is known by the connection: it is ours
	config.AddHostKey(key)
	late := time.AfterFunc(15*time.Second, func() { pipe.Close() })
	near, chans, reqs, err := ssh.NewServerConn(pipeConn{pipe}, config)
	late.Stop()
	if err != nil {
		return fmt.Errorf("turning the connection around: %w", err)
	}
	defer near.Close()
	var refused atomic.Value
	go func() {
		for r := range reqs {
			switch r.Type {
			case "opened":
				n.Opened(string(r.Payload), reaches)
			case "refused":
				refused.Store(string(r.Payload))
			}
			if r.WantReply {
				_ = r.Reply(true, nil)
			}
		}
	}()
	var open sync.WaitGroup
	for ch := range chans {
		open.Add(1)
		go func() { defer open.Done(); n.carry(ctx, ch, reaches) }()
	}
	cancel()
	open.Wait()
	if why, ok := refused.Load().(string); ok {
		return errors.New(why)
	}
	return nil
}

// carry opens one connection and passes everything on, both ways.
func (n NewRelay) carry(ctx context.Context, ch ssh.NewChannel, reaches []string) {
	var to struct {
		Host       string
		Port       uint32
		Origin     string
		OriginPort uint32
	}
	if ch.ChannelType() != "direct-tcpip" || ssh.Unmarshal(ch.ExtraData(), &to) != nil {
		_ = ch.Reject(ssh.UnknownChannelType, "only connections are lent")
		return
	}
	address := net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port)))
	if !slices.Contains(reaches, address) {
		n.Used(address, errors.New("not among the addresses lent, so refused"))
		_ = ch.Reject(ssh.Prohibited, "not among the addresses lent")
		return
	}
	dial := n.Dial
	if dial == nil {
		dial = func(ctx context.Context, address string) (net.Conn, error) {
			return (&net.Dialer{Timeout: 15 * time.Second}).DialContext(ctx, "tcp", address)
		}
	}
	conn, err := dial(ctx, address)
	n.Used(address, err)
	if err != nil {
		_ = ch.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	defer conn.Close()
	far, requests, err := ch.Accept()
	if err != nil {
		return
	}
	defer far.Close()
	go ssh.DiscardRequests(requests)
	done := make(chan struct{}, 2)
	go func() { _, _ = io.Copy(conn, far); done <- struct{}{} }()
	go func() { _, _ = io.Copy(far, conn); done <- struct{}{} }()
	select {
	case <-done:
	case <-ctx.Done():
	}
}

// upgradable is a client's way to the service that speaks HTTP/1.1 only, which
// alone can be turned around.
func upgradable(h *http.Client) http.RoundTripper {
	t, ok := http.DefaultTransport.(*http.Transport)
	if h != nil && h.Transport != nil {
		if own, is := h.Transport.(*http.Transport); is {
			t, ok = own, true
		}
	}
	if !ok {
		return http.DefaultTransport
	}
	t = t.Clone()
	t.ForceAttemptHTTP2 = false
	t.Protocols = new(http.Protocols)
	t.Protocols.SetHTTP1(true)
	return t
}

// pipeConn is a connection that was turned around.
type pipeConn struct{ io.ReadWriteCloser }

func (pipeConn) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (pipeConn) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (pipeConn) SetDeadline(time.Time) error      { return nil }
func (pipeConn) SetReadDeadline(time.Time) error  { return nil }
func (pipeConn) SetWriteDeadline(time.Time) error { return nil }
