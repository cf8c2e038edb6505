package api

import (
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/ssh"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

var wireRelay = wire.Make[client.Relay, store.Relay]()

func (s *Server) relays(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).Relays(c.Request.Context())
	list(c, all, err, func(r store.Relay) string { return r.ID }, wireRelay)
}

// openRelay turns the request's own connection around (RFC 9110 §7.8): from then
// on the machine that asked is an SSH server on it which opens connections for
// us (RFC 4254 §7.2), to the addresses that it was told here and to no other.
func (s *Server) openRelay(c *gin.Context) {
	a, ctx := actor(c), c.Request.Context()
	if !strings.EqualFold(c.GetHeader("Upgrade"), client.RelayProtocol) {
		fail(c, &client.Problem{Status: 426, Title: "nothing to turn around", Detail: "a relay is opened by a request that offers to upgrade to " + client.RelayProtocol, Next: "magpie relay DEVICE"})
		return
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(c.GetHeader(client.RelayKeyHeader)))
	if err != nil {
		fail(c, bad("the relay shows no key", "magpie relay DEVICE"))
		return
	}
	long, err := time.ParseDuration(c.Query("for"))
	if err != nil || long < visit.MinRelay || long > visit.MaxRelay {
		fail(c, wrong("for", fmt.Sprintf("%q is no time that a relay may be open", c.Query("for")), fmt.Sprintf("write it like 30m; from %s to %s", core.Span(visit.MinRelay), core.Span(visit.MaxRelay))))
		return
	}
	at := c.Query("at")
	if len(at) > 255 || strings.ContainsAny(at, " /\t\n") {
		fail(c, wrong("at", "this is no address", "write it as HOST or HOST:PORT"))
		return
	}
	d, err := s.Jobs.Store.As(a).Device(ctx, c.Query("device"))
	var reaches []string
	if err == nil {
		reaches, err = s.Visits.RelayFor(d, at)
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	conn, _, err := c.Writer.Hijack()
	if err != nil {
		fail(c, bad("the connection cannot be turned around; a relay needs HTTP/1.1 all the way to the service", "look at what stands between"))
		return
	}
	until := s.Jobs.Now().Add(long)
	fmt.Fprintf(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: %s\r\n%s: %s\r\n\r\n", client.RelayProtocol, client.RelayReachHeader, strings.Join(reaches, " "))
	go s.lend(conn, key, a, d, at, reaches, until)
}

// closeRelay ends a relay: one's own, or as admin anybody's.
func (s *Server) closeRelay(c *gin.Context) {
	if err := s.Visits.CloseRelay(c.Request.Context(), actor(c), c.Param("id")); err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}

// lend uses a connection that was turned around until it ends or its time is
// over.
func (s *Server) lend(conn net.Conn, key ssh.PublicKey, a core.Actor, d core.Device, at string, reaches []string, until time.Time) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second)) // who turned it around speaks next, or is not there
	lent, chans, reqs, err := ssh.NewClientConn(conn, "relay", &ssh.ClientConfig{User: "magpie", HostKeyCallback: ssh.FixedHostKey(key)})
	if err != nil {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	far := ssh.NewClient(lent, chans, reqs)
	defer far.Close()
	ctx, cancel := context.WithDeadline(context.Background(), until)
	defer cancel()
	r, err := s.Visits.OpenRelay(ctx, a, d, at, until, func(ctx context.Context, address string) (net.Conn, error) {
		return far.DialContext(ctx, "tcp", address)
	})
	if err != nil {
		_, _, _ = far.SendRequest("refused", false, []byte(err.Error()))
		return
	}
	// The far side is told its name, and asked now and then whether it is still there.
	if _, _, err := far.SendRequest("opened", true, []byte(r.ID)); err != nil {
		return
	}
	go func() { // it ends when somebody closed it, or who opened it may not any more
		for ctx.Err() == nil {
			time.Sleep(time.Second)
			if why := s.Visits.RelayOver(ctx, r); why != "" {
				_, _, _ = far.SendRequest("refused", false, []byte(why))
				time.Sleep(100 * time.Millisecond)
				far.Close()
			}
		}
	}()
	go func() {
		for ctx.Err() == nil {
			time.Sleep(10 * time.Second)
			gone := time.AfterFunc(20*time.Second, func() { far.Close() })
			_, _, err := far.SendRequest("still there", true, nil)
			gone.Stop()
			if err != nil {
				return
			}
		}
	}()
	go func() {
		select {
		case <-s.Done:
		case <-ctx.Done():
		}
		far.Close()
	}()
	_ = far.Wait()
}

// probeThrough is the way through a relay, if one is named.
func (s *Server) probeThrough(ctx context.Context, a core.Actor, t *link.Target, relay string) error {
	if relay == "" {
		return nil
	}
	dial, err := s.Visits.ProbeRelay(ctx, a, relay)
	if err == nil {
		t.Dial = dial
	}
	return err
}
