package run

import (
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"
)

// Connections that are taken in: how many in all and from one address, and how long one may stand still.
const (
	mostConnections = 4096
	idleWithin      = 2 * time.Minute  // between two requests
	writeWithin     = 60 * time.Second // for some bytes of an answer to be taken
)

// connections is a listener that holds a bounded number of connections, and fewer from one address: who opens
// more is hung up on at once. Proxies have the whole number. Descriptors are left for the service itself.
type connections struct {
	net.Listener
	all, each int
	proxies   []netip.Prefix

	mu     sync.Mutex
	open   int
	from   map[netip.Addr]int
	warned time.Time
}

// boundConnections bounds a listener; most is how many connections it holds, 0 for what is usual. It never
// takes more than half of the descriptors that the process may have.
func boundConnections(l net.Listener, most int, proxies []string) *connections {
	if most <= 0 {
		most = mostConnections
	}
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err == nil && limit.Cur/2 < uint64(most) {
		most = int(limit.Cur / 2)
	}
	c := &connections{Listener: l, all: most, each: max(most/4, 1), from: map[netip.Addr]int{}}
	for _, p := range proxies {
		if prefix, err := netip.ParsePrefix(p); err == nil {
			c.proxies = append(c.proxies, prefix)
		} else if a, err := netip.ParseAddr(p); err == nil {
			c.proxies = append(c.proxies, netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()))
		}
	}
	return c
}

// Accept waits for a connection that there is room for.
func (c *connections) Accept() (net.Conn, error) {
	for {
		conn, err := c.Listener.Accept()
		if err != nil {
			return nil, err
		}
		at, _ := netip.ParseAddrPort(conn.RemoteAddr().String())
		from := at.Addr().Unmap()
		if c.enter(from) {
			return &connection{Conn: conn, leave: sync.OnceFunc(func() { c.leave(from) })}, nil
		}
		conn.Close()
	}
}

func (c *connections) enter(from netip.Addr) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	each := c.each
	for _, p := range c.proxies {
		if p.Contains(from) {
			each = c.all
		}
	}
	if c.open < c.all && c.from[from] < each {
		c.open++
		c.from[from]++
		return true
	}
	if time.Since(c.warned) > time.Minute {
		c.warned = time.Now()
		slog.Warn("a connection is refused: too many are open", "from", from, "from there", c.from[from], "in all", c.open)
	}
	return false
}

func (c *connections) leave(from netip.Addr) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open--
	if c.from[from]--; c.from[from] <= 0 {
		delete(c.from, from)
	}
}

// connection is one of them. What is written to it has to be taken in time: a client that does not read ends
// its answer.
type connection struct {
	net.Conn
	leave func()
}

func (c *connection) Write(b []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(writeWithin)); err != nil {
		return 0, err
	}
	return c.Conn.Write(b)
}

func (c *connection) Close() error {
	defer c.leave()
	return c.Conn.Close()
}
