package link

import (
	"context"
	"net"
	"strings"
	"time"

	"magpie/internal/dialect"
)

// Greeting is what a device shows to whoever connects, before anybody signs in.
type Greeting struct {
	Key, Fingerprint string // its host key or certificate, as Probe gives them
	Says             string // the version that it names (RFC 4253 §4.2), its certificate's subject, or the first line that it shows
}

// Greet connects just far enough to be greeted. Nothing is tried: no name, no password and no
// request is sent.
func Greet(ctx context.Context, t Target, timeout time.Duration) (g Greeting, err error) {
	conn, stop, err := dial(ctx, t, timeout)
	if err != nil {
		return g, err
	}
	defer stop()
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(timeout))
	switch t.Transport {
	case dialect.HTTPS:
		leaf, err := certificateOver(ctx, conn, t)
		if err != nil {
			return g, err
		}
		g.Key, g.Says = certificate(leaf.Raw), leaf.Subject.CommonName
		g.Fingerprint = Fingerprint(g.Key)
	case dialect.HTTP: // it speaks when it is asked
	case dialect.Telnet:
		g.Says = greeted(conn)
	default:
		heard := &hearing{Conn: conn}
		if g.Key, g.Fingerprint, err = keyOver(heard, t); err != nil {
			return g, err
		}
		g.Says = greeting(heard.first)
	}
	return g, nil
}

// hearing keeps the beginning of what comes.
type hearing struct {
	net.Conn
	first []byte
}

func (h *hearing) Read(b []byte) (int, error) {
	n, err := h.Conn.Read(b)
	if room := 256 - len(h.first); room > 0 {
		h.first = append(h.first, b[:min(n, room)]...)
	}
	return n, err
}

// greeted reads what a Telnet server shows by itself, for two seconds at the most.
func greeted(conn net.Conn) string {
	_ = conn.SetReadDeadline(time.Now().Add(2 * time.Second))
	var all []byte
	buf := make([]byte, 1024)
	for len(all) < 4096 {
		n, err := conn.Read(buf)
		all = append(all, buf[:n]...)
		if line := greeting(all); err != nil || line != "" && strings.ContainsRune(string(all), ':') {
			break
		}
	}
	return greeting(all)
}

// greeting is the first line with something to be read, without Telnet's commands (RFC 854)
// and what cannot be shown.
func greeting(raw []byte) string {
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case c == 255 && i+1 < len(raw) && raw[i+1] >= 251: // WILL, WON'T, DO, DON'T and an option
			i += 2
		case c == 255:
			i++
		case c == '\n':
			b.WriteByte('\n')
		case c >= ' ' && c < 127:
			b.WriteByte(c)
		}
	}
	for _, line := range strings.Split(b.String(), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			return line[:min(len(line), 200)]
		}
	}
	return ""
}
