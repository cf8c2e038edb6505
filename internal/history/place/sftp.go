package place

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"path"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// reachWithin is how long reaching a server may take.
const reachWithin = 20 * time.Second

type sftpPlace struct {
	*sftp.Client
	conn *ssh.Client
	stop func() bool
	root string
}

func openSFTP(ctx context.Context, w Way) (Place, error) {
	u, err := url.Parse(w.Where)
	if err != nil {
		return nil, err
	}
	config, err := w.sshConfig(u)
	if err != nil {
		return nil, err
	}
	address := net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "22"))
	raw, err := (&net.Dialer{Timeout: reachWithin}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("no connection to %s: %w", address, cause(err))
	}
	_ = raw.SetDeadline(time.Now().Add(reachWithin))
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	conn, chans, reqs, err := ssh.NewClientConn(raw, address, config)
	if err != nil {
		stop()
		raw.Close()
		return nil, signing(err, address)
	}
	_ = raw.SetDeadline(time.Time{})
	s := &sftpPlace{conn: ssh.NewClient(conn, chans, reqs), stop: stop, root: u.Path}
	if s.Client, err = sftp.NewClient(s.conn); err != nil {
		s.conn.Close()
		return nil, fmt.Errorf("%s offers no SFTP: %w", address, err)
	}
	if st, err := s.Stat(s.root); err != nil || !st.IsDir() {
		s.Close()
		return nil, fmt.Errorf("%s has no folder %s: %v", address, s.root, cmp.Or(err, errors.New("it is a file")))
	}
	return s, nil
}

// signing words why signing in failed; of a host key its own error is kept.
func signing(err error, address string) error {
	var key *HostKeyError
	if errors.As(err, &key) {
		return key
	}
	return fmt.Errorf("%s does not let us in: %w", address, err)
}

// cause is what of an error of the network is news.
func cause(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}

// sshConfig is how one signs in by SSH: to a server whose host key was accepted only.
func (w Way) sshConfig(u *url.URL) (*ssh.ClientConfig, error) {
	c := &ssh.ClientConfig{User: cmp.Or(w.User, u.User.Username()), Timeout: reachWithin,
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			if shown := ssh.FingerprintSHA256(k); shown != w.HostKey {
				return &HostKeyError{u.Host, shown, w.HostKey != ""}
			}
			return nil
		}}
	if w.Key != "" {
		k, err := ssh.ParsePrivateKey([]byte(w.Key))
		if err != nil {
			return nil, fmt.Errorf("%w: the key cannot be read: %w", ErrWay, err)
		}
		c.Auth = append(c.Auth, ssh.PublicKeys(k))
	}
	if w.Password != "" {
		c.Auth = append(c.Auth, ssh.Password(w.Password), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = w.Password
			}
			return answers, nil
		}))
	}
	return c, nil
}

func (s *sftpPlace) Put(_ context.Context, name string, size int64, from io.Reader) error {
	to, err := inside(s.root, name)
	if err != nil {
		return err
	}
	if err := s.MkdirAll(path.Dir(to)); err != nil {
		return fmt.Errorf("folder %s: %w", path.Dir(to), err)
	}
	b := make([]byte, 6)
	_, _ = rand.Read(b)
	part := path.Join(path.Dir(to), ".part-"+hex.EncodeToString(b))
	f, err := s.Create(part)
	if err != nil {
		return err
	}
	err = exactly(f, from, size)
	if err == nil {
		if e := f.Sync(); e != nil && !errors.Is(e, sftp.ErrSSHFxOpUnsupported) { // an extension, where there is one
			err = e
		}
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = s.PosixRename(part, to)
		if err != nil { // servers without that extension overwrite nothing
			_ = s.Client.Remove(to)
			err = s.Rename(part, to)
		}
	}
	if err != nil {
		_ = s.Client.Remove(part)
	}
	return err
}

func (s *sftpPlace) Get(_ context.Context, name string) (io.ReadCloser, error) {
	at, err := inside(s.root, name)
	if err != nil {
		return nil, err
	}
	f, err := s.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", name, ErrAbsent)
	}
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (s *sftpPlace) Remove(_ context.Context, name string) error {
	at, err := inside(s.root, name)
	if err == nil {
		err = s.Client.Remove(at)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (s *sftpPlace) Free(context.Context) (int64, bool) {
	st, err := s.StatVFS(s.root)
	if err != nil {
		return 0, false
	}
	return int64(st.Bavail * st.Frsize), true
}

func (s *sftpPlace) Close() error {
	s.stop()
	return errors.Join(s.Client.Close(), s.conn.Close())
}
