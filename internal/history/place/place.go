// Package place keeps files elsewhere: in a folder, at an SFTP server, at a server that takes
// files by HTTP (WebDAV, RFC 4918, or PUT and GET alone), and, as commits, in a Git repository.
package place

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/trust"
)

// Kinds of places.
const (
	Folder = "folder"
	SFTP   = "sftp"
	HTTP   = "http"
	Git    = "git"
)

// Kinds are all of them.
var Kinds = []string{Folder, SFTP, HTTP, Git}

// ErrAbsent is returned for a file that is not there.
var ErrAbsent = errors.New("there is no such file")

// ErrWay is returned for a way that makes no sense.
var ErrWay = errors.New("it cannot be reached like that")

// HostKeyError is returned when a server shows a host key that nobody accepted.
type HostKeyError struct {
	Host, Shown string // Shown: as ssh-keygen prints fingerprints
	Changed     bool   // another one was accepted
}

func (e *HostKeyError) Error() string {
	if e.Changed {
		return fmt.Sprintf("%s shows another host key than the one that was accepted: %s", e.Host, e.Shown)
	}
	return fmt.Sprintf("%s shows host key %s, which nobody has accepted", e.Host, e.Shown)
}

// Way is how a place is reached.
type Way struct {
	Kind     string `json:"kind"`
	Where    string `json:"where"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	Key      string `json:"key,omitempty"`      // private SSH key, PEM or OpenSSH form
	HostKey  string `json:"host_key,omitempty"` // the SSH server's, its fingerprint
	CA       string `json:"ca,omitempty"`       // certificates that vouch for an HTTPS server, PEM; empty: the system's
	Shut     error  `json:"-"`                  // why nothing is known of it
}

// Place takes files, whole or not at all, and gives them back. Paths have slashes and lie within
// the place.
type Place interface {
	// Put keeps a file in the place of whatever has its name. Where it fails, nothing of it is
	// there; but a server that takes files by HTTP may keep what it got until it is put again.
	Put(ctx context.Context, name string, size int64, from io.Reader) error
	// Get opens a file; ErrAbsent: it is not there.
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	// Remove takes a file away; one that is not there is none the worse.
	Remove(ctx context.Context, name string) error
	// Free tells how many bytes there is room for, where the place says so.
	Free(ctx context.Context) (bytes int64, known bool)
	Close() error
}

// Sound tells what of a way makes no sense.
func (w Way) Sound() error {
	no := func(format string, args ...any) error {
		return fmt.Errorf("%w: "+format, append([]any{ErrWay}, args...)...)
	}
	if w.Shut != nil {
		return w.Shut
	}
	if !slices.Contains(Kinds, w.Kind) {
		return no("%q is no kind of target; there are %s", w.Kind, strings.Join(Kinds, ", "))
	}
	u, err := url.Parse(w.Where)
	if err != nil {
		return no("%q cannot be read", w.Where)
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			return no("a password does not belong into the address; give it by itself")
		}
	}
	switch w.Kind {
	case Folder:
		if !filepath.IsAbs(w.Where) || filepath.Clean(w.Where) == "/" {
			return no("a folder is named from the root on, like /srv/copies")
		}
	case SFTP:
		if u.Scheme != "sftp" || u.Hostname() == "" || !path.IsAbs(u.Path) {
			return no("an SFTP server is named like sftp://host:22/srv/copies")
		}
	case HTTP:
		if u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" {
			return no("an HTTP server is named like https://host/copies")
		}
		if u.Scheme == "http" && w.Password != "" && !local(u.Hostname()) {
			return no("a password is not sent to %s in the clear; use https", u.Hostname())
		}
	case Git:
		if !(u.Scheme == "" && filepath.IsAbs(w.Where)) && !slices.Contains([]string{"ssh", "https", "http", "file"}, u.Scheme) {
			return no("a Git repository is named like ssh://git@host/copies.git, https://host/copies.git or /srv/copies.git")
		}
	}
	if w.ssh() {
		if w.User == "" && u.User.Username() == "" {
			return no("a user is missing")
		}
		if w.Password == "" && w.Key == "" {
			return no("a password or a key to sign in with is missing")
		}
	}
	if w.Key != "" {
		if _, err := ssh.ParsePrivateKey([]byte(w.Key)); err != nil {
			return no("the key cannot be read: %v", err)
		}
	}
	_, err = trust.Authorities(w.CA)
	return err
}

func local(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// ssh tells whether a way goes by SSH.
func (w Way) ssh() bool { return w.Kind == SFTP || w.Kind == Git && strings.HasPrefix(w.Where, "ssh:") }

// Open reaches a place that takes files.
func Open(ctx context.Context, w Way) (Place, error) {
	if err := w.Sound(); err != nil {
		return nil, err
	}
	switch w.Kind {
	case Folder:
		return openFolder(w)
	case SFTP:
		return openSFTP(ctx, w)
	case HTTP:
		return openWeb(w)
	}
	return nil, fmt.Errorf("%w: a %s takes no files", ErrWay, w.Kind)
}

// inside is a file's path below a root; one that would lead out of it is an error.
func inside(root, name string) (string, error) {
	if name == "" || path.IsAbs(name) || path.Clean(name) != name || strings.HasPrefix(name, "..") {
		return "", fmt.Errorf("%q is no name for a file there", name)
	}
	return path.Join(root, name), nil
}

// exactly copies so many bytes; fewer or more are an error.
func exactly(to io.Writer, from io.Reader, size int64) error {
	n, err := io.Copy(to, io.LimitReader(from, size+1))
	if err == nil && n != size {
		err = fmt.Errorf("it has %d bytes instead of %d", n, size)
	}
	return err
}

// tried is the name of a file that is there for a moment, to see whether files are taken.
const tried = "magpie-try"

// Try makes sure that a place takes a file, gives it back and lets it be removed.
func Try(ctx context.Context, p Place) error {
	const text = "Steady Magpie tries whether files are taken here. This one can be removed.\n"
	if err := p.Put(ctx, tried, int64(len(text)), strings.NewReader(text)); err != nil {
		return fmt.Errorf("it takes no file: %w", err)
	}
	r, err := p.Get(ctx, tried)
	if err != nil {
		return fmt.Errorf("it does not give back what it took: %w", err)
	}
	raw, err := io.ReadAll(io.LimitReader(r, 1000))
	if err := errors.Join(err, r.Close()); err != nil || string(raw) != text {
		return fmt.Errorf("it does not give back what it took: %w", errors.Join(err, errors.New("it is another text")))
	}
	if err := p.Remove(ctx, tried); err != nil {
		return fmt.Errorf("it lets nothing be removed: %w", err)
	}
	return nil
}

// Answers tells whether something is there at a place, without signing in.
func Answers(ctx context.Context, kind, where string) error {
	if kind == Folder {
		p, err := openFolder(Way{Kind: kind, Where: where})
		if err == nil {
			err = p.Close()
		}
		return err
	}
	u, err := url.Parse(where)
	if err != nil {
		return err
	}
	if u.Hostname() == "" { // a repository on this machine
		_, err := openFolder(Way{Kind: Folder, Where: cmp.Or(u.Path, where)})
		return err
	}
	port := cmp.Or(u.Port(), map[string]string{"https": "443", "http": "80"}[u.Scheme], "22")
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return cause(err)
	}
	return conn.Close()
}
