package sim

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"

	"magpie/internal/sim/box"
)

// Post is a mail server on loopback (RFC 5321) that takes everything and keeps each mail as a
// file in a folder, so that a demo can be read as its people would read it.
type Post struct {
	Address string
	dir     string
	n       atomic.Int64
}

// OpenPost takes mail until ctx ends.
func OpenPost(ctx context.Context, dir string) (*Post, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Post{Address: l.Addr().String(), dir: dir}
	s := smtp.NewServer(p)
	s.Domain, s.MaxMessageBytes, s.MaxRecipients = "post.ferries.example", 16<<20, 100
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	context.AfterFunc(ctx, box.Serving(l, s))
	return p, nil
}

// NewSession begins a conversation.
func (p *Post) NewSession(*smtp.Conn) (smtp.Session, error) { return &letter{post: p}, nil }

// letter is a mail on its way in.
type letter struct {
	post *Post
	to   []string
}

func (l *letter) Mail(string, *smtp.MailOptions) error { return nil }

func (l *letter) Rcpt(to string, _ *smtp.RcptOptions) error {
	l.to = append(l.to, to)
	return nil
}

func (l *letter) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s_%03d.eml", time.Now().UTC().Format("20060102T150405Z"), l.post.n.Add(1))
	return os.WriteFile(filepath.Join(l.post.dir, name), raw, 0o600)
}

func (l *letter) Reset() { l.to = nil }

func (l *letter) Logout() error { return nil }
