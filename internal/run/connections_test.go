package run

import (
	"io"
	"net"
	"net/http"
	"testing"
	"time"
)

// TestConnectionsAreBounded: one address has a share of the connections, a proxy has all of them, and one that
// is closed makes room for another.
func TestConnectionsAreBounded(t *testing.T) {
	raw, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := boundConnections(raw, 16, []string{"127.0.0.3", "127.9.0.0/16"})
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ok") }), IdleTimeout: time.Minute}
	go server.Serve(l)
	defer server.Close()
	answered := func(from string) (net.Conn, bool) {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		c, err := d.Dial("tcp", raw.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = io.WriteString(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
		n, _ := c.Read(make([]byte, 1000))
		return c, n > 0
	}
	var open []net.Conn
	for i := range 6 {
		c, ok := answered("127.0.0.2")
		if ok != (i < 4) {
			t.Errorf("connection %d of one address: answered %v", i+1, ok)
		}
		if ok {
			open = append(open, c)
		}
	}
	open[0].Close()
	for deadline := time.Now().Add(5 * time.Second); ; {
		if _, ok := answered("127.0.0.2"); ok {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("a connection that was closed makes no room")
		}
		time.Sleep(10 * time.Millisecond)
	}
	n := 0
	for i := range 20 {
		if _, ok := answered([]string{"127.0.0.3", "127.9.0.1"}[i%2]); ok {
			n++
		}
	}
	if n != 12 {
		t.Errorf("a proxy has %d connections beside 4 others, of 16", n)
	}
	if _, ok := answered("127.0.0.4"); ok {
		t.Error("there are more than 16")
	}
}

// TestWhoDoesNotRead: an answer that nobody takes ends, though the client holds its connection.
func TestWhoDoesNotRead(t *testing.T) {
	here, there := net.Pipe()
	defer there.Close()
	c := &connection{Conn: quick{here}, leave: func() {}}
	if _, err := c.Write(make([]byte, 1<<20)); err == nil {
		t.Error("it was written")
	}
}

// quick is a connection whose deadlines come at once.
type quick struct{ net.Conn }

func (q quick) SetWriteDeadline(at time.Time) error {
	if left := time.Until(at); left < writeWithin-time.Second || left > writeWithin {
		return io.ErrUnexpectedEOF
	}
	return q.Conn.SetWriteDeadline(time.Now())
}
