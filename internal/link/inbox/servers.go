package inbox

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	gssh "github.com/gliderlabs/ssh"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"magpie/internal/link"
)

// serveHTTPS takes files by PUT and gives them by GET. The certificate is
// self-signed and made anew at each start.
func (b *Inbox) serveHTTPS(port int, _ []byte) (int, func(), error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return 0, nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: b.config.Address},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0), DNSNames: []string{b.config.Address}}
	if ip := net.ParseIP(b.config.Address); ip != nil {
		t.IPAddresses, t.DNSNames = []net.IP{ip}, nil
	}
	cert, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return 0, nil, err
	}
	l, at, err := b.listen(port)
	if err != nil {
		return 0, nil, err
	}
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, ReadTimeout: Expiry, TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12,
		Certificates: []tls.Certificate{{Certificate: [][]byte{cert}, PrivateKey: key}}},
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			from, _ := net.ResolveTCPAddr("tcp", r.RemoteAddr)
			put := r.Method == http.MethodPut
			if !put && r.Method != http.MethodGet {
				w.WriteHeader(http.StatusMethodNotAllowed)
				return
			}
			slot, err := b.claim("https", r.URL.Path, from, !put)
			if err != nil {
				http.Error(w, err.Error(), http.StatusNotFound)
				return
			}
			if !put {
				_, err := w.Write(slot.give)
				b.taken(slot, nil, err)
				return
			}
			raw, err := limited(r.Body)
			b.taken(slot, raw, err)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
			w.WriteHeader(http.StatusCreated)
		})}
	go func() { _ = s.ServeTLS(l, "", "") }()
	return at, func() { l.Close(); s.Close() }, nil
}

// limited reads a whole file, up to what a device may send.
func limited(r io.Reader) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, link.Limit+1))
	if err == nil && len(raw) > link.Limit {
		err = link.ErrEndless
	}
	return raw, err
}

// serveSSH takes and gives files by SFTP, and by the protocol that scp speaks.
// Any user and password opens it: the path is what counts.
func (b *Inbox) serveSSH(port int, hostKey []byte) (int, func(), error) {
	l, at, err := b.listen(port)
	if err != nil {
		return 0, nil, err
	}
	signer, err := ssh.ParsePrivateKey(hostKey)
	if err != nil {
		l.Close()
		return 0, nil, fmt.Errorf("host key: %w", err)
	}
	s := &gssh.Server{
		PasswordHandler:   func(gssh.Context, string) bool { return true },
		SubsystemHandlers: map[string]gssh.SubsystemHandler{"sftp": func(s gssh.Session) { b.sftp(s) }},
		Handler:           b.scp, IdleTimeout: time.Minute, MaxTimeout: Expiry,
	}
	s.AddHostKey(signer)
	go func() { _ = s.Serve(l) }()
	return at, func() { l.Close(); s.Close() }, nil
}

func (b *Inbox) sftp(s gssh.Session) {
	h := sftpFiles{b, s.RemoteAddr()}
	_ = sftp.NewRequestServer(s, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h}).Serve()
}

type sftpFiles struct {
	b    *Inbox
	from net.Addr
}

func (h sftpFiles) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	s, err := h.b.claim("sftp", r.Filepath, h.from, true)
	if err != nil {
		return nil, os.ErrNotExist
	}
	return bytes.NewReader(s.give), nil
}

func (h sftpFiles) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	s, err := h.b.claim("sftp", r.Filepath, h.from, false)
	if err != nil {
		return nil, os.ErrPermission
	}
	return &sftpWriter{b: h.b, s: s}, nil
}

func (h sftpFiles) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" {
		return nil
	}
	return sftp.ErrSSHFxPermissionDenied
}

// Filelist tells a file's size to who may fetch it, and lists nothing.
func (h sftpFiles) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	size, ok := h.b.size(r.Filepath, h.from)
	if r.Method == "List" || !ok {
		return nil, os.ErrNotExist
	}
	return one{path.Base(r.Filepath), size}, nil
}

// one is a listing of one file, and the file.
type one struct {
	name string
	size int64
}

func (o one) ListAt(out []os.FileInfo, off int64) (int, error) {
	if off > 0 || len(out) == 0 {
		return 0, io.EOF
	}
	out[0] = o
	return 1, io.EOF
}

func (o one) Name() string       { return o.name }
func (o one) Size() int64        { return o.size }
func (o one) Mode() os.FileMode  { return 0o600 }
func (o one) ModTime() time.Time { return time.Unix(0, 0) }
func (o one) IsDir() bool        { return false }
func (o one) Sys() any           { return nil }

type sftpWriter struct {
	b    *Inbox
	s    *slot
	data []byte
	err  error
}

func (w *sftpWriter) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > link.Limit {
		w.err = link.ErrEndless
		return 0, w.err
	}
	if need := int(off) + len(p); need > len(w.data) {
		w.data = append(w.data, make([]byte, need-len(w.data))...)
	}
	return copy(w.data[off:], p), nil
}

// TransferError is told when the connection breaks in mid-transfer.
func (w *sftpWriter) TransferError(err error) { w.err = err }

func (w *sftpWriter) Close() error {
	w.b.taken(w.s, w.data, w.err)
	return w.err
}

// scp answers scp -t PATH (a device sends) and scp -f PATH (it fetches).
func (b *Inbox) scp(s gssh.Session) {
	words := s.Command()
	fail := func(why string) {
		fmt.Fprintf(s, "\x01%s\n", why)
		_ = s.Exit(1)
	}
	if len(words) < 3 || words[0] != "scp" {
		fail("only files are moved here")
		return
	}
	name, send, fetch := words[len(words)-1], false, false
	for _, w := range words[1 : len(words)-1] {
		send, fetch = send || w == "-t", fetch || w == "-f"
	}
	r := bufio.NewReader(s)
	ok := func() bool {
		c, err := r.ReadByte()
		return err == nil && c == 0
	}
	switch {
	case fetch:
		slot, err := b.claim("sftp", name, s.RemoteAddr(), true)
		if err != nil {
			fail(err.Error())
			return
		}
		sent := ok()
		fmt.Fprintf(s, "C0600 %d %s\n", len(slot.give), path.Base(name))
		sent = sent && ok()
		_, _ = s.Write(append(bytes.Clone(slot.give), 0))
		if !ok() || !sent {
			b.taken(slot, nil, io.ErrUnexpectedEOF)
		}
	case send:
		slot, err := b.claim("sftp", name, s.RemoteAddr(), false)
		if err != nil {
			fail(err.Error())
			return
		}
		raw, err := scpTake(r, s)
		b.taken(slot, raw, err)
		if err != nil {
			fail(err.Error())
			return
		}
	}
	_ = s.Exit(0)
}

func scpTake(r *bufio.Reader, w io.Writer) ([]byte, error) {
	for {
		_, _ = w.Write([]byte{0})
		head, err := r.ReadString('\n')
		if err != nil {
			return nil, err
		}
		if head[0] == 'T' {
			continue
		}
		f := strings.Fields(head)
		if head[0] != 'C' || len(f) < 3 {
			return nil, fmt.Errorf("not understood: %q", head)
		}
		size, err := strconv.Atoi(f[1])
		if err != nil || size < 0 || size > link.Limit {
			return nil, link.ErrEndless
		}
		_, _ = w.Write([]byte{0})
		raw := make([]byte, size+1)
		if _, err := io.ReadFull(r, raw); err != nil {
			return nil, err
		}
		_, _ = w.Write([]byte{0})
		return raw[:size], nil
	}
}

// serveFTP takes and gives files by FTP in passive mode (RFC 959, 2428).
func (b *Inbox) serveFTP(port int) (int, func(), error) {
	l, at, err := b.listen(port)
	if err != nil {
		return 0, nil, err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go b.ftp(c)
		}
	}()
	return at, func() { l.Close() }, nil
}

func (b *Inbox) ftp(c net.Conn) {
	defer c.Close()
	r := bufio.NewReader(io.LimitReader(c, 64<<10))
	var data net.Listener
	defer func() {
		if data != nil {
			data.Close()
		}
	}()
	say := func(s string) { _, _ = io.WriteString(c, s+"\r\n") }
	say("220 ready")
	for {
		_ = c.SetDeadline(time.Now().Add(time.Minute))
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		verb, arg, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		switch strings.ToUpper(verb) {
		case "USER":
			say("331 any word will do")
		case "PASS":
			say("230 come in; the path is what counts")
		case "TYPE", "MODE", "STRU", "NOOP", "ALLO", "OPTS":
			say("200 fine")
		case "SYST":
			say("215 UNIX Type: L8")
		case "PWD":
			say(`257 "/"`)
		case "CWD":
			say("250 fine")
		case "QUIT":
			say("221 farewell")
			return
		case "PASV", "EPSV":
			if data != nil {
				data.Close()
			}
			host, _, _ := net.SplitHostPort(c.LocalAddr().String())
			if data, err = net.Listen("tcp", net.JoinHostPort(host, "0")); err != nil {
				say("425 no port is free")
				continue
			}
			p := data.Addr().(*net.TCPAddr).Port
			ip := net.ParseIP(host).To4()
			if strings.EqualFold(verb, "EPSV") || ip == nil {
				say(fmt.Sprintf("229 (|||%d|)", p))
			} else {
				say(fmt.Sprintf("227 (%d,%d,%d,%d,%d,%d)", ip[0], ip[1], ip[2], ip[3], p>>8, p&255))
			}
		case "STOR", "RETR":
			if data == nil {
				say("425 passive mode only")
				continue
			}
			b.ftpTransfer(c, data, arg, strings.EqualFold(verb, "RETR"), say)
			data = nil
		default:
			say("502 not here")
		}
	}
}

func (b *Inbox) ftpTransfer(c net.Conn, data net.Listener, name string, read bool, say func(string)) {
	defer data.Close()
	s, err := b.claim("ftp", name, c.RemoteAddr(), read)
	if err != nil {
		say("550 " + err.Error())
		return
	}
	say("150 go ahead")
	_ = data.(*net.TCPListener).SetDeadline(time.Now().Add(30 * time.Second))
	d, err := data.Accept()
	var raw []byte
	if err == nil {
		_ = d.SetDeadline(time.Now().Add(Expiry))
		mine, _, _ := net.SplitHostPort(c.RemoteAddr().String())
		theirs, _, _ := net.SplitHostPort(d.RemoteAddr().String())
		switch {
		case mine != theirs:
			err = fmt.Errorf("the data connection came from another address")
		case read:
			_, err = d.Write(s.give)
		default:
			raw, err = limited(d)
		}
		d.Close()
	}
	b.taken(s, raw, err)
	if err != nil {
		say("426 " + err.Error())
		return
	}
	say("226 done")
}
