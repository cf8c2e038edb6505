package routine

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/leodido/go-syslog/v4"
	"github.com/leodido/go-syslog/v4/rfc3164"
	"github.com/leodido/go-syslog/v4/rfc5424"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
)

// Heard counts what came in by syslog.
type Heard struct {
	Notices atomic.Int64 // that a configuration changed
	Other   atomic.Int64 // messages about something else
	Unknown atomic.Int64 // from addresses of no device; they are counted and not kept
}

// mostMessage is how long a message may be; what is longer is cut (RFC 5425 §4.3.1).
const mostMessage = 8192

// mostSenders is how many connections are listened to at a time.
const mostSenders = 256

// Syslog listens for messages of devices by UDP (RFC 5426), TCP (RFC 6587) and TLS (RFC 5425),
// until ctx ends. A message that the dialect of a device at its sender's address
// knows as one of a change is taken in as a notice of that.
type Syslog struct {
	s       *Service
	udp     net.PacketConn // nil: none
	streams []net.Listener
	Heard   *Heard

	mu   sync.Mutex
	at   time.Time                    // when the senders were read last
	from map[netip.Addr][]core.Device // by address
}

// Listen opens the sockets: UDP and TCP at an address, TLS (RFC 5425) at another, where each is
// named.
func (s *Service) Listen(address, secured string, config *tls.Config) (*Syslog, error) {
	l := &Syslog{s: s, Heard: &Heard{}}
	closed := func(err error) (*Syslog, error) {
		l.close()
		return nil, fmt.Errorf("syslog: %w", err)
	}
	if address != "" {
		udp, err := net.ListenPacket("udp", address)
		if err != nil {
			return closed(err)
		}
		l.udp = udp
		if u, ok := udp.(*net.UDPConn); ok { // room for a burst while a message is looked at
			_ = u.SetReadBuffer(4 << 20)
		}
		tcp, err := net.Listen("tcp", address)
		if err != nil {
			return closed(err)
		}
		l.streams = append(l.streams, tcp)
	}
	if secured != "" {
		tcp, err := net.Listen("tcp", secured)
		if err != nil {
			return closed(err)
		}
		l.streams = append(l.streams, tls.NewListener(tcp, config))
	}
	return l, nil
}

func (l *Syslog) close() {
	if l.udp != nil {
		l.udp.Close()
	}
	for _, x := range l.streams {
		x.Close()
	}
}

// Serve takes messages in until ctx ends.
func (l *Syslog) Serve(ctx context.Context) {
	stop := context.AfterFunc(ctx, l.close)
	defer stop()
	var all sync.WaitGroup
	for _, x := range l.streams {
		all.Go(func() { l.serveStream(ctx, x) })
	}
	buf := make([]byte, mostMessage)
	for l.udp != nil {
		n, from, err := l.udp.ReadFrom(buf)
		if errors.Is(err, net.ErrClosed) {
			break
		}
		if err == nil {
			l.take(ctx, from, buf[:n])
		}
	}
	all.Wait()
}

func (l *Syslog) serveStream(ctx context.Context, at net.Listener) {
	places := make(chan struct{}, mostSenders)
	for {
		conn, err := at.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(100 * time.Millisecond) // no more files can be open for now
			continue
		}
		select {
		case places <- struct{}{}:
		default:
			conn.Close()
			continue
		}
		go func() {
			defer func() { <-places }()
			defer conn.Close()
			stop := context.AfterFunc(ctx, func() { conn.Close() })
			defer stop()
			in := bufio.NewReaderSize(conn, mostMessage)
			for {
				_ = conn.SetReadDeadline(time.Now().Add(time.Hour))
				raw, err := frame(in)
				if err != nil {
					return
				}
				l.take(ctx, conn.RemoteAddr(), raw)
			}
		}()
	}
}

// frame reads one message of a stream: by its counted length, or to the end of its line
// (RFC 6587 §3.4.1, §3.4.2).
func frame(in *bufio.Reader) ([]byte, error) {
	first, err := in.Peek(1)
	if err != nil {
		return nil, err
	}
	if first[0] < '1' || first[0] > '9' {
		line, err := in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			line = append([]byte(nil), line...)
			for errors.Is(err, bufio.ErrBufferFull) { // the rest of it says nothing more
				_, err = in.ReadSlice('\n')
			}
		}
		if len(line) > 0 && err == io.EOF {
			err = nil
		}
		return line, err
	}
	digits, err := in.ReadSlice(' ')
	if err != nil || len(digits) > 7 {
		return nil, errors.Join(errors.New("no length"), err)
	}
	n, err := strconv.Atoi(string(digits[:len(digits)-1]))
	if err != nil {
		return nil, err
	}
	raw := make([]byte, min(n, mostMessage))
	if _, err := io.ReadFull(in, raw); err != nil {
		return nil, err
	}
	_, err = in.Discard(n - len(raw))
	return raw, err
}

// take looks whose a message is, and whether it tells of a change.
func (l *Syslog) take(ctx context.Context, from net.Addr, raw []byte) {
	host, _, err := net.SplitHostPort(from.String())
	if err != nil {
		return
	}
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return
	}
	devices, err := l.senders(ctx, addr.Unmap())
	if err != nil {
		slog.Warn("syslog: whose a message is", "err", err)
		return
	}
	if len(devices) == 0 {
		l.Heard.Unknown.Add(1)
		return
	}
	words := message(raw)
	changed := false
	for _, d := range devices {
		if user, ok := l.s.saysChanged(d, words); ok {
			changed = true
			if err := l.s.Noticed(ctx, d, user, "syslog"); err != nil {
				slog.Warn("syslog: a change trigger is kept with the next look", "device", d.Name, "err", err)
			}
		}
	}
	if changed {
		l.Heard.Notices.Add(1)
	} else {
		l.Heard.Other.Add(1)
	}
}

// known is how long what is known of who is at which address is taken to be so.
const known = 5 * time.Second

// senders are the devices at an address. Those that another speaks for are not: that one
// does.
func (l *Syslog) senders(ctx context.Context, addr netip.Addr) ([]core.Device, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if time.Since(l.at) < known {
		return l.from[addr], nil
	}
	all, err := l.s.Store.As(job.Service).Devices(ctx, ref.All())
	if err != nil {
		return l.from[addr], err
	}
	l.from, l.at = map[netip.Addr][]core.Device{}, time.Now()
	for _, d := range all {
		if a, err := netip.ParseAddr(d.Address); err == nil && d.Member == "" {
			l.from[a.Unmap()] = append(l.from[a.Unmap()], d)
		}
	}
	return l.from[addr], nil
}

// saysChanged tells whether a message says that a device's configuration changed, and by
// whom, if it says that.
func (s *Service) saysChanged(d core.Device, words string) (user string, ok bool) {
	dia := s.DialectOf(d)
	if dia == nil {
		return "", false
	}
	for _, n := range dia.Notices {
		re := dia.Pattern(n.Pattern)
		if m := re.FindStringSubmatch(words); m != nil {
			if i := re.SubexpIndex("user"); i > 0 {
				user = m[i]
			}
			return user, true
		}
	}
	return "", false
}

// message is what a syslog message says: the name of its program, a colon and its text, as
// RFC 5424 has them, or RFC 3164; of what is neither all of it.
func message(raw []byte) string {
	text := strings.TrimRight(string(raw), "\r\n\x00")
	var base *syslog.Base
	if head, rest, ok := strings.Cut(text, ">"); ok && strings.HasPrefix(head, "<") && strings.HasPrefix(rest, "1 ") {
		if m, _ := rfc5424.NewParser(rfc5424.WithBestEffort()).Parse([]byte(text)); m != nil {
			if x, ok := m.(*rfc5424.SyslogMessage); ok {
				base = &x.Base
			}
		}
	} else if m, _ := rfc3164.NewParser(rfc3164.WithBestEffort()).Parse([]byte(text)); m != nil {
		if x, ok := m.(*rfc3164.SyslogMessage); ok {
			base = &x.Base
		}
	}
	switch {
	case base == nil || base.Message == nil:
		_, rest, ok := strings.Cut(text, ">")
		if ok {
			return rest
		}
		return text
	case base.Appname != nil:
		return *base.Appname + ": " + strings.TrimPrefix(*base.Message, "\ufeff")
	}
	return strings.TrimPrefix(*base.Message, "\ufeff")
}
