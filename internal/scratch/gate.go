package scratch

import (
	"io"
	"net"
	"strings"
	"sync"
	"testing"
)

// Gate stands before a database and can be shut: then nobody gets through, and
// who was through is cut off.
type Gate struct {
	t    testing.TB
	to   string // where the database is
	at   string // where the gate is
	mu   sync.Mutex
	l    net.Listener
	open []net.Conn
}

// NewGate opens a gate before a database, and returns the DSN that leads through it.
func NewGate(t testing.TB, dsn string) (g *Gate, through string) {
	t.Helper()
	head, rest, _ := strings.Cut(dsn, "@tcp(")
	to, tail, _ := strings.Cut(rest, ")")
	g = &Gate{t: t, to: to, at: "127.0.0.1:0"}
	g.Open()
	return g, head + "@tcp(" + g.at + ")" + tail
}

// Open lets everybody through.
func (g *Gate) Open() {
	g.t.Helper()
	l, err := net.Listen("tcp", g.at)
	if err != nil {
		g.t.Fatal(err)
	}
	g.mu.Lock()
	g.l, g.at = l, l.Addr().String()
	g.mu.Unlock()
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", g.to)
			if err != nil {
				in.Close()
				continue
			}
			g.mu.Lock()
			g.open = append(g.open, in, out)
			g.mu.Unlock()
			go func() { _, _ = io.Copy(out, in); out.Close() }()
			go func() { _, _ = io.Copy(in, out); in.Close() }()
		}
	}()
}

// Shut lets nobody through, and cuts off who was.
func (g *Gate) Shut() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.l.Close()
	for _, c := range g.open {
		c.Close()
	}
	g.open = nil
}
