package link

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"magpie/internal/dialect"
)

// filePorts are where files are moved when nothing else is said.
var filePorts = map[string]int{"sftp": 22, "scp": 22, "ftp": 21, "ftps": 21, "tftp": 69}

// fileTarget is where a device's files are moved: over the SSH connection that
// stands already, or at a port of the same address.
func (s *Session) fileTarget(f *dialect.FilePlace) Target {
	t := s.call.Target
	t.Port = cmp.Or(t.Ports[f.Over], f.Port, filePorts[f.Over])
	return t
}

// ssh returns an SSH connection for moving files: the one that stands, or one
// of its own.
func (s *Session) ssh(f *dialect.FilePlace) (*ssh.Client, func(), error) {
	if s.client != nil && s.call.Target.Ports[f.Over] == 0 && (f.Port == 0 || f.Port == s.call.Target.Port) {
		return s.client, func() {}, nil
	}
	client, stop, err := signIn(s.ctx, s.d.Reach.Legacy, s.d.Connect, s.fileTarget(f), s.call.Credential, s.call.Warn)
	if err != nil {
		return nil, nil, err
	}
	return client, func() { stop(); client.Close() }, nil
}

// getFile fetches a file from the device.
func (s *Session) getFile(f *dialect.FilePlace, name string, to *flow) error {
	if err := s.call.Guard(); err != nil {
		return err
	}
	what := fmt.Sprintf("fetching %s by %s", name, f.Over)
	switch f.Over {
	case "sftp":
		client, done, err := s.ssh(f)
		if err != nil {
			return err
		}
		defer done()
		c, err := sftp.NewClient(client)
		if err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		defer c.Close()
		r, err := c.Open(name)
		if err != nil {
			return fmt.Errorf("%s: %w", what, refusedFile(err))
		}
		size, err := sizeOf(r)
		if err != nil {
			r.Close()
			return fmt.Errorf("%s: %w", what, err)
		}
		to.said = size
		err = pour(s.ctx, r, to, s.d.Answer, s.d.Idle, what)
		r.Close()
		if err == nil && size > 0 && to.size != size {
			err = fmt.Errorf("the device says that it has %d bytes, %d came", size, to.size)
		}
		return err
	case "scp":
		client, done, err := s.ssh(f)
		if err != nil {
			return err
		}
		defer done()
		return scpGet(s.ctx, client, name, to, s.d.Answer, s.d.Idle)
	case "tftp":
		s.call.Warn("TFTP carries the configuration unencrypted and asks for no password")
		raw, err := TFTPGet(s.ctx, s.call.Target.Address, s.fileTarget(f).Port, name, min(s.d.Idle, 2*time.Second))
		_, e := to.Write(raw)
		return cmp.Or(err, e)
	default:
		c, done, err := s.ftp(f)
		if err != nil {
			return err
		}
		defer done()
		size, sized := c.FileSize(name)
		r, err := c.Retr(name)
		if err != nil {
			return fmt.Errorf("%s: %w", what, refusedFile(err))
		}
		if sized == nil {
			to.said = size
		}
		err = pour(s.ctx, r, to, s.d.Answer, s.d.Idle, what)
		if e := r.Close(); err == nil && e != nil {
			err = fmt.Errorf("%s: the transfer was not ended well: %w", what, e)
		}
		if err == nil && sized == nil && size != to.size {
			err = fmt.Errorf("the device says that it has %d bytes, %d came", size, to.size)
		}
		return err
	}
}

// sizeOf is how many bytes the server says that an open file has. Some servers do not know
// SSH_FXP_FSTAT, and some give 0 for a file that they make as it is read: 0 stands for both.
// That all of it came is then known by the end of the file, which such a server says too.
func sizeOf(f *sftp.File) (int64, error) {
	info, err := f.Stat()
	var status *sftp.StatusError
	switch {
	case errors.As(err, &status), errors.Is(err, os.ErrNotExist), errors.Is(err, os.ErrPermission):
		return 0, nil
	case err != nil:
		return 0, err
	}
	return info.Size(), nil
}

// putFile writes a file to the device.
func (s *Session) putFile(f *dialect.FilePlace, name string, data Content) error {
	if err := s.call.Guard(); err != nil {
		return err
	}
	from := data.open()
	defer from.Close()
	switch f.Over {
	case "sftp":
		client, done, err := s.ssh(f)
		if err != nil {
			return err
		}
		defer done()
		c, err := sftp.NewClient(client)
		if err != nil {
			return err
		}
		defer c.Close()
		w, err := c.Create(name)
		if err != nil {
			return refusedFile(err)
		}
		if _, err = io.CopyBuffer(onlyWriter{w}, from, make([]byte, 256<<10)); err != nil {
			w.Close()
			return refusedFile(err)
		}
		return refusedFile(w.Close())
	case "scp":
		client, done, err := s.ssh(f)
		if err != nil {
			return err
		}
		defer done()
		return scpPut(s.ctx, client, name, from, data.size(), s.d.Answer)
	case "tftp":
		s.call.Warn("TFTP carries the configuration unencrypted and asks for no password")
		raw, err := data.whole("TFTP")
		if err != nil {
			return err
		}
		return TFTPPut(s.ctx, s.call.Target.Address, s.fileTarget(f).Port, name, raw, min(s.d.Idle, 2*time.Second))
	default:
		c, done, err := s.ftp(f)
		if err != nil {
			return err
		}
		defer done()
		return refusedFile(c.Stor(name, from))
	}
}

// onlyWriter hides how else one can be written to.
type onlyWriter struct{ io.Writer }

// refusedFile makes a server's "no" a refusal of the device's.
func refusedFile(err error) error {
	var status *sftp.StatusError
	var reply *textproto.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &status):
		return &Refused{Means: "refused", Words: strings.TrimPrefix(status.Error(), "sftp: ")}
	case errors.As(err, &reply):
		return &Refused{Means: "refused", Words: reply.Error()}
	case strings.Contains(err.Error(), "not exist"), strings.Contains(err.Error(), "permission denied"):
		return &Refused{Means: "refused", Words: err.Error()}
	}
	return err
}

// ftp signs in to the device's FTP server (RFC 959), over TLS where the dialect
// says ftps (RFC 4217, explicit). The certificate is held to the pinned one.
func (s *Session) ftp(f *dialect.FilePlace) (*ftp.ServerConn, func(), error) {
	t := s.fileTarget(f)
	options := []ftp.DialOption{ftp.DialWithTimeout(s.d.Connect), ftp.DialWithContext(s.ctx), ftp.DialWithShutTimeout(s.d.Idle),
		ftp.DialWithDisabledEPSV(false)}
	if f.Over == "ftps" {
		// With TLS 1.3 the tickets a server sends after the handshake lie unread when
		// we close an upload's connection, which resets it under the server's hands.
		c := pinned(s.call.Target, nil)
		c.MaxVersion = tls.VersionTLS12
		options = append(options, ftp.DialWithExplicitTLS(c))
	} else {
		s.call.Warn("FTP carries password and configuration unencrypted")
	}
	c, err := ftp.Dial(net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), options...)
	if err != nil {
		var reply *textproto.Error
		if errors.As(err, &reply) {
			return nil, nil, &Refused{Means: "refused", Words: reply.Error()}
		}
		return nil, nil, fmt.Errorf("%w: FTP at %s port %d: %v", ErrUnreachable, t.Address, t.Port, err)
	}
	if err := c.Login(s.call.Credential.User, s.call.Credential.Password); err != nil {
		_ = c.Quit()
		var network net.Error
		if errors.As(err, &network) || errors.Is(err, io.EOF) {
			return nil, nil, fmt.Errorf("signing in by FTP: %w", ErrCut)
		}
		return nil, nil, fmt.Errorf("%w for user %s by FTP: %v", ErrLoginRefused, s.call.Credential.User, err)
	}
	stop := context.AfterFunc(s.ctx, func() { _ = c.Quit() })
	return c, func() { stop(); _ = c.Quit() }, nil
}

// pinned is a TLS configuration that takes the certificate accepted for a
// device and no other. Without one, the usual authorities are asked.
func pinned(t Target, seen func(fingerprint string)) *tls.Config {
	return &tls.Config{ServerName: t.Address, InsecureSkipVerify: t.HostKey != "", MinVersion: tls.VersionTLS12, ClientSessionCache: tls.NewLRUClientSessionCache(4),
		VerifyConnection: func(cs tls.ConnectionState) error {
			shown := certificate(cs.PeerCertificates[0].Raw)
			if seen != nil {
				seen(shown)
			}
			if t.HostKey != "" && shown != t.HostKey {
				return &HostKeyError{Accepted: Fingerprint(t.HostKey), Shown: Fingerprint(shown), Key: shown}
			}
			return nil
		}}
}

// scpGet fetches one file by the protocol that scp -f speaks.
func scpGet(ctx context.Context, client *ssh.Client, name string, to *flow, answer, idle time.Duration) error {
	ch, in, out, err := scp(client, "scp -f "+quote(name))
	if err != nil {
		return err
	}
	defer ch.Close()
	p := newPump(ctx, out)
	defer p.stop()
	r := bufio.NewReader(&pumpReader{p, answer, idle, "fetching " + name + " by scp"})
	if _, err := in.Write([]byte{0}); err != nil {
		return ErrCut
	}
	for {
		head, err := r.ReadString('\n')
		if err != nil {
			return eofIsCut(err)
		}
		switch head[0] {
		case 'T': // times: not wanted
			if _, err := in.Write([]byte{0}); err != nil {
				return ErrCut
			}
			continue
		case 1, 2:
			return &Refused{Means: "refused", Words: strings.TrimSpace(head[1:])}
		case 'C':
		default:
			return fmt.Errorf("the device does not speak scp: it answers %q", cutTo(strings.TrimSpace(head), 60))
		}
		f := strings.Fields(head)
		size := int64(-1)
		if len(f) >= 3 {
			size, _ = strconv.ParseInt(f[1], 10, 64)
		}
		if size < 0 || size > Limit && to.open == nil {
			return fmt.Errorf("the device announces a file of %q bytes", cutTo(strings.Join(f, " "), 40))
		}
		if _, err := in.Write([]byte{0}); err != nil {
			return ErrCut
		}
		to.said = size
		if _, err := io.CopyN(to, r, size); err != nil {
			return eofIsCut(err)
		}
		b, err := r.ReadByte()
		if err != nil {
			return eofIsCut(err)
		}
		if b != 0 {
			words, _ := r.ReadString('\n')
			return &Refused{Means: "refused", Words: strings.TrimSpace(words)}
		}
		_, _ = in.Write([]byte{0})
		return nil
	}
}

// scpPut writes one file by the protocol that scp -t speaks.
func scpPut(ctx context.Context, client *ssh.Client, name string, from io.Reader, size int64, answer time.Duration) error {
	ch, in, out, err := scp(client, "scp -t "+quote(name))
	if err != nil {
		return err
	}
	defer ch.Close()
	p := newPump(ctx, out)
	defer p.stop()
	r := bufio.NewReader(&pumpReader{p, answer, answer, "writing " + name + " by scp"})
	ok := func() error {
		b, err := r.ReadByte()
		if err != nil {
			return eofIsCut(err)
		}
		if b != 0 {
			words, _ := r.ReadString('\n')
			return &Refused{Means: "refused", Words: strings.TrimSpace(words)}
		}
		return nil
	}
	if err := ok(); err != nil {
		return err
	}
	if _, err := fmt.Fprintf(in, "C0600 %d %s\n", size, path.Base(name)); err != nil {
		return ErrCut
	}
	if err := ok(); err != nil {
		return err
	}
	body := &failing{Reader: from}
	if _, err := io.CopyN(in, body, size); err != nil {
		if body.err != nil && body.err != io.EOF {
			return body.err
		}
		return ErrCut
	}
	if _, err := in.Write([]byte{0}); err != nil {
		return ErrCut
	}
	return ok()
}

// failing remembers what reading failed with.
type failing struct {
	io.Reader
	err error
}

func (f *failing) Read(b []byte) (n int, err error) {
	n, err = f.Reader.Read(b)
	f.err = err
	return n, err
}

func scp(client *ssh.Client, command string) (*ssh.Session, io.WriteCloser, io.Reader, error) {
	ch, in, out, err := channel(client)
	if err != nil {
		return nil, nil, nil, err
	}
	return ch, in, out, ch.Start(command)
}

// quote makes a path one word of a shell.
func quote(s string) string {
	if strings.ContainsAny(s, " '\"\\$`;&|<>()*?[]{}~#\n\t") {
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	return s
}

func eofIsCut(err error) error {
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return ErrCut
	}
	return err
}

// pumpReader reads from a pump as an io.Reader.
type pumpReader struct {
	p           *pump
	first, idle time.Duration
	what        string
}

func (r *pumpReader) Read(b []byte) (int, error) {
	chunk, err := r.p.take(len(b), r.first, r.what)
	r.first = r.idle
	return copy(b, chunk), err
}
