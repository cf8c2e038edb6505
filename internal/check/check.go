// Package check asks, from where the service stands, whether something answers:
// before a push and after it.
package check

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// Within is how long one check may take.
const Within = 5 * time.Second

// Check is one question. Written, it is its words with blanks between:
//
//	tcp HOST:PORT             a connection is taken
//	http URL [STATUS]         the answer has that status, or one below 400
//	dns NAME [at SERVER]      the name has an address
//	ssh HOST[:PORT]           an SSH server says its version (RFC 4253 §4.2)
//	ping ADDRESS              an ICMP echo is answered (RFC 792, RFC 4443)
//	from DEVICE ping ADDRESS  the same, asked by a device
//	device NAME               a device takes connections where the service looks for it
//	children                  each of the devices that hang on the one pushed to does
//	state NAME                nothing is missing that the device pushed to showed before
type Check struct {
	Kind   string // tcp, http, dns, ssh, ping, device, children, state
	Target string
	Server string // dns: who is asked
	Status int    // http: what is wanted; 0: anything below 400
	From   string // the device that asks; empty: this service
}

// ErrSyntax is returned by Parse.
var ErrSyntax = errors.New("a check is one of: tcp HOST:PORT, http URL [STATUS], dns NAME [at SERVER], ssh HOST[:PORT], ping ADDRESS, from DEVICE ping ADDRESS, device NAME, children, state NAME")

// Parse reads a check.
func Parse(s string) (c Check, err error) {
	wrong := func(why string, args ...any) (Check, error) {
		return Check{}, fmt.Errorf("check %q: %s; %w", s, fmt.Sprintf(why, args...), ErrSyntax)
	}
	w := strings.Fields(s)
	if len(w) == 1 && w[0] == "children" {
		return Check{Kind: w[0]}, nil
	}
	if len(w) >= 2 && w[0] == "from" {
		c.From, w = w[1], w[2:]
		if len(w) == 0 || w[0] != "ping" {
			return wrong("a device can only be told to ping")
		}
	}
	if len(w) < 2 {
		return wrong("it has no target")
	}
	c.Kind, c.Target = w[0], w[1]
	rest := w[2:]
	switch c.Kind {
	case "tcp", "ssh":
		if _, _, err := net.SplitHostPort(c.Target); err != nil && c.Kind == "ssh" {
			c.Target = net.JoinHostPort(c.Target, "22")
		}
		_, port, err := net.SplitHostPort(c.Target)
		if n, e := strconv.Atoi(port); err != nil || e != nil || n < 1 || n > 65535 {
			return wrong("%s has no port", c.Target)
		}
	case "http":
		u, err := url.Parse(c.Target)
		if err != nil || u.Host == "" || !slices.Contains([]string{"http", "https"}, u.Scheme) {
			return wrong("%s is no http or https address", c.Target)
		}
		if u.User != nil {
			return wrong("an address with a password in it is not kept")
		}
		if len(rest) > 0 {
			if c.Status, err = strconv.Atoi(rest[0]); err != nil || c.Status < 100 || c.Status > 599 {
				return wrong("%s is no HTTP status", rest[0])
			}
			rest = rest[1:]
		}
	case "dns":
		if len(rest) == 2 && rest[0] == "at" {
			c.Server, rest = rest[1], nil
			if _, _, err := net.SplitHostPort(c.Server); err != nil {
				c.Server = net.JoinHostPort(c.Server, "53")
			}
		}
	case "device", "state":
	case "ping":
		// What a device is told must not be more than an address.
		if _, err := netip.ParseAddr(c.Target); err != nil {
			return wrong("%s is no IP address", c.Target)
		}
	default:
		return wrong("%q is no kind of check", c.Kind)
	}
	if len(rest) > 0 {
		return wrong("%q is too much", strings.Join(rest, " "))
	}
	return c, nil
}

// String writes a check as Parse reads it.
func (c Check) String() string {
	out := strings.TrimSpace(c.Kind + " " + c.Target)
	if c.Server != "" {
		out += " at " + c.Server
	}
	if c.Status != 0 {
		out += " " + strconv.Itoa(c.Status)
	}
	if c.From != "" {
		out = "from " + c.From + " " + out
	}
	return out
}

// Host is the host that this service dials for the check, a name or an address; empty: none that the check names.
func (c Check) Host() string {
	switch {
	case c.From != "":
		return ""
	case c.Kind == "tcp" || c.Kind == "ssh":
		host, _, _ := net.SplitHostPort(c.Target)
		return host
	case c.Kind == "http":
		u, err := url.Parse(c.Target)
		if err != nil {
			return c.Target
		}
		return u.Hostname()
	case c.Kind == "dns" && c.Server != "":
		host, _, _ := net.SplitHostPort(c.Server)
		return host
	case c.Kind == "ping":
		return c.Target
	}
	return ""
}

// ErrNotHere is returned by Run when a check cannot be made from here at all.
var ErrNotHere = errors.New("this check cannot be made here")

// Run makes the check. said is what came of it, in words. It must not be one
// that a device makes.
func (c Check) Run(ctx context.Context) (good bool, said string, err error) {
	ctx, cancel := context.WithTimeout(ctx, Within)
	defer cancel()
	began := time.Now()
	said, err = c.ask(ctx)
	if errors.Is(err, ErrNotHere) {
		return false, err.Error(), err
	}
	if err != nil {
		return false, short(err), nil
	}
	return true, fmt.Sprintf("%s in %d ms", said, time.Since(began).Milliseconds()), nil
}

func short(err error) string {
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		err = op.Err
	}
	var call *os.SyscallError
	if errors.As(err, &call) {
		err = call.Err
	}
	if late, ok := err.(net.Error); ok && late.Timeout() || errors.Is(err, context.DeadlineExceeded) {
		return fmt.Sprintf("nothing came for %s", Within)
	}
	return err.Error()
}

func (c Check) ask(ctx context.Context) (string, error) {
	switch c.Kind {
	case "tcp", "ssh":
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", c.Target)
		if err != nil {
			return "", err
		}
		defer conn.Close()
		if c.Kind == "tcp" {
			return "connected", nil
		}
		deadline, _ := ctx.Deadline()
		_ = conn.SetDeadline(deadline)
		in := bufio.NewReaderSize(conn, 512)
		for range 20 { // other lines may come first
			line, err := in.ReadSlice('\n')
			if err != nil {
				return "", err
			}
			if v, ok := strings.CutPrefix(string(line), "SSH-"); ok {
				return "SSH-" + strings.TrimSpace(v), nil
			}
		}
		return "", errors.New("it answers, but not as an SSH server")
	case "http":
		req, err := http.NewRequestWithContext(ctx, "GET", c.Target, nil)
		if err != nil {
			return "", err
		}
		// Whether it answers is asked, not who it is.
		client := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		res, err := client.Do(req)
		if err != nil {
			var u *url.Error
			if errors.As(err, &u) {
				err = u.Err
			}
			return "", err
		}
		res.Body.Close()
		if c.Status != 0 && res.StatusCode != c.Status || c.Status == 0 && res.StatusCode >= 400 {
			return "", fmt.Errorf("the answer is %s", res.Status)
		}
		return res.Status, nil
	case "dns":
		r := net.Resolver{}
		if c.Server != "" {
			r.PreferGo = true
			r.Dial = func(ctx context.Context, network, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, c.Server)
			}
		}
		found, err := r.LookupHost(ctx, c.Target)
		if err != nil {
			var d *net.DNSError
			if errors.As(err, &d) {
				err = errors.New(d.Err)
			}
			return "", err
		}
		return strings.Join(found, ", "), nil
	}
	return "answered", ping(ctx, c.Target)
}

// ping sends one ICMP echo request and waits for its answer.
func ping(ctx context.Context, target string) error {
	to, err := netip.ParseAddr(target)
	if err != nil {
		return err
	}
	six := to.Is6() && !to.Is4In6()
	kinds := []struct{ network, listen string }{{"udp4", "0.0.0.0"}, {"ip4:icmp", "0.0.0.0"}}
	request, number := icmp.Type(ipv4.ICMPTypeEcho), 1
	if six {
		kinds = []struct{ network, listen string }{{"udp6", "::"}, {"ip6:ipv6-icmp", "::"}}
		request, number = ipv6.ICMPTypeEchoRequest, 58
	}
	var conn *icmp.PacketConn
	var at net.Addr
	for _, k := range kinds {
		if conn, err = icmp.ListenPacket(k.network, k.listen); err == nil {
			if at = (&net.IPAddr{IP: to.AsSlice(), Zone: to.Zone()}); strings.HasPrefix(k.network, "udp") {
				at = &net.UDPAddr{IP: to.AsSlice(), Zone: to.Zone()}
			}
			break
		}
	}
	if conn == nil {
		if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES) {
			return fmt.Errorf("%w: the system does not let this program send ICMP", ErrNotHere)
		}
		return err
	}
	defer conn.Close()
	deadline, _ := ctx.Deadline()
	_ = conn.SetDeadline(deadline)
	mark := strconv.FormatInt(time.Now().UnixNano(), 36)
	raw, err := (&icmp.Message{Type: request, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: 1, Data: []byte(mark)}}).Marshal(nil)
	if err != nil {
		return err
	}
	if _, err := conn.WriteTo(raw, at); err != nil {
		return err
	}
	for buf := make([]byte, 1500); ; {
		n, _, err := conn.ReadFrom(buf)
		if err != nil {
			return err
		}
		m, err := icmp.ParseMessage(number, buf[:n])
		if err != nil {
			continue
		}
		if echo, ok := m.Body.(*icmp.Echo); ok && m.Type != request && string(echo.Data) == mark {
			return nil
		}
	}
}
