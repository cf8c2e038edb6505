package routine

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"slices"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
	"github.com/wneessen/go-mail/smtp"

	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/trust"
)

// ErrNoMail is returned where no mail server is set.
var ErrNoMail = errors.New("no mail server is set; set one: magpie mail set HOST:PORT --from ADDRESS, or in the console under Telling")

// mailSetting is the name under which the mail server is kept.
const mailSetting = "mail"

// MailServer returns who takes mail, and who said so when. ErrNoMail: nobody.
func (s *Service) MailServer(ctx context.Context, actor core.Actor) (m core.MailServer, by string, at time.Time, err error) {
	by, at, err = s.Store.As(actor).Setting(ctx, mailSetting, &m)
	if errors.Is(err, store.ErrNotFound) {
		err = ErrNoMail
	}
	return m, by, at, err
}

// tlsTo is how a server is made sure of: its name is the host's, and those who vouch for it
// are the system's, or the ones given.
func tlsTo(host, ca string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if len(ca) > 32<<10 {
		return nil, errors.New("the certificates that are to vouch for it have more than 32 KiB")
	}
	var err error
	c.RootCAs, err = trust.Authorities(ca)
	return c, err
}

// dial connects to a host and port.
func (t *steps) dial(network, address string) (conn net.Conn, err error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var found []string
	if err := t.do("look up "+host, func() (string, error) {
		found, err = net.DefaultResolver.LookupHost(t.ctx, host)
		return strings.Join(found, ", "), err
	}); err != nil {
		return nil, err
	}
	err = t.do("connect to port "+port, func() (string, error) {
		conn, err = (&net.Dialer{Timeout: 15 * time.Second}).DialContext(t.ctx, network, address)
		if err != nil {
			return "", err
		}
		if until, ok := t.ctx.Deadline(); ok {
			_ = conn.SetDeadline(until)
		}
		return conn.RemoteAddr().String(), nil
	})
	return conn, err
}

// secure puts TLS over a connection.
func (t *steps) secure(conn net.Conn, config *tls.Config) (out *tls.Conn, err error) {
	out = tls.Client(conn, config)
	return out, t.do("TLS", func() (string, error) {
		if err := out.HandshakeContext(t.ctx); err != nil {
			return "", err
		}
		return tlsSaid(out.ConnectionState()), nil
	})
}

func tlsSaid(state tls.ConnectionState) string {
	said := tls.VersionName(state.Version)
	if len(state.PeerCertificates) > 0 {
		said += ", certificate of " + state.PeerCertificates[0].Subject.CommonName
	}
	return said
}

// mail hands a message to the mail server (RFC 5321), one step after the other.
func (t *steps) mail(server core.MailServer, m store.Message) error {
	raw, err := letter(server, m)
	if err != nil {
		return err
	}
	host, _, err := net.SplitHostPort(server.Server)
	if err != nil {
		return err
	}
	config, err := tlsTo(host, server.CA)
	if err != nil {
		return err
	}
	conn, err := t.dial("tcp", server.Server)
	if err != nil {
		return err
	}
	defer conn.Close()
	if server.Security == "tls" {
		if conn, err = t.secure(conn, config); err != nil {
			return err
		}
	}
	var c *smtp.Client
	if err := t.do("greeting", func() (string, error) {
		if c, err = smtp.NewClient(conn, host); err != nil {
			return "", err
		}
		return "", c.Hello("localhost")
	}); err != nil {
		return err
	}
	if server.Security == "starttls" {
		if err := t.do("TLS", func() (string, error) {
			if ok, _ := c.Extension("STARTTLS"); !ok {
				return "", errors.New("the server offers no STARTTLS; another port may, or choose tls or none")
			}
			if err := c.StartTLS(config); err != nil {
				return "", err
			}
			state, _ := c.TLSConnectionState()
			return tlsSaid(state), nil
		}); err != nil {
			return err
		}
	}
	if server.User != "" {
		if err := t.do("sign in as "+server.User, func() (string, error) { return "", signIn(c, server, host) }); err != nil {
			return err
		}
	}
	if err := t.do("sender "+server.From, func() (string, error) { return "", answered(c.Mail(server.From)) }); err != nil {
		return err
	}
	if err := t.do("recipient "+m.Address, func() (string, error) { return "", answered(c.Rcpt(m.Address)) }); err != nil {
		return err
	}
	if err := t.do("message", func() (string, error) {
		w, err := c.Data()
		if err != nil {
			return "", answered(err)
		}
		if err := t.hand(); err != nil {
			return "", err
		}
		if _, err := w.Write(raw); err != nil {
			return "", err
		}
		return "the server took it", answered(w.Close())
	}); err != nil {
		return err
	}
	_ = c.Quit()
	return nil
}

// signIn signs in by the first way that the server offers of those that are safe there.
func signIn(c *smtp.Client, server core.MailServer, host string) error {
	_, offered := c.Extension("AUTH")
	var auth smtp.Auth
	open := server.Security == "none"
	switch methods := strings.Fields(strings.ToUpper(offered)); {
	case slices.Contains(methods, "SCRAM-SHA-256"):
		auth = smtp.ScramSHA256Auth(server.User, server.Password)
	case open:
		return errors.New("the way there is not encrypted and the server offers no SCRAM-SHA-256 (RFC 7677), so the password is not sent; choose starttls or tls")
	case slices.Contains(methods, "PLAIN"):
		auth = smtp.PlainAuth("", server.User, server.Password, host, false)
	case slices.Contains(methods, "LOGIN"):
		auth = smtp.LoginAuth(server.User, server.Password, host, false)
	default:
		return fmt.Errorf("the server offers none of SCRAM-SHA-256, PLAIN, LOGIN; it offers %q", offered)
	}
	return answered(c.Auth(auth))
}

// answered makes what a server said no by known as that.
func answered(err error) error {
	var said *textproto.Error
	if errors.As(err, &said) {
		return &refusedError{said.Error()}
	}
	return err
}

// letter writes a mail (RFC 5322). Its Message-ID stays the same however often it is tried.
func letter(server core.MailServer, m store.Message) ([]byte, error) {
	l := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(l.From(server.From), l.To(m.Address)); err != nil {
		return nil, err
	}
	_, domain, _ := strings.Cut(server.From, "@")
	l.SetMessageIDWithValue(m.ID + "@" + strings.TrimSuffix(domain, ">"))
	l.SetDateWithValue(m.MadeAt)
	l.SetGenHeader(mail.Header("Auto-Submitted"), "auto-generated") // RFC 3834 §5
	l.Subject("[Magpie] " + m.Subject)
	l.SetBodyString(mail.TypeTextPlain, m.Text)
	var b bytes.Buffer
	_, err := l.WriteTo(&b)
	return b.Bytes(), err
}
