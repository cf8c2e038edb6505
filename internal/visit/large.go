package visit

import (
	"bytes"
	"context"
	"errors"
	"hash"

	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

// settling follows a large content as it comes, for the text that stands for it.
type settling struct {
	doc *dialect.Doc
	sum hash.Hash // of the content without what changes by itself
	at  int64
}

func (s *Service) settling(doc *dialect.Doc) *settling {
	return &settling{doc: doc, sum: s.Store.Keys().Hasher("fingerprint")}
}

// Write takes more of it.
func (x *settling) Write(p []byte) (int, error) {
	x.sum.Write(x.doc.SettledBytes(bytes.Clone(p), x.at))
	x.at += int64(len(p))
	return len(p), nil
}

func (x *settling) standIn() string { return dialect.StandIn(x.at, x.sum.Sum(nil)) }

// large is an opaque part that came larger than is held in memory: it is kept in pieces as
// it comes.
type large struct {
	*store.Sink
	settling *settling
	sunk     store.Sunk
}

// Write takes more of it.
func (l *large) Write(p []byte) (int, error) {
	_, _ = l.settling.Write(p)
	return l.Sink.Write(p)
}

// fetch gets a part. What came in pieces is whole, and kept, but no version yet; its text is what
// stands for it.
func (s *Service) fetch(ctx context.Context, sess *link.Session, doc *dialect.Doc, part string) (link.Part, error) {
	p, err := sess.FetchLarge(part, func() link.Basin {
		return &large{Sink: s.Store.Sink(ctx), settling: s.settling(doc)}
	})
	if l, is := p.Basin.(*large); is && err == nil {
		p.Text = l.settling.standIn()
		l.sunk, err = l.Close()
	}
	return p, err
}

// TextOf is a kept content as a visit has what it fetched: as it is, or where it is too large to be
// held, what stands for it.
func (s *Service) TextOf(ctx context.Context, q *store.Q, doc *dialect.Doc, contentID string) (string, error) {
	raw, err := q.Content(ctx, contentID)
	if !errors.Is(err, store.ErrLarge) || !doc.Opaque() {
		return string(raw), err
	}
	x := s.settling(doc)
	err = q.ContentTo(ctx, contentID, x)
	return x.standIn(), err
}

// nowhere takes what is only looked at.
type nowhere struct{}

func (nowhere) Write(p []byte) (int, error) { return len(p), nil }
func (nowhere) Drop()                       {}
