// Package inbox receives files from devices that only send, and serves files to
// devices that only fetch: by TFTP (RFC 1350), FTP (RFC 959, passive), SFTP and
// SCP, and HTTPS. Nothing is taken or given but at a one-time path that nobody
// can guess, to the one address it is meant for, until it expires; everything
// else is refused and logged.
package inbox

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"magpie/internal/link"
)

// Config says where the inbox listens. A port of 0 leaves a protocol out.
type Config struct {
	Listen  string `yaml:"listen"`  // address to listen on; empty: all
	Address string `yaml:"address"` // how devices reach it
	TFTP    int    `yaml:"tftp"`
	FTP     int    `yaml:"ftp"`
	SFTP    int    `yaml:"sftp"` // and SCP
	HTTPS   int    `yaml:"https"`
}

// On tells whether anything is configured.
func (c Config) On() bool { return c.TFTP+c.FTP+c.SFTP+c.HTTPS != 0 }

// Expiry is how long a path stands open.
const Expiry = 15 * time.Minute

// Inbox is the servers and the paths that stand open.
type Inbox struct {
	config Config
	ports  map[string]int
	stop   []func()

	mu   sync.Mutex
	open map[string]*slot
}

// slot is one path that stands open.
type slot struct {
	protocol string
	from     []net.IP
	until    time.Time
	give     []byte // what is served; nil: a file is expected
	taken    bool
	got      chan []byte
}

// Open starts the servers. hostKey is a private key in PEM form, for SFTP and
// HTTPS.
func Open(c Config, hostKey []byte) (*Inbox, error) {
	b := &Inbox{config: c, ports: map[string]int{}, open: map[string]*slot{}}
	if c.Address == "" {
		return nil, errors.New("inbox: address is missing: say at which address devices reach this service")
	}
	for _, s := range []struct {
		name  string
		port  int
		serve func(port int) (int, func(), error)
	}{{"tftp", c.TFTP, b.serveTFTP}, {"ftp", c.FTP, b.serveFTP}, {"sftp", c.SFTP, func(p int) (int, func(), error) { return b.serveSSH(p, hostKey) }},
		{"https", c.HTTPS, func(p int) (int, func(), error) { return b.serveHTTPS(p, hostKey) }}} {
		if s.port == 0 {
			continue
		}
		port, stop, err := s.serve(max(s.port, 0)) // below 0: any free one
		if err != nil {
			b.Close()
			return nil, fmt.Errorf("inbox: %s: %w", s.name, err)
		}
		b.ports[s.name], b.stop = port, append(b.stop, stop)
	}
	if p, ok := b.ports["sftp"]; ok {
		b.ports["scp"] = p
	}
	return b, nil
}

// Close stops the servers.
func (b *Inbox) Close() {
	for _, stop := range b.stop {
		stop()
	}
}

// Expect opens a one-time path at which a device may leave a file; see
// link.Inbox.
func (b *Inbox) Expect(ctx context.Context, protocol, from string) (host string, port int, name string, wait func() ([]byte, error), cancel func(), err error) {
	s, name, err := b.slot(ctx, protocol, from, nil)
	if err != nil {
		return "", 0, "", nil, nil, err
	}
	wait = func() ([]byte, error) {
		timer := time.NewTimer(time.Until(s.until))
		defer timer.Stop()
		select {
		case raw := <-s.got:
			return raw, nil
		case <-timer.C:
			return nil, &link.TimeoutError{What: "waiting for the device to send the file", Took: Expiry}
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
	return b.config.Address, b.ports[protocol], name, wait, func() { b.shut(name) }, nil
}

// Offer opens a one-time path at which a device may fetch a file.
func (b *Inbox) Offer(ctx context.Context, protocol, from string, content []byte) (host string, port int, name string, cancel func(), err error) {
	if content == nil {
		content = []byte{}
	}
	_, name, err = b.slot(ctx, protocol, from, content)
	return b.config.Address, b.ports[protocol], name, func() { b.shut(name) }, err
}

func (b *Inbox) slot(ctx context.Context, protocol, from string, give []byte) (*slot, string, error) {
	if b.ports[protocol] == 0 {
		return nil, "", fmt.Errorf("the inbox does not speak %s; see inbox in docs/operations.md", protocol)
	}
	ips, err := net.DefaultResolver.LookupIP(ctx, "ip", from)
	if err != nil {
		return nil, "", fmt.Errorf("whom the inbox should wait for: %w", err)
	}
	raw := make([]byte, 16)
	_, _ = rand.Read(raw)
	name := hex.EncodeToString(raw)
	s := &slot{protocol: protocol, from: ips, until: time.Now().Add(Expiry), give: give, got: make(chan []byte, 1)}
	b.mu.Lock()
	defer b.mu.Unlock()
	for n, old := range b.open {
		if time.Now().After(old.until) {
			delete(b.open, n)
		}
	}
	b.open[name] = s
	return s, name, nil
}

func (b *Inbox) shut(name string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.open, name)
}

// errClosed is all that is said to who comes to the wrong door.
var errClosed = errors.New("nothing is to be had here")

// claim takes a path, once. read tells whether a file is to be fetched.
func (b *Inbox) claim(protocol, name string, from net.Addr, read bool) (*slot, error) {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	host, _, _ := net.SplitHostPort(from.String())
	ip := net.ParseIP(host)
	b.mu.Lock()
	s := b.open[name]
	why := ""
	switch {
	case s == nil:
		why = "no such path is open"
	case s.protocol != protocol && !(s.protocol == "scp" && protocol == "sftp"):
		why = "the path is open for another protocol"
	case time.Now().After(s.until):
		why = "the path has expired"
	case s.taken:
		why = "the path was used already"
	case read != (s.give != nil):
		why = "the path is open the other way round"
	default:
		why = "the path is open for another address"
		for _, ok := range s.from {
			if ok.Equal(ip) {
				why = ""
			}
		}
	}
	if why == "" {
		s.taken = true
	}
	b.mu.Unlock()
	if why != "" {
		slog.Warn("inbox: refused", "protocol", protocol, "from", host, "fetch", read, "why", why)
		return nil, errClosed
	}
	return s, nil
}

// size tells how long the file is that stands open for an address.
func (b *Inbox) size(name string, from net.Addr) (int64, bool) {
	host, _, _ := net.SplitHostPort(from.String())
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.open[strings.TrimPrefix(path.Clean("/"+name), "/")]
	if s == nil || s.give == nil || s.taken || time.Now().After(s.until) {
		return 0, false
	}
	return int64(len(s.give)), slices.ContainsFunc(s.from, func(ip net.IP) bool { return ip.Equal(net.ParseIP(host)) })
}

// taken ends a transfer: a file that came whole is handed over, and a path whose
// transfer broke off may be used again.
func (b *Inbox) taken(s *slot, raw []byte, err error) {
	if err != nil {
		b.mu.Lock()
		s.taken = false
		b.mu.Unlock()
		return
	}
	if s.give == nil {
		s.got <- raw
	}
}

func (b *Inbox) listen(port int) (net.Listener, int, error) {
	l, err := net.Listen("tcp", net.JoinHostPort(b.config.Listen, fmt.Sprint(port)))
	if err != nil {
		return nil, 0, err
	}
	return l, l.Addr().(*net.TCPAddr).Port, nil
}

func (b *Inbox) serveTFTP(port int) (int, func(), error) {
	pc, err := net.ListenPacket("udp", net.JoinHostPort(b.config.Listen, fmt.Sprint(port)))
	if err != nil {
		return 0, nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		in := make([]byte, 65536)
		for {
			n, from, err := pc.ReadFrom(in)
			if err != nil {
				return
			}
			p, err := link.ParseTFTP(in[:n])
			if err != nil || p.Op != link.TFTPRead && p.Op != link.TFTPWrite {
				continue
			}
			go b.tftp(ctx, p, from.(*net.UDPAddr))
		}
	}()
	return pc.LocalAddr().(*net.UDPAddr).Port, func() { cancel(); pc.Close() }, nil
}

func (b *Inbox) tftp(ctx context.Context, p link.TFTPPacket, peer *net.UDPAddr) {
	t, err := link.AnswerTFTP(ctx, b.config.Listen, peer, 2*time.Second)
	if err != nil {
		return
	}
	defer t.Close()
	s, err := b.claim("tftp", p.File, peer, p.Op == link.TFTPRead)
	if err != nil {
		t.Refuse(err.Error())
		return
	}
	if p.Op == link.TFTPRead {
		b.taken(s, nil, t.Give(p, s.give))
		return
	}
	raw, err := t.Take(p)
	b.taken(s, raw, err)
}
